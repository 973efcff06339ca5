"""From a grid to a figure."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, assert_never

from matplotlib.figure import Figure
from msgspec import Struct
from msgspec.structs import replace

from relatum.errors import RequestError
from relatum.pivot.result import Result
from relatum.present.charts.bars import draw_bars, draw_ranked, draw_second, draw_steps, lying
from relatum.present.charts.canvas import Canvas, canvas
from relatum.present.charts.choose import Choice, Kind, choose, refuse_crowd
from relatum.present.charts.frame import Frame, frame_of, of_values
from relatum.present.charts.lines import draw_heat, draw_lines, draw_panels, draw_points, draw_table
from relatum.present.charts.options import ChartOptions, check_options, template_values
from relatum.present.pictures import drawable

_WIDE, _HIGH = 9.2, 5.2
_NOTHING, _WHY = "The grid has no number to draw.", "Print the grid to see its notes."


class Total(Struct, frozen=True):
    """The total of a value, and whether the members of the rows add up to it."""

    number: float | None
    adds_up: bool


class Asker(Protocol):
    """What a chart may ask beside its grid."""

    def steps(self) -> Steps:
        """The steps of the grid's change."""
        ...

    def total(self, value: int) -> Total:
        """The total of a value, by its number, as the grid would show it."""
        ...


class Steps(Struct, frozen=True):
    """A change in steps: what each is called, how much, and how that is written; the ends are totals."""

    names: tuple[str, ...]
    numbers: tuple[float, ...]
    texts: tuple[str, ...]


def draw(
    result: Result, kind: Kind | None, options: ChartOptions, asker: Asker
) -> tuple[Figure, Choice, tuple[str, ...]]:
    """A grid as a figure, with the choice of its kind and the notes about it.

    Parameters
    ----------
    result : Result
        The grid.
    kind : str, optional
        Which chart; chosen by sense unless given.
    options : ChartOptions
        What else is said.
    asker : Asker
        Finds what the grid itself does not hold, where it is drawn.

    Raises
    ------
    RequestError
        There are too many marks, or the grid has not what the chart needs.
    """
    choice = choose(result) if kind is None else _stated(result, kind)
    whole = frame_of(result, swapped=choice.swapped)
    check_options(options, whole)
    frame = _drawn(whole, options, choice.kind)
    if not frame.marks:
        raise RequestError(_NOTHING, fix=_WHY)
    refuse_crowd(choice.kind, frame)
    found = asker.steps() if choice.kind == "steps" else None
    if found is not None:
        found = replace(found, names=tuple(map(drawable, found.names)))
    beside = _beside(whole, frame, options, choice.kind)
    with canvas(frame, whole, options, _size(frame, choice.kind, found), _texts(whole)) as made:
        second = beside[0] if beside and choice.kind in _TAKES_SECOND and not whole.series_field else None
        missing = [whole.heading(number) for number in beside if number != second]
        if missing:
            made.notes.append(f"not drawn: {', '.join(missing)}")
        if second is not None:
            made.values = list(dict.fromkeys([*(each.value for each in frame.series), second]))
        _draw(made, choice.kind, found, asker, second)
    return made.figure, choice, tuple(made.notes)


def _stated(result: Result, kind: Kind) -> Choice:
    frame = frame_of(result)
    along = kind in ("lines", "areas", "panels", "table")
    swapped = along and frame.series_time and not frame.time
    return Choice(kind, swapped, "as asked")


def _drawn(whole: Frame, options: ChartOptions, kind: Kind) -> Frame:
    """The marks that are drawn themselves: those of one value, or of all that are written the same way."""
    values = list(dict.fromkeys(each.value for each in whole.series))
    if not values:
        raise RequestError(_NOTHING, fix=_WHY)
    first = whole.value_number(options.value) if options.value else values[0]
    if not whole.of_value(first):
        raise RequestError(f"The value {options.value} is not a number, so it cannot be drawn.")
    apart = {whole.value_number(label) for label in (options.colour, options.target) if label}
    alike = [
        each
        for each in values
        if each == first
        or (
            not options.value
            and not whole.series_field
            and each not in apart
            and "{" not in options.labels
            and _unit(whole, each) == _unit(whole, first)
        )
    ]
    if kind == "points":
        if len(values) < 2:
            raise RequestError("points needs two values, one for each axis.", fix="Ask for two values.")
        alike = [first]
    if kind == "ranked":
        alike = [first]
        if len(whole.of_value(first)) > 1:
            raise RequestError("ranked shows one value by rows only.", fix="Leave out the columns.")
    return of_values(whole, alike)


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


def _unit(frame: Frame, number: int) -> tuple[str, str, str]:
    value = frame.result.values[number]
    return value.format.pattern, value.format.scale, value.format.duration


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


def _whole(made: Canvas, asker: Asker) -> float | None:
    """The total that ranked bars are shares of; None, with a note, where there are no shares of it."""
    number = made.frame.series[0].value
    total = asker.total(number)
    heading = made.frame.heading(number)
    if not total.adds_up:
        made.notes.append(f"{heading} does not add up over members, so shares of the total are not drawn")
    elif total.number is None or total.number <= 0:
        made.notes.append(f"the total of {heading} is not above zero, so shares of it are not drawn")
    else:
        return total.number
    return None


def _draw(made: Canvas, kind: Kind, steps: Steps | None, asker: Asker, second: int | None) -> None:
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
            draw_ranked(made, _whole(made, asker))
        case "table":
            draw_table(made)
        case "steps":
            assert steps is not None, "the steps of a change are found before they are drawn"
            draw_steps(made, steps.names, steps.numbers, steps.texts)
        case _:
            assert_never(kind)
