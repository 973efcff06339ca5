"""Lines, areas, points of two measures, small multiples, and a table with a small line in each row."""

from __future__ import annotations

import functools
import itertools
import math
from typing import Any

import numpy as np
from matplotlib.patches import Rectangle
from matplotlib.text import Text
from matplotlib.transforms import Bbox

from relatum.model.colours import text_on
from relatum.present.charts.bars import beside_of, outer_labels, shades_of, thinned
from relatum.present.charts.canvas import Canvas
from relatum.present.charts.options import mark_texts
from relatum.present.paint import mixed

#: Series differ by the form of their marks and lines too, not by colour alone.
_MARKS, _DASHES = "osD^vPX*", ["-", (0, (5, 1.5)), (0, (1.5, 1.2)), (0, (6, 1.5, 1.5, 1.5))]
_FEW_MARKS = 40


def _form(at: int) -> tuple[str, Any]:
    """The mark and the dash of a series: one of the same colour as an earlier one has another mark, or another dash."""
    round_ = at // len(_MARKS)
    return _MARKS[(at + round_) % len(_MARKS)], _DASHES[round_ % len(_DASHES)]


def draw_lines(made: Canvas, mode: str) -> Any:
    """A line for each series along the categories, or ``areas`` on top of each other; the plot that they are on."""
    frame = made.frame
    plot = made.axes(grid="y")
    places = np.arange(len(frame.categories))
    if mode == "areas":
        numbers = np.array([np.nan_to_num(each.numbers) for each in frame.series])
        if (numbers < 0).any():
            made.notes.append("negative values are drawn below the areas before them")
        base = np.zeros(len(places))
        for one, own in zip(frame.series, numbers, strict=True):
            colour = one.paint.of(made.options.mode)
            plot.fill_between(places, base, base + own, color=colour, alpha=0.9, linewidth=0.6,
                              edgecolor=made.colours.page)  # fmt: skip
            base = base + own
            made.key(colour, one.name)
    else:
        for at, one in enumerate(frame.series):
            few = len(places) <= _FEW_MARKS
            mark, dash = _form(at)
            plot.plot(places, one.numbers, color=one.paint.of(made.options.mode), linewidth=1.8, linestyle=dash,
                      marker=mark if few or np.isfinite(one.numbers).sum() == 1 else "", markersize=4)  # fmt: skip
        _names_at_ends(made, plot, places)
        if np.nanmin([np.nanmin(each.numbers) for each in frame.series if np.isfinite(each.numbers).any()]) < 0:
            plot.axhline(0, color=made.colours.text, linewidth=0.8)
        _labels(made, plot, places)
    _along(made, plot, places)
    low, high = plot.get_ylim()
    if mode == "areas" or (low > 0 and low < high * 0.6):
        plot.set_ylim(min(low, 0), high)
    return plot


def _names_at_ends(made: Canvas, plot: Any, places: Any) -> None:
    """Each line's name at its end where the names have room, else in the legend."""
    frame = made.frame
    if len(frame.series) == 1:
        return
    ends = []
    for one in frame.series:
        known = np.flatnonzero(np.isfinite(one.numbers))
        if len(known):
            ends.append((float(one.numbers[known[-1]]), int(known[-1]), one))
    span = np.ptp([end[0] for end in ends]) if len(ends) > 1 else 0.0
    every = [float(number) for one in frame.series for number in one.numbers[np.isfinite(one.numbers)]]
    need = (max(every) - min(min(every), 0.0)) * made.size / 200
    ordered = sorted(end[0] for end in ends)
    apart = all(other - one > need for one, other in itertools.pairwise(ordered)) and span > 0
    if not apart or any(at != len(places) - 1 for _, at, _ in ends):
        for _, _, one in ends:
            mark, dash = _form(frame.series.index(one))
            marker = mark if len(places) <= _FEW_MARKS else "_"
            made.key(one.paint.of(made.options.mode), one.name, marker=marker, dash=dash)
        return
    for number, at, one in ends:
        plot.annotate(one.name, (at, number), xytext=(7, 0), textcoords="offset points", va="center",
                      color=made.colours.text, fontsize=made.size * 0.95, annotation_clip=False)  # fmt: skip


