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
from relatum.data.columns import Array
from relatum.data.digits import is_number
from relatum.errors import RequestError
from relatum.pivot.result import BELOW, OTHERS, TOTAL, Axis, Layout, Result, Value
from relatum.pivot.turning import NO_MATCH
from relatum.present.looks import PLAIN_LOOK, Look, Looks, Told
from relatum.present.numbers import Writer, column_writer, member_writer
from relatum.wording import suggestion

Kind = Literal["member", "null", "no match", "others", "total", "below", "value"]
#: Before a member under which deeper fields are not shown, and before one under which they are, where some are not.
CLOSED, OPEN = "▸ ", "▾ "


class Label(Struct, frozen=True):
    """One cell of a head: its text and its meaning; ``again`` says that the line before it has the same one.

    ``code`` is the member's, where it stands for one.
    """

    text: str
    kind: Kind
    again: bool = False
    look: Look = PLAIN_LOOK
    code: int = -1


class Cell(Struct, frozen=True):
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


class Line(Struct, frozen=True):
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
    legend: tuple[Told, ...] = ()
    writers: tuple[Writer, ...] = ()

    @property
    def depth(self) -> int:
        """How many lines of heads are above the columns."""
        return max((len(line.labels) for line in self.columns), default=0) or 1


def sheet_of(result: Result, most_rows: int | None = None, most_columns: int | None = None) -> Sheet:
    """A grid as written.

    Parameters
    ----------
    result : Result
        The answer to a request.
    most_rows, most_columns : int, optional
        How many members of each axis are written, the last one always among them; all unless given.
    """
    layout = result.layout()
    rows, columns = _some(len(layout.rows), most_rows), _some(len(layout.columns), most_columns)
    writers = writers_of(result)
    looks = Looks(result, writers)
    heads = list(_lines(result, 0, result.row_count, layout.rows, rows, looks))
    tops = list(_lines(result, result.row_count, len(result.axes), layout.columns, columns, looks))
    texts = [
        _written(
            result=result, layout=layout, number=number, rows=rows, columns=columns, write=writers[number], looks=looks
        )
        for number in range(len(result.values))
    ]
    headings = [axis.label for axis in result.axes[: result.row_count]]
    hidden = (len(layout.rows) - len(rows), len(layout.columns) - len(columns))
    named = len(result.values) > 1 or result.row_count == len(result.axes)
    values = [Label(headed(value, write), "value") for value, write in zip(result.values, writers, strict=True)]
    if result.request.values_on == "rows" and (len(result.values) > 1 or not headings):
        lines = [
            replace(line, labels=(*_again(line.labels, at), label)) for line in heads for at, label in enumerate(values)
        ]
        cells = tuple(text[at] for at in range(len(heads)) for text in texts)
        return Sheet((*headings, ""), tuple(lines), tuple(tops), cells, *hidden, tuple(looks.legend), writers)
    if named:
        tops = [replace(line, labels=(*line.labels, label)) for line in tops for label in values]
    cells = tuple(
        tuple(text[at][column] for column in range(len(columns)) for text in texts) for at in range(len(heads))
    )
    return Sheet(tuple(headings), tuple(heads), tuple(tops), cells, *hidden, tuple(looks.legend), writers)


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


def _lines(result: Result, start: int, stop: int, codes: Array, chosen: list[int], looks: Looks) -> Iterator[Line]:
    axes = result.axes[start:stop]
    names = [code_names(axis, codes[chosen, at], result.locale) for at, axis in enumerate(axes)]
    before: list[int] = []
    for number in chosen:
        own = codes[number].tolist()
        same = next((at for at, (one, other) in enumerate(zip(own, before, strict=False)) if one != other), len(own))
        same = same if before else 0
        labels = (_label(axes, names, own, at) for at in range(len(axes)))
        yield Line(
            tuple(
                replace(label, again=at < same, look=looks.member(start + at, own[at]), code=own[at])
                for at, label in enumerate(labels)
            ),
            number,
        )
        before = own


