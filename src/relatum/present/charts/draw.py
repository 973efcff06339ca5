"""From what a chart shows to a figure."""

from __future__ import annotations

from collections.abc import Sequence
from typing import assert_never

from matplotlib.figure import Figure

from relatum.present.charts.bars import draw_bars, draw_ranked, draw_second, draw_steps, lying
from relatum.present.charts.canvas import Canvas, canvas
from relatum.present.charts.choose import Kind
from relatum.present.charts.frame import Frame
from relatum.present.charts.lines import draw_heat, draw_lines, draw_panels, draw_points, draw_table
from relatum.present.charts.options import ChartOptions, template_values
from relatum.present.charts.plan import Drawing, Steps, Total
from relatum.present.pictures import drawable

_WIDE, _HIGH = 9.2, 5.2


def draw(drawing: Drawing) -> tuple[Figure, tuple[str, ...]]:
    """A chart as a figure, with the notes about it."""
    whole, frame, options, kind = drawing.whole, drawing.frame, drawing.options, drawing.choice.kind
    beside = _beside(whole, frame, options, kind)
    with canvas(frame, whole, options, _size(frame, kind, drawing.steps), _texts(whole)) as made:
        second = beside[0] if beside and kind in _TAKES_SECOND and not whole.series_field else None
        missing = [whole.heading(number) for number in beside if number != second]
        if missing:
            made.notes.append(f"not drawn: {', '.join(missing)}")
        if second is not None:
            made.values = list(dict.fromkeys([*(each.value for each in frame.series), second]))
        _draw(made, drawing, second)
    return made.figure, tuple(made.notes)


#: Charts on which a second value can be drawn, on its own axis.
_TAKES_SECOND: tuple[Kind, ...] = ("bars", "stacked", "lines", "areas")


def _beside(whole: Frame, frame: Frame, options: ChartOptions, kind: Kind) -> list[int]:
    """The values that the marks of a chart leave out when no value was chosen."""
    if options.value:
        return []
    shown = {each.value for each in frame.series}
    shown |= {
        whole.value_number(label) for label in (options.colour, options.target, *template_values(options)) if label
    }
    values = dict.fromkeys(each.value for each in whole.series)
    if kind == "points":
        shown |= set(list(values)[:2])
    return [each for each in values if each not in shown]


def _texts(frame: Frame) -> Sequence[str]:
    texts = [label for each in frame.categories for label in each.labels]
    texts += [each.name for each in frame.series] + [cell.text for each in frame.series for cell in each.cells[:50]]
    return [*texts, *frame.fields, drawable(frame.result.where), *(frame.heading(each.value) for each in frame.series)]


def _size(frame: Frame, kind: Kind, steps: Steps | None) -> tuple[float, float]:
    """A size in inches that leaves room for every label."""
    rows, columns = len(frame.categories), len(frame.series)
    match kind:
        case "heat":
            return min(max(_WIDE, 2.4 + columns * 0.75), 22), min(max(2.4, 1.6 + rows * 0.3), 22)
        case "table":
            return _WIDE, min(1.3 + columns * 0.34, 26)
        case "panels":
            return _WIDE + 1.5, min(1.2 + -(-columns // 4) * 1.7, 22)
        case "bars":
            return (
                (_WIDE, min(max(3.0, 1.5 + rows * max(0.26, 0.16 * columns)), 24)) if lying(frame) else (_WIDE, _HIGH)
            )
        case "stacked" | "shares":
            return (_WIDE, min(max(3.0, 1.6 + rows * 0.32), 24)) if lying(frame) else (_WIDE, _HIGH)
        case "steps":
            many = steps is not None and (len(steps.names) > 8 or max(map(len, steps.names)) > 10)
            return (_WIDE, max(3.2, 1.5 + 0.32 * len(steps.names))) if many and steps is not None else (_WIDE, _HIGH)
        case "lines" | "areas" | "points" | "ranked":
            return _WIDE, _HIGH
        case _:
            assert_never(kind)


def _whole(made: Canvas, total: Total) -> float | None:
    """The total that ranked bars are shares of; None, with a note, where there are no shares of it."""
    heading = made.frame.heading(made.frame.series[0].value)
    if not total.adds_up:
        made.notes.append(f"{heading} does not add up over members, so shares of the total are not drawn")
    elif total.number is None or total.number <= 0:
        made.notes.append(f"the total of {heading} is not above zero, so shares of it are not drawn")
    else:
        return total.number
    return None


def _draw(made: Canvas, drawing: Drawing, second: int | None) -> None:
    kind, steps = drawing.choice.kind, drawing.steps
    match kind:
        case "bars" | "stacked" | "shares":
            plot = draw_bars(made, kind)
            if second is not None:
                draw_second(made, plot, lying(made.frame), made.whole.of_value(second)[0])
        case "lines" | "areas":
            plot = draw_lines(made, kind)
            if second is not None:
                draw_second(made, plot, False, made.whole.of_value(second)[0])
        case "points":
            draw_points(made)
        case "heat":
            draw_heat(made)
        case "panels":
            draw_panels(made)
        case "ranked":
            assert drawing.total is not None, "the total of ranked bars is found before they are drawn"
            draw_ranked(made, _whole(made, drawing.total))
        case "table":
            draw_table(made)
        case "steps":
            assert steps is not None, "the steps of a change are found before they are drawn"
            draw_steps(made, steps.names, steps.numbers, steps.texts)
        case _:
            assert_never(kind)