def _labels(made: Canvas, plot: Any, places: Any) -> None:
    frame = made.frame
    marks = frame.marks
    if made.options.labels == "none" or (not made.options.labels and (marks > 16 or len(frame.series) > 1)):
        return
    for one in frame.series:
        for at, (text, number) in enumerate(zip(mark_texts(made.whole, one, made.options.labels), one.numbers.tolist(),
                                                strict=True)):  # fmt: skip
            if text and not math.isnan(number):
                plot.annotate(text, (at, number), xytext=(0, 5), textcoords="offset points", ha="center",
                              fontsize=made.size * 0.85, color=made.colours.text,
                              bbox={"facecolor": made.colours.page, "edgecolor": "none", "pad": 0.6, "alpha": 0.85},
                              )  # fmt: skip


#: Of more places along an axis than this some are looked at: few of them have room for their names.
_MOST_TICKS = 500


def _along(made: Canvas, plot: Any, places: Any) -> None:
    frame = made.frame
    names = [each.name for each in frame.categories]
    step = 1 + len(places) // _MOST_TICKS
    plot.xaxis.set_ticks(places[::step], names[::step])
    plot.set_xlim(-0.3 - len(places) * 0.01, len(places) - 0.7 + len(places) * 0.01)
    made.number_axis(plot.yaxis, frame.writers[frame.series[0].value], frame.heading(frame.series[0].value))
    thinned(plot, plot.xaxis, False, names[::step], made)
    outer_labels(made, plot, False, places)


def draw_points(made: Canvas) -> None:
    """One point for each category: the first value along, the second up; a third one colours it."""
    whole = made.whole
    plot = made.axes(grid="both")
    numbers = list(dict.fromkeys(each.value for each in whole.series))
    made.values = numbers[:2]
    across, up = (whole.of_value(number) for number in numbers[:2])
    for one, other in zip(across, up, strict=True):
        if not np.isfinite(one.numbers + other.numbers).any():
            continue
        colour: Any = one.paint.of(made.options.mode)
        if made.options.colour:
            colour = shades_of(made, beside_of(made, one, whole.value_number(made.options.colour)))
        plot.scatter(one.numbers, other.numbers, s=34, c=colour, edgecolors=made.colours.page, linewidths=0.6)
        if len(across) > 1:
            made.key(one.paint.of(made.options.mode), one.member or one.name)
        if len(whole.categories) <= 30 and made.options.labels != "none":
            made.placed.append(functools.partial(_name_points, made, plot, one.numbers, other.numbers))
    made.number_axis(plot.xaxis, whole.writers[numbers[0]], whole.heading(numbers[0]))
    made.number_axis(plot.yaxis, whole.writers[numbers[1]], whole.heading(numbers[1]))
    plot.margins(0.08)


#: Where the name of a point may be, in points away from it; those further off get a line to it.
_PLACES = [
    (6, 0), (-6, 0), (0, 7), (0, -7), (6, 7), (-6, 7), (6, -7), (-6, -7), (14, 14), (-14, 14), (14, -14), (-14, -14),
    (24, 22), (-24, 22), (24, -22), (-24, -22), (0, 30), (0, -30), (38, 34), (-38, 34), (38, -34), (-38, -34),
    (60, 50), (-60, 50), (60, -50), (-60, -50), (0, 70), (0, -70),
]  # fmt: skip
_NEAR = 8


