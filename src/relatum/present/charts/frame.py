"""A grid as a chart sees it: marks by category and series, totals left out."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data.digits import is_number
from relatum.data.types import Kind
from relatum.errors import RequestError
from relatum.pivot.result import Axis, Result
from relatum.present.numbers import Writer
from relatum.present.paint import Paint, paint, series
from relatum.present.pictures import drawable
from relatum.present.sheet import CLOSED, OPEN, Cell, Label, Line, headed, sheet_of

#: Columns of a calendar in which time goes on.
_PERIODS = frozenset(
    ("date", "week", "month", "quarter", "year", "fiscal_year", "fiscal_quarter", "month_of_year", "quarter_of_year")
)


class Category(Struct, frozen=True):
    """One place along a chart: its labels, outermost first."""

    labels: tuple[str, ...]
    codes: tuple[int, ...]

    @property
    def name(self) -> str:
        """Its innermost label."""
        return self.labels[-1] if self.labels else ""

    @property
    def outer(self) -> str:
        """The outer members, as one text."""
        return " / ".join(self.labels[:-1])


class Series(Struct, frozen=True, eq=False):
    """The marks of one colour: a number for each category (NaN for none), and the cells as written.

    ``member`` is what it is of, empty where there are no columns; its name says the value too, where there are several.
    """

    name: str
    member: str
    value: int
    numbers: NDArray[np.float64]
    cells: tuple[Cell, ...]
    paint: Paint


class Frame(Struct, frozen=True, eq=False):
    """What a chart draws. ``fields`` are the headings of the categories' fields, ``time`` whether the innermost is.

    ``period`` is the calendar's column that the innermost field is, empty for none. ``paints`` are the colours that the
    model gives the members of the innermost field: one for each category, or none at all.
    """

    result: Result
    writers: tuple[Writer, ...]
    fields: tuple[str, ...]
    categories: tuple[Category, ...]
    series: tuple[Series, ...]
    series_field: str
    time: bool
    series_time: bool
    period: str = ""
    paints: tuple[Paint | None, ...] = ()

    @property
    def marks(self) -> int:
        """How many marks there are."""
        return sum(int(np.isfinite(each.numbers).sum()) for each in self.series)

    def of_value(self, number: int) -> tuple[Series, ...]:
        """The series of one of the request's values."""
        return tuple(each for each in self.series if each.value == number)

    def heading(self, number: int) -> str:
        """What heads a value, with its unit."""
        return drawable(headed(self.result.values[number], self.writers[number]))

    def value_number(self, label: str) -> int:
        """The number of a value by its label."""
        labels = [each.label for each in self.result.values]
        if label not in labels:
            raise RequestError(f"Unknown value {label}.", fix=f"Values in this grid: {', '.join(labels)}.")
        return labels.index(label)


#: The most cells that are considered: no chart with anything like this many marks can be read.
_MOST_CELLS = 25_000


def frame_of(result: Result, *, swapped: bool = False) -> Frame:
    """A grid as marks.

    Parameters
    ----------
    result : Result
        The grid.
    swapped : bool
        Take columns for categories, and rows for series.

    Raises
    ------
    RequestError
        No value is a number, or there are neither rows nor columns.
    """
    plain = replace(result, request=replace(result.request, values_on="columns"))
    layout = plain.layout()
    asked = len(layout.rows) * max(len(layout.columns), 1)
    if asked > _MOST_CELLS:
        raise RequestError(
            f"The grid has {asked:,} cells; a chart can show at most {_MOST_CELLS:,}.",
            fix="Show fewer: top 20 with others after the field, or a condition.",
        )
    sheet = sheet_of(plain)
    numeric = [number for number, value in enumerate(result.values) if value.type.numeric]
    if not numeric:
        raise RequestError("No value in the grid is a number, so there is nothing to draw.")
    if not result.axes:
        raise RequestError(
            "A chart needs members to compare, but the grid has only one cell.", fix="Ask for rows or columns."
        )
    count = result.row_count
    rows = [at for at, line in enumerate(sheet.rows) if not line.total]
    tops = [at for at, line in enumerate(sheet.columns) if not line.total]
    axes = (result.axes[:count], result.axes[count:])
    depth = len(axes[1])
    grid = [[sheet.cells[row][top] for top in tops] for row in rows]
    heads = [_category(sheet.rows[row], axes[0]) for row in rows]
    columns = [sheet.columns[top] for top in tops]
    per = len(result.values)
    members = [_category(line, axes[1], depth) for line in columns[::per]]
    if swapped:
        categories, others, fields, owners = members, heads, axes[1], axes[0]
        cells = {(at, other, number): grid[other][at * per + number]
                 for at in range(len(members)) for other in range(len(heads)) for number in numeric}  # fmt: skip
    else:
        categories, others, fields, owners = heads, members, axes[0], axes[1]
        cells = {(at, other, number): grid[at][other * per + number]
                 for at in range(len(heads)) for other in range(len(members)) for number in numeric}  # fmt: skip
    paints = _paints(result, others, owners)
    found = []
    for other, head in enumerate(others):
        for number in numeric:
            own = tuple(cells[at, other, number] for at in range(len(categories)))
            name = " / ".join(head.labels)
            value = drawable(result.values[number].heading)
            title = f"{name}, {value}" if name and len(numeric) > 1 else name or value
            by_value = not head.labels or (len(others) == 1 and len(numeric) > 1)
            colour = series(result.theme, numeric.index(number)) if by_value else paints[other]
            found.append(Series(title, name, number, np.array([_number(cell) for cell in own]), own, colour))
    return Frame(
        result=result,
        writers=sheet.writers,
        fields=tuple(drawable(axis.label) for axis in fields if axis.attribute is None),
        categories=tuple(categories),
        series=tuple(found),
        series_field=drawable(" / ".join(axis.label for axis in owners if axis.attribute is None)),
        time=bool(fields) and is_time(fields[-1]),
        series_time=bool(owners) and is_time(owners[-1]),
        period=fields[-1].period if fields else "",
        paints=_own_paints(result, categories, fields),
    )


