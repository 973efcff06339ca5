"""What a chart of a grid will show: its kind, its marks, and what it asks beside the grid. Nothing is drawn here."""

from __future__ import annotations

from typing import Protocol

from msgspec import Struct
from msgspec.structs import replace

from relatum.errors import RequestError
from relatum.pivot.result import Result
from relatum.present.charts.choose import Choice, Kind, choose, refuse_crowd
from relatum.present.charts.frame import Frame, frame_of, of_values
from relatum.present.charts.options import ChartOptions, check_options
from relatum.present.pictures import drawable

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


class Drawing(Struct, frozen=True, eq=False):
    """A chart that can be drawn, here or in another process: it holds no data beside its marks.

    ``whole`` are the marks of every value, ``frame`` those that are drawn themselves; ``steps`` and ``total`` are what
    charts of steps and ranked bars need.
    """

    whole: Frame
    frame: Frame
    choice: Choice
    options: ChartOptions
    steps: Steps | None
    total: Total | None


def drawing_of(result: Result, kind: Kind | None, options: ChartOptions, asker: Asker) -> Drawing:
    """What a chart of a grid will show.

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
    whole = replace(whole, result=replace(result, axes=(), cells=()))
    frame = _drawn(whole, options, choice.kind)
    if not frame.marks:
        raise RequestError(_NOTHING, fix=_WHY)
    refuse_crowd(choice.kind, frame)
    steps = asker.steps() if choice.kind == "steps" else None
    if steps is not None:
        steps = replace(steps, names=tuple(map(drawable, steps.names)))
    total = asker.total(frame.series[0].value) if choice.kind == "ranked" else None
    return Drawing(whole, frame, choice, options, steps, total)


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


def _unit(frame: Frame, number: int) -> tuple[str, str, str]:
    value = frame.result.values[number]
    return value.format.pattern, value.format.scale, value.format.duration