def _name_points(made: Canvas, plot: Any, across: Any, up: Any, renderer: Any) -> None:
    """Names beside points, each where it covers no other name and no point."""
    known = np.isfinite(across + up)
    points = plot.transData.transform(np.column_stack([across[known], up[known]]))
    taken = [Bbox.from_bounds(x - 4, y - 4, 8, 8) for x, y in points]
    edge = made.figure.bbox
    names = [category.name for category, there in zip(made.whole.categories, known, strict=True) if there]
    for name, x, y in zip(names, across[known].tolist(), up[known].tolist(), strict=True):
        for dx, dy in _PLACES:
            line = {"arrowstyle": "-", "color": made.colours.line, "linewidth": 0.7, "shrinkB": 3}
            label = plot.annotate(
                name, (x, y), xytext=(dx, dy), textcoords="offset points", fontsize=made.size * 0.8,
                color=made.colours.text, ha="left" if dx > 0 else "right" if dx < 0 else "center",
                va="bottom" if dy > 0 else "top" if dy < 0 else "center",
                arrowprops=line if max(abs(dx), abs(dy)) > _NEAR else None,
            )  # fmt: skip
            label.update_positions(renderer)
            own = Text.get_window_extent(label, renderer)
            inside = edge.x0 <= own.x0 and own.x1 <= edge.x1 and edge.y0 <= own.y0 and own.y1 <= edge.y1
            if inside and not own.count_overlaps(taken):
                taken.append(own)
                break
            label.remove()
        else:
            made.notes.append(f"there is no room for the name {name}")


def draw_heat(made: Canvas) -> None:
    """A field of colours: categories down, series across, each cell with its text where there is room."""
    frame = made.frame
    plot = made.axes()
    numbers = np.array([each.numbers for each in frame.series]).T
    low, high = (float(each(numbers)) for each in (np.nanmin, np.nanmax))
    span = (high - low) or 1.0
    both = low < 0 < high
    low_end, middle, high_end = made.colours.low, made.colours.middle, made.colours.high
    strong = mixed(made.colours.high, made.colours.accent, 0.5)
    reach = max(abs(low), abs(high))

    def colour(number: float) -> str:
        if both:
            part = (number + reach) / (2 * reach)
            return mixed(low_end, middle, part * 2) if part < 0.5 else mixed(middle, high_end, part * 2 - 1)
        return mixed(made.colours.page, strong, 0.06 + 0.94 * (number - low) / span)

    rows, columns = numbers.shape
    width, height = made.figure.get_size_inches()
    longest = max((len(cell.text) for one in frame.series for cell in one.cells), default=1)
    room = (width - 2.2) / max(columns, 1)
    shown = longest * made.size * 0.0092 < room and (height - 1.2) / max(rows, 1) > made.size * 0.016
    for column, one in enumerate(frame.series):
        texts = mark_texts(made.whole, one, made.options.labels)
        for row in range(rows):
            number = numbers[row, column]
            if math.isnan(number):
                continue
            fill = colour(number)
            plot.add_patch(_square(column, row, fill, made.colours.page))
            if shown and texts[row]:
                plot.text(column, row, texts[row], ha="center", va="center", fontsize=made.size * 0.85,
                          color=text_on(fill))  # fmt: skip
    plot.set_xlim(-0.5, columns - 0.5)
    plot.set_ylim(rows - 0.5, -0.5)
    names = [each.name for each in frame.series]
    turned = max(map(len, names)) * made.size * 0.0095 > room
    plot.set_xticks(range(columns), names, rotation=45 if turned else 0, ha="left" if turned else "center")
    plot.xaxis.tick_top()
    plot.set_yticks(range(rows), [each.name for each in frame.categories])
    outer_labels(made, plot, True, np.arange(rows))
    write = frame.writers[frame.series[0].value]
    for value in (-reach, 0.0, reach) if both else (low, low + span / 2, high):
        made.key(colour(value), write.near(value))


def _square(column: int, row: int, fill: str, edge: str) -> Rectangle:
    return Rectangle((column - 0.5, row - 0.5), 1, 1, facecolor=fill, edgecolor=edge, linewidth=1)


#: How much of a picture's width panels have, points in an inch, and the width of a letter as a part of its height.
_PART_OF_WIDTH, _POINTS, _SIGN = 0.78, 72, 0.55


