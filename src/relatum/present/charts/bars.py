"""Bars: side by side, stacked, to 100 %, in order with their cumulative share, and as steps of a change."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from relatum.data.types import FLOAT
from relatum.model.colours import text_on
from relatum.model.looks import Format
from relatum.present.charts.canvas import Canvas
from relatum.present.charts.frame import Frame, Series, steps_of
from relatum.present.charts.options import mark_texts
from relatum.present.numbers import formatter
from relatum.present.paint import mixed

#: Longer labels, or more members, ask for horizontal bars.
LONG, MANY = 10, 12
#: Negative bars are hatched: their colour alone does not tell them.
NEGATIVE = "////"
_MOST_LABELS = 60


def lying(frame: Frame) -> bool:
    """Whether bars lie, so that their labels can be read."""
    if frame.time:
        return False
    names = [each.name for each in frame.categories]
    return max(map(len, names), default=0) > LONG or len(names) > MANY


def draw_bars(made: Canvas, mode: str) -> Any:
    """Bars of every series: ``bars`` side by side, ``stacked``, or ``shares`` to 100 %; the plot that they are on."""
    frame = made.frame
    flat = lying(frame)
    plot = made.axes(grid="x" if flat else "y")
    count = len(frame.series)
    places = places_of(made)
    numbers = np.array([each.numbers for each in frame.series])
    if mode == "shares":
        sums = np.nansum(np.abs(numbers), axis=0)
        numbers = numbers / np.where(sums > 0, sums, np.nan)
    thick = 0.8 / count if mode == "bars" else 0.72
    low, high = np.zeros(len(places)), np.zeros(len(places))
    drawn = []
    shown = made.options.labels != "none" and frame.marks <= _MOST_LABELS
    for number, one in enumerate(frame.series):
        own = numbers[number]
        filled = np.nan_to_num(own)
        at = places + (number - (count - 1) / 2) * thick if mode == "bars" else places
        start = np.zeros(len(places)) if mode == "bars" else np.where(filled < 0, low, high)
        colours = _fills(made, one, count)
        bars = _bar(plot=plot, flat=flat, at=at, lengths=filled, thick=thick * 0.94, start=start, colours=colours)
        for bar, value in zip(bars, own, strict=True):
            if value < 0:
                bar.set(hatch=NEGATIVE, edgecolor=made.colours.page, linewidth=0)
        if mode != "bars":
            low, high = low + np.minimum(filled, 0), high + np.maximum(filled, 0)
        drawn.append((bars, one, own, colours))
        if count > 1 and not made.options.colour:
            made.key(one.paint.of(made.options.mode), one.name)
    if shown or made.options.labels not in ("", "none"):
        for bars, one, own, colours in drawn:
            _label(
                made=made, plot=plot, flat=flat, bars=bars, one=one, numbers=own, colours=colours, inside=mode != "bars"
            )
    if (numbers < 0).any():
        made.key(made.colours.page, "negative", NEGATIVE)
    _targets(made, plot, flat, places, thick * count if mode == "bars" else thick)
    _finish(made, plot, flat, mode)
    return plot


def draw_second(made: Canvas, plot: Any, flat: bool, one: Series) -> None:
    """Another value over the same categories, on its own axis: a line over time, otherwise a mark for each."""
    frame = made.frame
    other = plot.twiny() if flat else plot.twinx()
    made.dress(other)
    colour = mixed(made.colours.accent, made.colours.text, 0.75)
    places = places_of(made)
    pair = (one.numbers, places) if flat else (places, one.numbers)
    other.plot(*pair, color=colour, marker="D", markersize=5, linewidth=1.6, linestyle="-" if frame.time else "",
               markeredgecolor=made.colours.page)  # fmt: skip
    low, high = ends_of(one.numbers)
    edge = (high - low or abs(high) or 1.0) * 0.12
    (other.set_xlim if flat else other.set_ylim)(0.0 if 0 <= low < high * 0.6 else low - edge, high + edge)
    heading = made.whole.heading(one.value)
    made.number_axis(other.xaxis if flat else other.yaxis, made.whole.writers[one.value], heading)
    first = frame.series[0]
    if len(frame.series) == 1:
        made.key(first.paint.of(made.options.mode), frame.heading(first.value))
    made.key(
        colour, f"{heading}, on the {'upper' if flat else 'right'} axis", marker="D", dash="-" if frame.time else ""
    )


def places_of(made: Canvas) -> Any:
    """Where each category is; those of different outer members are a little apart."""
    places, at, before = [], 0.0, None
    for category in made.frame.categories:
        if before is not None and category.outer != before:
            at += 0.6
        places.append(at)
        before, at = category.outer, at + 1
    return np.array(places)


def _bar(plot: Any, flat: bool, at: Any, lengths: Any, thick: float, start: Any, colours: Sequence[str]) -> Any:
    if flat:
        return plot.barh(at, lengths, thick, left=start, color=colours, linewidth=0)
    return plot.bar(at, lengths, thick, bottom=start, color=colours, linewidth=0)


def _fills(made: Canvas, one: Series, count: int) -> list[str]:
    """The colour of each bar: by another value, by the look of its cell, by its member, or that of the series."""
    frame, mode = made.frame, made.options.mode
    usual = one.paint.of(mode)
    if made.options.colour:
        return _shades(made, one)
    members = frame.paints if count == 1 and frame.paints else [None] * len(frame.categories)
    found = []
    for own, cell in zip(members, one.cells, strict=True):
        look = cell.look.fill or cell.look.colour
        chosen = look or own
        found.append(chosen.of(mode) if chosen is not None else usual)
    return found


def _shades(made: Canvas, one: Series) -> list[str]:
    """Colours from low to high by the numbers of another value, with their legend."""
    frame = made.frame
    number = frame.value_number(made.options.colour)
    beside = beside_of(made, one, number)
    return shades_of(made, beside)


def shades_of(made: Canvas, beside: Series) -> list[str]:
    """A colour for each number of a value, from its lowest to its highest, explained in the legend."""
    low, high = ends_of(beside.numbers)
    ends = mixed(made.colours.low, "#a06a00", 0.45), mixed(made.colours.high, "#00484b", 0.45)
    span = (high - low) or 1.0
    write = made.whole.writers[beside.value]
    for part in (0.0, 0.5, 1.0):
        text = write.near(low + span * part)
        made.key(mixed(*ends, part), text if part else f"{made.whole.heading(beside.value)} {text}")
    return [
        made.colours.line if math.isnan(each) else mixed(*ends, (each - low) / span) for each in beside.numbers.tolist()
    ]


def ends_of(numbers: Any) -> tuple[float, float]:
    """The least and the greatest of some numbers; 0 and 1 if there are none."""
    known = numbers[np.isfinite(numbers)]
    return (float(known.min()), float(known.max())) if len(known) else (0.0, 1.0)


def beside_of(made: Canvas, one: Series, number: int) -> Series:
    """The series of another value that belongs to one."""
    every = made.all_series
    own = [each for each in every if each.value == number]
    return next((each for each in own if each.member == one.member), own[0])


def _label(
    made: Canvas, plot: Any, flat: bool, bars: Any, one: Series, numbers: Any, colours: Sequence[str], inside: bool
) -> None:
    texts = mark_texts(made.whole, one, made.options.labels)
    beyond = _targets_of(made, one)
    room_across = _inches(made, plot, bars[0].get_width()) * 1.3 if not flat else math.inf
    if not inside and not made.options.labels and max(map(len, texts)) * made.size * 0.0082 > room_across:
        return
    for at, (bar, text, number, colour) in enumerate(zip(bars, texts, numbers, colours, strict=True)):
        if not text or math.isnan(number):
            continue
        if inside:
            x, y = bar.get_x() + bar.get_width() / 2, bar.get_y() + bar.get_height() / 2
            label = plot.text(x, y, text, ha="center", va="center", color=text_on(colour), fontsize=made.size * 0.85)
            made.placed.append(functools.partial(_left_out_unless_inside, label, bar))
            continue
        edge = bar.get_x() + bar.get_width() if flat else bar.get_y() + bar.get_height()
        edge = max(edge, beyond[at]) if number >= 0 else edge
        away = 3 if number >= 0 else -3
        place = (edge, bar.get_y() + bar.get_height() / 2) if flat else (bar.get_x() + bar.get_width() / 2, edge)
        plot.annotate(
            text, place, xytext=(away, 0) if flat else (0, away), textcoords="offset points",
            ha=("left" if away > 0 else "right") if flat else "center",
            va="center" if flat else "bottom" if away > 0 else "top",
            color=made.colours.text, fontsize=made.size * 0.85,
        )  # fmt: skip


def _left_out_unless_inside(label: Any, bar: Any, renderer: Any) -> None:
    """Leave out the label of a part of a bar that is too short for it."""
    own, room = label.get_window_extent(renderer), bar.get_window_extent(renderer)
    if own.width > room.width or own.height > room.height + 1:
        label.remove()


def _inches(made: Canvas, plot: Any, width: float) -> float:
    """How wide a stretch of the axis along a chart is drawn."""
    places = places_of(made)
    span = places[-1] - places[0] + 1.2
    return float(width / span * (made.figure.get_size_inches()[0] - 1.2))


def _targets_of(made: Canvas, one: Series) -> list[float]:
    """The targets of a series; below every number where there is none."""
    if not made.options.target:
        return [-math.inf] * len(one.cells)
    beside = beside_of(made, one, made.whole.value_number(made.options.target))
    return [float(each) for each in np.nan_to_num(beside.numbers)]


def _targets(made: Canvas, plot: Any, flat: bool, places: Any, thick: float) -> None:
    """A target as a line across each bar."""
    if not made.options.target:
        return
    number = made.whole.value_number(made.options.target)
    found = [each for each in made.all_series if each.value == number]
    for at, one in enumerate(found):
        part = thick / len(found)
        middle = places + (at - (len(found) - 1) / 2) * part
        known = np.isfinite(one.numbers)
        draw = plot.vlines if flat else plot.hlines
        draw(one.numbers[known], (middle - part * 0.46)[known], (middle + part * 0.46)[known],
             color=made.colours.text, linewidth=2.2)  # fmt: skip
    made.key(made.colours.text, f"target: {made.whole.heading(number)}")


def _finish(made: Canvas, plot: Any, flat: bool, mode: str) -> None:
    frame = made.frame
    places = places_of(made)
    names = [each.name for each in frame.categories]
    write = frame.writers[frame.series[0].value]
    axis, other = (plot.yaxis, plot.xaxis) if flat else (plot.xaxis, plot.yaxis)
    axis.set_ticks(places, names)
    (plot.set_ylim if flat else plot.set_xlim)(places[0] - 0.6, places[-1] + 0.6)
    if flat:
        plot.invert_yaxis()
    heading = frame.heading(frame.series[0].value)
    if mode == "shares":
        write = formatter(FLOAT, Format(pattern="0%"), [1.0], frame.result.locale, frame.result.currency)
        heading = frame.heading(frame.series[0].value)
        heading = (
            heading
            if frame.result.values[frame.series[0].value].format.pattern.endswith("%")
            else f"share of {heading}"
        )
    made.number_axis(other, write, heading)
    zero = plot.axvline if flat else plot.axhline
    zero(0, color=made.colours.text, linewidth=0.8)
    outer_labels(made, plot, flat, places)
    thinned(plot, axis, flat, names, made)
    (plot.margins)(**{"x" if flat else "y": 0.0 if mode == "shares" else 0.12})


def outer_labels(made: Canvas, plot: Any, flat: bool, places: Any) -> None:
    """The second level of a nested axis: each outer member once, beside all members inside it."""
    categories = made.frame.categories
    if not any(each.outer for each in categories):
        return
    start = 0
    widest = max(len(each.name) for each in categories)
    for at in range(1, len(categories) + 1):
        if at < len(categories) and categories[at].outer == categories[start].outer:
            continue
        middle = (places[start] + places[at - 1]) / 2
        outer = categories[start].outer
        away = made.size * (0.62 * widest + 1.4) if flat else made.size * 2.0
        if flat:
            plot.annotate(outer, (0, middle), xycoords=("axes fraction", "data"), xytext=(-away, 0),
                          textcoords="offset points", ha="right", va="center", fontsize=made.size, fontweight="bold",
                          color=made.colours.text, annotation_clip=False)  # fmt: skip
        else:
            plot.annotate(outer, (middle, 0), xycoords=("data", "axes fraction"), xytext=(0, -away),
                          textcoords="offset points", ha="center", va="top", fontsize=made.size, fontweight="bold",
                          color=made.colours.text, annotation_clip=False)  # fmt: skip
        if at < len(categories):
            line = (places[at - 1] + places[at]) / 2
            (plot.axhline if flat else plot.axvline)(line, color=made.colours.line, linewidth=0.8)
        start = at


def thinned(plot: Any, axis: Any, flat: bool, names: Sequence[str], made: Canvas) -> None:
    """Leave out labels of time that would cover each other."""
    if flat or not names:
        return
    width = made.figure.get_size_inches()[0] - 1.2
    room = int(width / (max(map(len, names)) * made.size * 0.0095 + 0.08)) or 1
    least = -(-len(names) // room)
    step = next((each for each in steps_of(made.frame.period) if each >= least), least)
    for at, label in enumerate(axis.get_ticklabels()):
        label.set_visible(at % step == 0)


# -- in order, with what they add up to -------------------------------------------------------------------------------


def draw_ranked(made: Canvas, whole: float | None) -> None:
    """Bars from the largest on, and the share that they and all before them have of the whole, where there is one."""
    frame = made.frame
    plot = made.axes(grid="y")
    one = frame.series[0]
    filled = np.nan_to_num(one.numbers)
    order = np.argsort(-filled, kind="stable")
    colours = _fills(made, one, len(frame.series))
    bars = plot.bar(np.arange(len(order)), filled[order], 0.8, color=[colours[at] for at in order], linewidth=0)
    texts = mark_texts(made.whole, one, made.options.labels)
    names = [frame.categories[at].name for at in order]
    turned = max(map(len, names)) > 6 and len(names) > 8
    plot.set_xticks(np.arange(len(order)), names, rotation=60 if turned else 0, ha="right" if turned else "center",
                    rotation_mode="anchor" if turned else None)  # fmt: skip
    made.number_axis(plot.yaxis, frame.writers[one.value], frame.heading(one.value))
    for bar, at in zip(bars, order, strict=True):
        if filled[at] < 0:
            bar.set(hatch=NEGATIVE, edgecolor=made.colours.page)
        if len(order) <= 16 and texts[at]:
            plot.annotate(texts[at], (bar.get_x() + bar.get_width() / 2, max(filled[at], 0)), xytext=(0, 2),
                          textcoords="offset points", ha="center", va="bottom", fontsize=made.size * 0.8,
                          color=made.colours.text)  # fmt: skip
    made.key(colours[0], frame.heading(one.value))
    if whole is not None:
        _shares(made, plot, filled[order] / whole, colours[0])
    plot.margins(y=0.1)
    plot.axhline(0, color=made.colours.text, linewidth=0.8)


def _shares(made: Canvas, plot: Any, shares: Any, beside: str) -> None:
    """A line of cumulative shares of a whole, on its own axis."""
    frame = made.frame
    right = plot.twinx()
    made.dress(right)
    added = np.cumsum(shares)
    line = made.colours.accent if made.colours.accent != beside else made.colours.text
    line = mixed(line, made.colours.text, 0.6)
    right.plot(np.arange(len(added)), added, color=line, marker="o", markersize=3.5, linewidth=1.4)
    right.set_ylim(min(0.0, float(added.min())) * 1.08, max(1.0, float(added.max())) * 1.08)
    percent = formatter(FLOAT, Format(pattern="0%"), [1.0], frame.result.locale, frame.result.currency)
    made.number_axis(right.yaxis, percent, "cumulative share of the total")
    made.key(line, "cumulative share of the total")


# -- steps of a change ------------------------------------------------------------------------------------------------


def draw_steps(made: Canvas, names: Sequence[str], numbers: Sequence[float], texts: Sequence[str]) -> None:
    """A change from one total to another, in steps that add up: the first and the last number are the totals.

    The sign and the hatching show up and down, not the colour alone.
    """
    long = max(map(len, names)) > LONG or len(names) > 8
    plot = made.axes(grid="x" if long else "y")
    last = len(names) - 1
    starts, level = [], 0.0
    for at, number in enumerate(numbers):
        starts.append(0.0 if at in (0, last) else level)
        level = number if at == 0 else level + number
    up, down, total = made.colours.good, made.colours.bad, made.colours.accent
    colours = [total if at in (0, last) else up if number >= 0 else down for at, number in enumerate(numbers)]
    bars = _bar(
        plot=plot, flat=long, at=np.arange(len(names)), lengths=numbers, thick=0.66, start=starts, colours=colours
    )
    ends = np.array(starts) + np.array(numbers)
    for at, bar in enumerate(bars):
        if at not in (0, last) and numbers[at] < 0:
            bar.set(hatch=NEGATIVE, edgecolor=made.colours.page, linewidth=0)
        edge = max(starts[at], ends[at])
        place = (edge, at) if long else (at, edge)
        plot.annotate(texts[at], place, xytext=(4, 0) if long else (0, 3), textcoords="offset points",
                      ha="left" if long else "center", va="center" if long else "bottom", fontsize=made.size * 0.9,
                      color=made.colours.text)  # fmt: skip
        if at < last:
            reach = numbers[0] if at == 0 else ends[at]
            pair = ([reach, reach], [at + 0.33, at + 0.67]) if long else ([at + 0.33, at + 0.67], [reach, reach])
            plot.plot(*pair, color=made.colours.line, linewidth=1)
    (plot.set_yticks if long else plot.set_xticks)(np.arange(len(names)), names)
    if long:
        plot.invert_yaxis()
    edges = np.concatenate([ends, np.array(starts)[1:-1]])
    low, high = float(edges.min()), float(edges.max())
    inner = np.concatenate([ends[:-1], [numbers[-1]]])
    floor = float(inner.min())
    # Small steps between large totals would not be seen: the axis starts above zero, and a note says so.
    if low > 0 and floor - (high - floor) * 0.6 > 0 and (high - floor) < high * 0.35:
        cut = floor - (high - floor) * 0.6
        (plot.set_xlim if long else plot.set_ylim)(cut, high + (high - cut) * 0.14)
        made.notes.append("the axis does not start at zero, so the bars of the totals are shortened")
    else:
        (plot.set_xlim if long else plot.set_ylim)(min(low, 0) * 1.1, max(high, 0) + (high - min(low, 0)) * 0.14)
    frame = made.frame
    made.number_axis(plot.xaxis if long else plot.yaxis, frame.writers[frame.series[0].value],
                     frame.heading(frame.series[0].value))  # fmt: skip
    made.key(total, "total")
    made.key(up, "up")
    if any(number < 0 for number in numbers[1:-1]):
        made.key(down, "down", NEGATIVE)