def of_values(frame: Frame, values: Sequence[int]) -> Frame:
    """The marks of some values alone; those of one are called by their members."""
    own = tuple(each for each in frame.series if each.value in values)
    if len(values) == 1:
        own = tuple(replace(each, name=each.member or each.name) for each in own)
    return replace(frame, series=own)


def _category(line: Line, axes: Sequence[Axis], depth: int | None = None) -> Category:
    labels: list[str] = []
    codes: list[int] = []
    for label, axis in zip(line.labels[:depth], axes, strict=False):
        text = _marked(label)
        if axis.attribute is not None and labels:
            labels[-1] = f"{labels[-1]} · {text}" if text else labels[-1]
        elif label.kind != "below":
            labels.append(text)
            codes.append(label.code)
    return Category(tuple(labels), tuple(codes))


def _marked(label: Label) -> str:
    text = label.text.lstrip(CLOSED + OPEN)
    # A longer name would leave no room for the plot.
    return drawable(label.look.marked(text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"))


_LONGEST = 60


def _number(cell: Cell) -> float:
    number = float(cell.value) if is_number(cell.value) else math.nan
    if math.isfinite(number) and abs(number) > _LARGEST:
        raise RequestError(
            f"A value of {number:g} is too large to draw.", fix="Draw it in a larger unit, or draw its logarithm."
        )
    return number


#: Beyond this, floats cannot hold the distances between numbers on a scale.
_LARGEST = 1e150


def is_time(axis: Axis) -> bool:
    """Whether the members of a field are times that go on."""
    return axis.period in _PERIODS or axis.members.values.type.kind in (Kind.DATE, Kind.TIMESTAMP)


#: Along an axis, periods are named at these intervals, which people are used to.
_STEPS = {
    "month": (1, 2, 3, 6, 12, 24, 36, 60, 120, 240),
    "quarter": (1, 2, 4, 8, 12, 20, 40, 80),
    "week": (1, 2, 4, 13, 26, 52, 104, 260),
    "date": (1, 2, 7, 14, 28, 91, 182, 364, 728),
}


def steps_of(period: str) -> tuple[int, ...]:
    """The steps at which the members of a calendar's column are named where not all can be."""
    kind = period.removeprefix("fiscal_")
    return _STEPS.get(kind, (1, 2, 5, 10, 20, 25, 50, 100, 200, 500, 1000))


def _member_paint(result: Result, axis: Axis, code: int, name: str) -> Paint | None:
    """The colour that the model gives a member, or none."""
    values = axis.member_values(np.array([code])) if code >= 0 else {}
    for text in (name, str(values.get(code, ""))):
        if text and text in axis.colours:
            return paint(axis.colours[text], result.theme)
    return None


def _own_paints(result: Result, categories: Sequence[Category], axes: Sequence[Axis]) -> tuple[Paint | None, ...]:
    named = [axis for axis in axes if axis.attribute is None]
    if not named or not named[-1].colours:
        return ()
    return tuple(
        _member_paint(result, named[-1], each.codes[-1] if each.codes else -1, each.name) for each in categories
    )


def _paints(result: Result, members: Sequence[Category], axes: Sequence[Axis]) -> list[Paint]:
    if not axes or not members or not members[0].labels:
        return []
    axis = [each for each in axes if each.attribute is None][-1]
    return member_paints(result, axis, [(each.codes[-1] if each.codes else -1, each.name) for each in members])


def member_paints(result: Result, axis: Axis, members: Sequence[tuple[int, str]]) -> list[Paint]:
    """A colour for each of some members, by code and name: its own, else by its place in its column, so that it stays.

    Members of one place after another take the next colour that is free.
    """
    found: list[Paint] = []
    for code, name in members:
        own = _member_paint(result, axis, code, name)
        place = int(axis.rank[code]) if 0 <= code < len(axis.rank) else len(found)
        shifted = (series(result.theme, place + step) for step in range(8))
        found.append(own or next((each for each in shifted if each not in found), series(result.theme, place)))
    return found