def _label(axes: Sequence[Axis], names: Sequence[dict[int, str]], own: Sequence[int], at: int) -> Label:
    axis, code = axes[at], own[at]
    if code == TOTAL:
        outer = any(other == TOTAL and axes[number].attribute is None for number, other in enumerate(own[:at]))
        return Label("" if outer or axis.attribute is not None else "total", "total")
    if code in (BELOW, OTHERS):
        return Label("others", "others") if code == OTHERS else Label("", "below")
    kind: Kind = "null" if code == axis.members.null else "no match" if code == axis.members.no_match else "member"
    mark = ""
    if axis.opened is not None:
        mark = OPEN if axis.opened[code] else CLOSED
    return Label(mark + names[at][code], kind)


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


def _written(
    result: Result, layout: Layout, number: int, rows: list[int], columns: list[int], write: Writer, looks: Looks
) -> list[tuple[Cell, ...]]:
    """The cells of one value: for each row those of each column."""
    column = result.column_of(number)
    shown = layout.cells[np.ix_(rows, columns)]
    wanted = np.unique(shown)
    wanted = wanted[wanted >= 0]
    known = python_values(column.take(wanted))
    places = wanted.tolist()
    if looks.styled(number):
        cells = {at: _cell(each, write, number, looks.cell(number, at)) for at, each in zip(places, known, strict=True)}
    else:
        cells = {at: _cell(each, write, number) for at, each in zip(places, known, strict=True)}
    return [tuple(cells.get(at, NOTHING) for at in line) for line in shown.tolist()]


def _cell(value: Any, write: Writer, number: int, look: Look = PLAIN_LOOK) -> Cell:
    if value is None:
        return Cell(write.blank, null=True, look=look, number=number)
    negative = is_number(value) and value < 0
    return Cell(write(value), negative=negative, look=look, value=value, number=number)


# -- nested -----------------------------------------------------------------------------------------------------------


class NestedLine(Struct, frozen=True):
    """A row of a sheet whose heads are in one column, deeper ones further in; ``cells`` are None for a heading."""

    text: str
    depth: int
    kind: Kind
    total: bool
    cells: tuple[Cell, ...] | None
    look: Look = PLAIN_LOOK
    code: int = -1


def nested(sheet: Sheet, attributes: Sequence[bool]) -> tuple[NestedLine, ...]:
    """The rows of a sheet with their heads in one column: a member comes above its deeper members, with its total.

    Parameters
    ----------
    sheet : Sheet
        The grid.
    attributes : sequence of bool
        Which row heads are determined by one before: they are beside it.
    """
    lines: list[NestedLine] = []
    places: dict[tuple[tuple[str, int], ...], int] = {}
    for line, cells in zip(sheet.rows, sheet.cells, strict=True):
        path = _path(line.labels, attributes)
        # Members that are written the same way are two.
        keys = tuple((label.text, label.code) for label in path)
        for depth in range(1, len(path)):
            if keys[:depth] not in places:
                outer = path[depth - 1]
                places[keys[:depth]] = len(lines)
                lines.append(
                    NestedLine(
                        text=outer.text,
                        depth=depth - 1,
                        kind=outer.kind,
                        total=outer.kind == "total",
                        cells=None,
                        look=outer.look,
                        code=outer.code,
                    )
                )
        own = path[-1]
        if keys in places and lines[places[keys]].cells is None:
            lines[places[keys]] = replace(lines[places[keys]], cells=cells)
        else:
            places[keys] = len(lines)
            total = line.total and len(path) == 1
            lines.append(
                NestedLine(
                    text=own.text,
                    depth=len(path) - 1,
                    kind=own.kind,
                    total=total,
                    cells=cells,
                    look=own.look,
                    code=own.code,
                )
            )
    return tuple(lines)


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