def draw_panels(made: Canvas) -> None:
    """A small chart for each series, all in one scale; the rest stand faint behind it."""
    frame = made.frame
    count = len(frame.series)
    columns = min(4, math.ceil(math.sqrt(count)))
    rows = math.ceil(count / columns)
    places = np.arange(len(frame.categories))
    every = np.concatenate([each.numbers for each in frame.series])
    low, high = min(float(np.nanmin(every)), 0.0), float(np.nanmax(every))
    room = int(made.figure.get_size_inches()[0] * _PART_OF_WIDTH * _POINTS / columns / (made.size * _SIGN))
    first: Any = None
    for at, one in enumerate(frame.series):
        plot = made.figure.add_subplot(rows, columns, at + 1, sharex=first, sharey=first)
        first = first or plot
        made.dress(plot, grid="y")
        for other in frame.series:
            plot.plot(places, other.numbers, color=made.colours.line, linewidth=0.6)
        plot.plot(places, one.numbers, color=one.paint.of(made.options.mode), linewidth=2)
        plot.set_title(_shortened(one.name, room), loc="left", fontsize=made.size, color=made.colours.text, pad=3)
        plot.set_ylim(low, high * 1.05)
        made.number_axis(plot.yaxis, frame.writers[one.value], "")
        names = [each.name for each in frame.categories]
        ends = [0, len(places) - 1] if len(places) > 2 else list(range(len(places)))
        plot.set_xticks(ends, [names[each] for each in ends])
        labels: list[Any] = plot.get_xticklabels()
        for label, side in zip(labels, ("left", "right"), strict=False):
            label.set_horizontalalignment(side)
        plot.tick_params(labelleft=at % columns == 0, labelbottom=at + columns >= count)
    made.figure.subplots_adjust(hspace=0.45, wspace=0.12)


def _shortened(name: str, room: int) -> str:
    """A name cut to a number of letters: outer members go first, since the innermost is what the panel is of."""
    _, joint, inner = name.partition(" / ")
    while len(name) > room and joint:
        name = f"… {inner}"
        _, joint, inner = inner.partition(" / ")
    return name if len(name) <= room else f"{name[: max(room - 1, 1)]}…"


def draw_table(made: Canvas) -> None:
    """A table with a small line in each row: what it is, how it went, the first, the last, the lowest, the highest."""
    frame = made.frame
    plot = made.axes()
    plot.set_axis_off()
    count = len(frame.series)
    names = [each.name for each in frame.series]
    longest = max(map(len, names))
    left = min(0.12 + longest * made.size * 0.0095 / made.figure.get_size_inches()[0], 0.45)
    plot.set_xlim(0, 1)
    plot.set_ylim(count - 0.4, -1.4)
    heads = [(left + 0.02, "left", f"{frame.categories[0].name} to {frame.categories[-1].name}")]
    columns = (("lowest", np.nanargmin), ("highest", np.nanargmax), ("last", None))
    step = 0.115
    rights = [1 - (len(columns) - 1 - at) * step for at in range(len(columns))]
    heads += [(right, "right", name) for right, (name, _) in zip(rights, columns, strict=True)]
    for x, side, text in heads:
        plot.text(x, -0.95, text, ha=side, va="center", fontsize=made.size, color=made.colours.faint)
    stop = rights[0] - step - 0.01
    for row, one in enumerate(frame.series):
        plot.axhline(row + 0.5, color=made.colours.line, linewidth=0.4)
        plot.text(0, row, one.name, va="center", fontsize=made.size, color=made.colours.text)
        known = np.flatnonzero(np.isfinite(one.numbers))
        if not len(known):
            continue
        own = one.numbers[known]
        low, span = float(own.min()), float(np.ptp(own)) or 1.0
        x = left + 0.02 + (stop - left - 0.02) * known / max(len(frame.categories) - 1, 1)
        y = row + 0.34 - 0.68 * (own - low) / span
        colour = one.paint.of(made.options.mode)
        plot.plot(x, y, color=colour, linewidth=1.3)
        plot.plot(x[-1:], y[-1:], "o", color=colour, markersize=4)
        for right, (_, pick) in zip(rights, columns, strict=True):
            at = known[-1] if pick is None else int(pick(one.numbers))
            plot.text(right, row, one.cells[at].text, ha="right", va="center", fontsize=made.size,
                      color=made.colours.text)  # fmt: skip
    made.notes.append("each line has its own scale, from its lowest to its highest value")
