"""A grid as lines and columns of written cells: what every medium draws, whichever way it draws it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from functools import cache
from typing import Any, Literal

import numpy as np
from babel.numbers import format_decimal

from relatum.data.arrow import python_values
from relatum.data.columns import Array
from relatum.errors import RequestError
from relatum.pivot.result import BELOW, OTHERS, TOTAL, Axis, Layout, Result
from relatum.pivot.turning import NO_MATCH
from relatum.present.numbers import BLANK, formatter, member_text
from relatum.wording import suggestion

Kind = Literal["member", "null", "no match", "others", "total", "below", "value"]
#: Before a member under which deeper fields are not shown, and before one under which they are, where some are not.
CLOSED, OPEN = "▸ ", "▾ "


@dataclass(frozen=True, slots=True)
class Label:
    """One cell of a head: its text and what it stands for; ``again`` says that the line before it has the same."""

    text: str
    kind: Kind
    again: bool = False


@dataclass(frozen=True, slots=True)
class Cell:
    """One value, written. ``there`` is False where the grid has no such cell, ``null`` says that it has no value."""

    text: str
    there: bool = True
    null: bool = False
    negative: bool = False


NOTHING = Cell("", there=False)


@dataclass(frozen=True, slots=True)
class Line:
    """A row or column: its labels, outermost first. ``member`` is the same for the values of one member."""

    labels: tuple[Label, ...]
    member: int

    @property
    def total(self) -> bool:
        """Whether it is a total over some field."""
        return any(label.kind == "total" for label in self.labels)


@dataclass(frozen=True, slots=True)
class Sheet:
    """A grid as written: what the row heads are headed by, the lines of each axis, and their cells.

    ``hidden_rows`` and ``hidden_columns`` are how many there are beside these.
    """

    headings: tuple[str, ...]
    rows: tuple[Line, ...]
    columns: tuple[Line, ...]
    cells: tuple[tuple[Cell, ...], ...]
    hidden_rows: int = 0
    hidden_columns: int = 0


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
    heads = list(_lines(result.axes[: result.row_count], layout.rows, rows, result.locale))
    tops = list(_lines(result.axes[result.row_count :], layout.columns, columns, result.locale))
    texts = [_written(result, layout, number, rows, columns) for number in range(len(result.values))]
    headings = [axis.label for axis in result.axes[: result.row_count]]
    hidden = (len(layout.rows) - len(rows), len(layout.columns) - len(columns))
    named = len(result.values) > 1 or result.row_count == len(result.axes)
    values = [Label(value.label, "value") for value in result.values]
    if result.request.values_on == "rows" and (len(result.values) > 1 or not headings):
        lines = [
            replace(line, labels=(*_again(line.labels, at), label)) for line in heads for at, label in enumerate(values)
        ]
        cells = tuple(text[at] for at in range(len(heads)) for text in texts)
        return Sheet((*headings, ""), tuple(lines), tuple(tops), cells, *hidden)
    if named:
        tops = [replace(line, labels=(*line.labels, label)) for line in tops for label in values]
    cells = tuple(
        tuple(text[at][column] for column in range(len(columns)) for text in texts) for at in range(len(heads))
    )
    return Sheet(tuple(headings), tuple(heads), tuple(tops), cells, *hidden)


def _again(labels: tuple[Label, ...], at: int) -> tuple[Label, ...]:
    return labels if at == 0 else tuple(replace(label, again=True) for label in labels)


def _some(count: int, most: int | None) -> list[int]:
    # The last line is mostly the grand total: it stays when lines are left out.
    return list(range(count)) if most is None or count <= most else [*range(most - 1), count - 1]


# -- heads ------------------------------------------------------------------------------------------------------------


def _lines(axes: Sequence[Axis], codes: Array, chosen: list[int], locale: str) -> Iterator[Line]:
    names = [code_names(axis, codes[chosen, at], locale) for at, axis in enumerate(axes)]
    before: list[int] = []
    for number in chosen:
        own = codes[number].tolist()
        same = next((at for at, (one, other) in enumerate(zip(own, before, strict=False)) if one != other), len(own))
        same = same if before else 0
        yield Line(tuple(replace(_label(axes, names, own, at), again=at < same) for at in range(len(axes))), number)
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
    write = band_text if axis.banded else _plain
    names = {code: write(value, locale) for code, value in axis.member_values(codes).items()}
    return {**names, axis.members.null: "(null)", axis.members.no_match: "(no match)"}


def _plain(value: Any, locale: str) -> str:
    return member_text(value)


_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


@cache
def band_text(text: str, locale: str) -> str:
    """A band with its edges written as a locale writes numbers."""
    return _NUMBER.sub(lambda found: format_decimal(Decimal(found[0]), "#,##0.##################", locale), text)


def member_called(result: Result, text: str) -> Any:
    """The member of a closed field that is shown so; as it is named from Python.

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
        raise RequestError(f"{text} is no member of a closed field.", fix=fix)
    return known[text]


