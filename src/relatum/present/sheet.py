"""A grid as lines and columns of written cells: what every medium draws, whichever way it draws it."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from functools import cache
from typing import Any, Literal

import numpy as np
from babel.numbers import format_decimal
from msgspec import Struct
from msgspec.structs import replace

from relatum.data.arrow import python_values
from relatum.data.columns import Array, Column
from relatum.data.digits import is_number
from relatum.errors import RequestError
from relatum.pivot.result import BELOW, OTHERS, TOTAL, Axis, Result, Value
from relatum.pivot.turning import NO_MATCH
from relatum.present.looks import PLAIN_LOOK, LegendEntry, Look, Looks
from relatum.present.numbers import Writer, column_writer, member_writer
from relatum.wording import suggestion

Kind = Literal["member", "null", "no match", "others", "total", "below", "value"]
#: Before a member under which deeper fields are not shown, and before one under which they are, where some are not.
CLOSED, OPEN = "▸ ", "▾ "


# A grid has many of the records below, none of which leads back to itself: the collector of cycles passes them by.


class Label(Struct, frozen=True, gc=False):
    """One cell of a head: its text and its meaning; ``again`` says that the line before it has the same one.

    ``code`` is the member's, where it stands for one.
    """

    text: str
    kind: Kind
    again: bool = False
    look: Look = PLAIN_LOOK
    code: int = -1


class Cell(Struct, frozen=True, gc=False):
    """One value, written. ``there`` is False where the grid has no such cell, ``null`` says that it has no value.

    ``value`` is the value itself, ``number`` which of the request's values it is of.
    """

    text: str
    there: bool = True
    null: bool = False
    negative: bool = False
    look: Look = PLAIN_LOOK
    value: Any = None
    number: int = 0


NOTHING = Cell("", there=False)
#: What is instead of a grid without lines.
EMPTY = "Nothing to show: no member has a value."


class Line(Struct, frozen=True, gc=False):
    """A row or column: its labels, outermost first. ``member`` is the same for the values of one member."""

    labels: tuple[Label, ...]
    member: int

    @property
    def total(self) -> bool:
        """Whether it is a total over some field."""
        return any(label.kind == "total" for label in self.labels)


class Sheet(Struct, frozen=True):
    """A grid as written: what the row heads are headed by, the lines of each axis, and their cells.

    ``hidden_rows`` and ``hidden_columns`` are how many there are beside these. ``legend`` says what looks mean,
    ``writers`` write each of the request's values.
    """

    headings: tuple[str, ...]
    rows: tuple[Line, ...]
    columns: tuple[Line, ...]
    cells: tuple[tuple[Cell, ...], ...]
    hidden_rows: int = 0
    hidden_columns: int = 0
    legend: tuple[LegendEntry, ...] = ()
    writers: tuple[Writer, ...] = ()

    @property
    def depth(self) -> int:
        """How many lines of heads are above the columns."""
        return max((len(line.labels) for line in self.columns), default=0) or 1


class Heads:
    """The heads of a grid as written; its cells are written block by block, as far as they are asked for.

    Parameters
    ----------
    result : Result
        The answer to a request.
    most_rows, most_columns : int, optional
        How many members of each axis are written, the last one always among them; all unless given.
    """

    def __init__(self, result: Result, most_rows: int | None = None, most_columns: int | None = None) -> None:
        layout = result.layout()
        self.result = result
        self.writers = writers_of(result)
        self.looks = Looks(result, self.writers)
        self._cells = layout.cells
        self._rows, self._columns = _some(len(layout.rows), most_rows), _some(len(layout.columns), most_columns)
        self.hidden = (len(layout.rows) - len(self._rows), len(layout.columns) - len(self._columns))
        heads = list(_lines(result, 0, result.row_count, layout.rows, self._rows, self.looks))
        tops = list(_lines(result, result.row_count, len(result.axes), layout.columns, self._columns, self.looks))
        headings = [axis.label for axis in result.axes[: result.row_count]]
        named = len(result.values) > 1 or result.row_count == len(result.axes)
        values = [
            Label(headed(value, write), "value") for value, write in zip(result.values, self.writers, strict=True)
        ]
        self.on_rows = result.request.values_on == "rows" and (len(result.values) > 1 or not headings)
        if self.on_rows:
            headings.append("")
            heads = [
                replace(line, labels=(*_again(line.labels, at), label))
                for line in heads
                for at, label in enumerate(values)
            ]
        elif named:
            tops = [replace(line, labels=(*line.labels, label)) for line in tops for label in values]
        self.headings, self.rows, self.columns = tuple(headings), tuple(heads), tuple(tops)

    def cells(self, rows: Sequence[int], columns: Sequence[int]) -> tuple[tuple[Cell, ...], ...]:
        """The cells of some rows and columns, by their numbers among the heads."""
        count = len(self.result.values)
        by_row, by_column = (count, 1) if self.on_rows else (1, count)
        lines, tops = sorted({at // by_row for at in rows}), sorted({at // by_column for at in columns})
        line_at, top_at = ({each: at for at, each in enumerate(every)} for every in (lines, tops))
        texts = [self._written(number, lines, tops) for number in range(count)]
        return tuple(
            tuple(
                texts[row % by_row if self.on_rows else column % by_column][line_at[row // by_row]][
                    top_at[column // by_column]
                ]
                for column in columns
            )
            for row in rows
        )

    def _written(self, number: int, rows: Sequence[int], columns: Sequence[int]) -> list[tuple[Cell, ...]]:
        """The cells of one value: for each row those of each column."""
        column, write = self._column(number), self.writers[number]
        shown = self._cells[np.ix_([self._rows[at] for at in rows], [self._columns[at] for at in columns])]
        wanted = np.unique(shown)
        wanted = wanted[wanted >= 0]
        known = python_values(column.take(wanted))
        places = wanted.tolist()
        if self.looks.styled(number):
            cells = {
                at: _cell(each, write, number, self.looks.cell(number, at))
                for at, each in zip(places, known, strict=True)
            }
        else:
            cells = {at: _cell(each, write, number) for at, each in zip(places, known, strict=True)}
        return [tuple(cells.get(at, NOTHING) for at in line) for line in shown.tolist()]

    @functools.cache  # noqa: B019 - as long as the heads, which are few
    def _column(self, number: int) -> Column:
        return self.result.column_of(number)


def sheet_of(result: Result, most_rows: int | None = None, most_columns: int | None = None) -> Sheet:
    """A grid as written.

    Parameters
    ----------
    result : Result
        The answer to a request.
    most_rows, most_columns : int, optional
        How many members of each axis are written, the last one always among them; all unless given.
    """
    heads = Heads(result, most_rows, most_columns)
    cells = heads.cells(range(len(heads.rows)), range(len(heads.columns)))
    return Sheet(
        heads.headings, heads.rows, heads.columns, cells, *heads.hidden, tuple(heads.looks.legend), heads.writers
    )


def writers_of(result: Result) -> tuple[Writer, ...]:
    """How each value of a grid is written: all its cells, at every grain, in one unit."""
    return tuple(
        column_writer(result.column_of(number), value.type, value.format, result.locale, result.currency)
        for number, value in enumerate(result.values)
    )


def headed(value: Value, write: Writer) -> str:
    """What heads a value: its label, and the unit that its numbers are in."""
    return f"{value.heading} ({write.unit})" if write.unit else value.heading


def _again(labels: tuple[Label, ...], at: int) -> tuple[Label, ...]:
    return labels if at == 0 else tuple(replace(label, again=True) for label in labels)


def _some(count: int, most: int | None) -> list[int]:
    # The last line is mostly the grand total: it stays when lines are left out.
    return list(range(count)) if most is None or count <= most else [*range(most - 1), count - 1]


# -- heads ------------------------------------------------------------------------------------------------------------


def _lines(result: Result, start: int, stop: int, codes: Array, chosen: Sequence[int], looks: Looks) -> Iterator[Line]:
    axes = result.axes[start:stop]
    own_codes = codes[chosen]
    names = [_named(axis, own_codes[:, at], result.locale) for at, axis in enumerate(axes)]
    before: list[int] = []
    for number, own in zip(chosen, own_codes.tolist(), strict=True):
        same = next((at for at, (one, other) in enumerate(zip(own, before, strict=False)) if one != other), len(own))
        same = same if before else 0
        labels = []
        for at, code in enumerate(own):
            text, kind = names[at][code] if code != TOTAL else _total(axes, own, at)
            labels.append(Label(text, kind, at < same, looks.member(start + at, code), code))
        yield Line(tuple(labels), number)
        before = own


def _total(axes: Sequence[Axis], own: Sequence[int], at: int) -> tuple[str, Kind]:
    outer = any(other == TOTAL and axes[number].attribute is None for number, other in enumerate(own[:at]))
    return "" if outer or axes[at].attribute is not None else "total", "total"


def _named(axis: Axis, codes: Array, locale: str) -> dict[int, tuple[str, Kind]]:
    """What the codes of a field are called in a head, with their open or closed signs, and what each is."""
    found: dict[int, tuple[str, Kind]] = {BELOW: ("", "below"), OTHERS: ("others", "others")}
    for code, name in code_names(axis, codes, locale).items():
        kind: Kind = "null" if code == axis.members.null else "no match" if code == axis.members.no_match else "member"
        mark = "" if axis.opened is None or code >= len(axis.opened) else OPEN if axis.opened[code] else CLOSED
        found[code] = mark + name, kind
    return found


def code_names(axis: Axis, codes: Array, locale: str) -> dict[int, str]:
    """What the members, null and no match among some codes are called."""
    write: Callable[[Any], str] = member_writer(axis.format, axis.period, locale)
    if axis.banded:
        write = functools.partial(band_text, locale=locale)
    names = {code: write(value) for code, value in axis.member_values(codes).items()}
    return {**names, axis.members.null: "(null)", axis.members.no_match: "(no match)"}


_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


@cache
def band_text(text: str, locale: str) -> str:
    """A band with its edges written as a locale writes numbers."""
    return _NUMBER.sub(lambda found: format_decimal(Decimal(found[0]), "#,##0.##################", locale), text)


def member_called(result: Result, text: str) -> Any:
    """The member of a closed field that is shown with this text, as it is named from Python.

    Raises
    ------
    RequestError
        No closed field shows it.
    """
    known: dict[str, Any] = {}
    for axis in result.axes:
        if axis.opened is None:
            continue
        every = np.arange(axis.members.size)
        values = {**axis.member_values(every), axis.members.null: None, axis.members.no_match: NO_MATCH}
        for code, name in code_names(axis, every, result.locale).items():
            known.setdefault(name, values[code])
    if text not in known:
        fix = suggestion(text, known, noun="member") if known else "Close a field: --depth 1, or closed after it."
        raise RequestError(f"{text} is not a member of a closed field.", fix=fix)
    return known[text]


# -- cells ------------------------------------------------------------------------------------------------------------


def _cell(value: Any, write: Writer, number: int, look: Look = PLAIN_LOOK) -> Cell:
    if value is None:
        return Cell(write.blank, null=True, look=look, number=number)
    negative = is_number(value) and value < 0
    return Cell(write(value), negative=negative, look=look, value=value, number=number)


# -- nested -----------------------------------------------------------------------------------------------------------


class NestedLine(Struct, frozen=True, gc=False):
    """A row of a sheet whose heads are in one column, deeper ones further in; ``cells`` are None for a heading.

    ``row`` is the number of the sheet's row, None for a heading.
    """

    text: str
    depth: int
    kind: Kind
    total: bool
    cells: tuple[Cell, ...] | None = None
    look: Look = PLAIN_LOOK
    code: int = -1
    row: int | None = None


def nested(sheet: Sheet, attributes: Sequence[bool]) -> tuple[NestedLine, ...]:
    """The rows of a sheet with their heads in one column: a member comes above its deeper members, with its total.

    Parameters
    ----------
    sheet : Sheet
        The grid.
    attributes : sequence of bool
        Which row heads are determined by one before: they are beside it.
    """
    lines = nested_heads(sheet.rows, attributes)
    return tuple(line if line.row is None else replace(line, cells=sheet.cells[line.row]) for line in lines)


def nested_heads(rows: Sequence[Line], attributes: Sequence[bool]) -> tuple[NestedLine, ...]:
    """As :func:`nested`, without cells."""
    lines: list[NestedLine] = []
    places: dict[tuple[tuple[str, int], ...], int] = {}
    for number, line in enumerate(rows):
        path = _path(line.labels, attributes)
        # Members that are written the same way are two.
        keys = tuple((label.text, label.code) for label in path)
        for depth in range(1, len(path)):
            if keys[:depth] not in places:
                outer = path[depth - 1]
                places[keys[:depth]] = len(lines)
                lines.append(_nested(outer, depth - 1, outer.kind == "total", None))
        own = path[-1]
        if keys in places and lines[places[keys]].row is None:
            lines[places[keys]] = replace(lines[places[keys]], row=number)
        else:
            places[keys] = len(lines)
            lines.append(_nested(own, len(path) - 1, line.total and len(path) == 1, number))
    return tuple(lines)


def _nested(label: Label, depth: int, total: bool, row: int | None) -> NestedLine:
    return NestedLine(label.text, depth, label.kind, total, look=label.look, code=label.code, row=row)


def nested_paths(lines: Sequence[NestedLine]) -> list[tuple[int, ...]]:
    """The members that contain each line, from the outermost to its own; labels of values do not count."""
    stack: list[tuple[int, ...]] = [()]
    found = []
    for line in lines:
        outer = stack[min(line.depth, len(stack) - 1)]
        own = outer if line.kind in ("value", "total") else (*outer, line.code)
        del stack[line.depth + 1 :]
        stack.append(own)
        found.append(own)
    return found


def column_path(line: Line, axes: Sequence[Axis]) -> tuple[int, ...]:
    """The members that contain a column, from the outermost to its own."""
    return tuple(
        label.code
        for label, axis in zip(line.labels, axes, strict=False)
        if axis.attribute is None and label.kind not in ("total", "below")
    )


def unmarked(text: str) -> str:
    """A member without its open or closed sign."""
    return text.removeprefix(CLOSED).removeprefix(OPEN)


def _path(labels: Sequence[Label], attributes: Sequence[bool]) -> list[Label]:
    """The heads of a line from the outermost to its own; a total's own head is the member that is totalled."""
    path: list[Label] = []
    for number, label in enumerate(labels):
        attribute = number < len(attributes) and attributes[number]
        if attribute and path and label.text and label.kind not in ("total", "below"):
            path[-1] = replace(path[-1], text=f"{path[-1].text} · {label.text}")
        elif label.kind == "value" or (label.kind not in ("total", "below") and not attribute):
            path.append(label)
    return path if path and path[0].kind != "value" else [Label("total", "total"), *path]