# -- cells ------------------------------------------------------------------------------------------------------------


def _written(
    result: Result, layout: Layout, number: int, rows: list[int], columns: list[int]
) -> list[tuple[Cell, ...]]:
    """The cells of one value: for each row those of each column."""
    value, column = result.values[number], result.column_of(number)
    shown = layout.cells[np.ix_(rows, columns)]
    wanted = np.unique(shown)
    wanted = wanted[wanted >= 0]
    known = python_values(column.take(wanted))
    write = formatter(value.type, value.format, known, result.locale, result.currency)
    cells = {at: _cell(each, write) for at, each in zip(wanted.tolist(), known, strict=True)}
    return [tuple(cells.get(at, NOTHING) for at in line) for line in shown.tolist()]


def _cell(value: Any, write: Any) -> Cell:
    if value is None:
        return Cell(BLANK, null=True)
    negative = isinstance(value, int | float | Decimal) and not isinstance(value, bool) and value < 0
    return Cell(write(value), negative=negative)


# -- nested -----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class NestedLine:
    """A row of a sheet whose heads stand in one column, deeper ones further in; ``cells`` are None for a heading."""

    text: str
    depth: int
    kind: Kind
    total: bool
    cells: tuple[Cell, ...] | None


def nested(sheet: Sheet, attributes: Sequence[bool]) -> tuple[NestedLine, ...]:
    """The rows of a sheet with their heads in one column: a member heads what is deeper, with its own total.

    Parameters
    ----------
    sheet : Sheet
        The grid.
    attributes : sequence of bool
        Which row heads are determined by one before: they stand beside it.
    """
    lines: list[NestedLine] = []
    headed: dict[tuple[str, ...], int] = {}
    for line, cells in zip(sheet.rows, sheet.cells, strict=True):
        path = _path(line.labels, attributes)
        for depth in range(1, len(path)):
            outer = tuple(text for text, _ in path[:depth])
            if outer not in headed:
                text, kind = path[depth - 1]
                headed[outer] = len(lines)
                lines.append(NestedLine(text, depth - 1, kind, kind == "total", None))
        own = tuple(text for text, _ in path)
        text, kind = path[-1]
        if own in headed and lines[headed[own]].cells is None:
            lines[headed[own]] = replace(lines[headed[own]], cells=cells)
        else:
            headed[own] = len(lines)
            lines.append(NestedLine(text, len(path) - 1, kind, line.total and len(path) == 1, cells))
    return tuple(lines)


def _path(labels: Sequence[Label], attributes: Sequence[bool]) -> list[tuple[str, Kind]]:
    """The heads of a line from the outermost to the one that it is about; a total is about what is totalled."""
    path: list[tuple[str, Kind]] = []
    for number, label in enumerate(labels):
        attribute = number < len(attributes) and attributes[number]
        if attribute and path and label.text and label.kind not in ("total", "below"):
            path[-1] = (f"{path[-1][0]} · {label.text}", path[-1][1])
        elif label.kind == "value" or (label.kind not in ("total", "below") and not attribute):
            path.append((label.text, label.kind))
    return path if path and path[0][1] != "value" else [("total", "total"), *path]
