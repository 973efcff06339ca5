"""A grid as a live page is given it: heads at once, cells block by block, and what a line or cell stands for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from relatum.audit.cell.location import OTHERS as OTHERS_MEMBER
from relatum.errors import RequestError
from relatum.pivot.result import OTHERS, Axis
from relatum.pivot.turning import NO_MATCH
from relatum.present.grid import Grid
from relatum.present.page.document import LookNumbers, column_width, legend_line
from relatum.present.sheet import Cell, Heads, column_path, headed, nested_heads, nested_paths, unmarked
from relatum.view.protocol import MOST_CELLS

#: How many lines at each end decide how wide a column is; fewer if there are many columns.
_LEAST_LOOKED_AT, _MOST_LOOKED_AT, _CELLS_LOOKED_AT = 5, 100, 2_000
#: The lines and columns of a block, as a page asks for them.
_HIGH, _WIDE = 120, 24


class Shown:
    """A grid in a page: its heads with their numbers, its cells on demand.

    Parameters
    ----------
    grid : Grid
        The answer.
    """

    def __init__(self, grid: Grid) -> None:
        self.grid = grid
        self.result = grid.result
        self.heads = Heads(self.result)
        self.lines = nested_heads(
            self.heads.rows, [axis.attribute is not None for axis in self.result.axes[: self.result.row_count]]
        )
        self.paths = nested_paths(self.lines)
        self.tops = [column_path(line, self.result.axes[self.result.row_count :]) for line in self.heads.columns]
        self.looks = LookNumbers()
        self._explained: tuple[tuple[int, int], Any] | None = None

    @property
    def row_axes(self) -> list[Axis]:
        """The row fields that no other determines."""
        return [axis for axis in self.result.axes[: self.result.row_count] if axis.attribute is None]

    @property
    def column_axes(self) -> list[Axis]:
        """The column fields that no other determines."""
        return [axis for axis in self.result.axes[self.result.row_count :] if axis.attribute is None]

    def first(self) -> dict[str, Any]:
        """The heads with the first block of cells."""
        shown = self.state()
        rows, columns = min(len(self.lines), _HIGH), min(len(self.heads.columns), _WIDE)
        return {"shown": shown, "cells": self.block((0, rows), (0, columns))}

    def state(self) -> dict[str, Any]:
        """The heads: lines, columns, and what is true of the whole."""
        result = self.result
        rows, columns = self.row_axes, self.column_axes
        heading = " / ".join(axis.label for axis in rows)
        widest = max((line.depth * 2 + len(line.text) + 3 for line in self.lines), default=8)
        row_lines = [
            {
                "t": unmarked(line.text),
                "d": line.depth,
                "k": line.kind,
                "v": self._value_of_row(line.row),
                "l": self.looks.number(line.look),
                "total": line.total,
                "cells": line.row is not None,
                "can": _can(rows, path),
            }
            for line, path in zip(self.lines, self.paths, strict=True)
        ]
        widths = self._widths()
        column_lines = [
            {
                "labels": [
                    {"t": unmarked(label.text), "c": label.code, "l": self.looks.number(label.look)}
                    for label in line.labels
                ],
                "v": -1 if self.heads.on_rows else at % len(result.values),
                "total": line.total,
                "w": widths[at],
                "can": _can(columns, path),
            }
            for at, (line, path) in enumerate(zip(self.heads.columns, self.tops, strict=True))
        ]
        return {
            "rows": row_lines,
            "columns": column_lines,
            "depth": max((len(line.labels) for line in self.heads.columns), default=0) or 1,
            "heading": heading,
            "headWidth": min(max(widest, len(heading)), 60),
            "values": [
                {"heading": headed(value, write), "label": value.label, "formula": "\n".join(value.formulas),
                 "about": value.about}
                for value, write in zip(result.values, self.heads.writers, strict=True)
            ],
            "fields": {
                side: [{"label": axis.label, "name": axis.name, "source": axis.source} for axis in axes]
                for side, axes in (("rows", rows), ("columns", columns))
            },
            "filters": result.request.filters,
            "notes": [note.text for note in result.notes],
            "legend": [legend_line(each, self.looks) for each in self.heads.looks.legend],
            "looks": self.looks.listed(),
        }  # fmt: skip

    def block(self, rows: tuple[int, int], columns: tuple[int, int]) -> dict[str, Any]:
        """The cells of some lines and columns: texts, None where there is no cell, and looks by their place.

        Raises
        ------
        RequestError
            There are no such lines or columns, or too many cells.
        """
        (top, low), (left, right) = rows, columns
        if not (0 <= top <= low <= len(self.lines) and 0 <= left <= right <= len(self.heads.columns)):
            raise RequestError("The grid has no such cells.")
        if (low - top) * (right - left) > MOST_CELLS:
            raise RequestError(f"A block has at most {MOST_CELLS:,} cells.")
        before = len(self.looks.numbers)
        numbers = [line.row for line in self.lines[top:low]]
        written = iter(self.heads.cells([row for row in numbers if row is not None], range(left, right)))
        texts: list[str | None] = []
        kinds: dict[int, str] = {}
        styled: dict[int, int] = {}
        for row in numbers:
            cells: Sequence[Cell | None] = [None] * (right - left) if row is None else next(written)
            for cell in cells:
                if cell is not None and cell.there:
                    look = self.looks.number(cell.look)
                    if look:
                        styled[len(texts)] = look
                    if cell.null or cell.negative:
                        kinds[len(texts)] = "null" if cell.null else "negative"
                texts.append(None if cell is None or not cell.there else cell.text)
        found: dict[str, Any] = {"rows": rows, "columns": columns, "texts": texts, "styled": styled, "kinds": kinds}
        if len(self.looks.numbers) > before:
            found["looks"] = self.looks.listed()
        return found

    def _value_of_row(self, row: int | None) -> int:
        return -1 if row is None or not self.heads.on_rows else row % len(self.result.values)

    def _widths(self) -> list[int]:
        """How many characters each column needs, for its head and the lines at both ends."""
        count, columns = len(self.heads.rows), range(len(self.heads.columns))
        ends = max(_LEAST_LOOKED_AT, min(_MOST_LOOKED_AT, _CELLS_LOOKED_AT // max(len(columns), 1)))
        rows = sorted({*range(min(count, ends)), *range(max(count - ends, 0), count)})
        cells = self.heads.cells(rows, columns)
        return [column_width(self.result, self.heads.columns[at], [row[at] for row in cells]) for at in columns]

    # -- what a line or a cell stands for -----------------------------------------------------------------------------

    def member(self, rows: bool, line: int) -> tuple[Axis, Any, int]:
        """The innermost field of a line or column, the member there, and its code.

        Raises
        ------
        RequestError
            There is no such line, or it is a total.
        """
        axes = self.row_axes if rows else self.column_axes
        paths = self.paths if rows else self.tops
        if not 0 <= line < len(paths) or not paths[line]:
            raise RequestError("This line is a total, which has no member.")
        path = paths[line]
        axis = axes[len(path) - 1]
        return axis, _member(axis, path[-1]), path[-1]

    def cell(self, place: tuple[int, int]) -> tuple[dict[str, Any], str]:
        """The cell of a line and a column: members by field, and the label of its value.

        Raises
        ------
        RequestError
            There is no such cell.
        """
        line, column = place
        if not (0 <= line < len(self.lines) and 0 <= column < len(self.heads.columns)):
            raise RequestError("The grid has no such cell.")
        row = self.lines[line].row
        if row is None:
            raise RequestError("This line is a heading and has no values.")
        at: dict[str, Any] = {}
        for axes, path in ((self.row_axes, self.paths[line]), (self.column_axes, self.tops[column])):
            at |= {axis.name: _member(axis, code) for axis, code in zip(axes, path, strict=False)}
        number = (row if self.heads.on_rows else column) % len(self.result.values)
        return at, self.result.values[number].label

    def explanation(self, place: tuple[int, int]) -> Any:
        """Why a cell has its value; the last one is kept for what is asked of it next."""
        if self._explained is None or self._explained[0] != place:
            at, value = self.cell(place)
            self._explained = place, self.grid.explain(at, value)
        return self._explained[1]

    def rows_behind(self, place: tuple[int, int], evidence: int) -> Any:
        """All rows behind an aggregate of a cell, as an Arrow table."""
        return self.explanation(place).rows_of(evidence)


def _can(axes: Sequence[Axis], path: tuple[int, ...]) -> str:
    """What can be done with a line: ``open`` or ``close`` it, choose it (``member``), or nothing."""
    if not path or path[-1] == OTHERS:
        return "" if not path else "others"
    axis = axes[len(path) - 1]
    if axis.opened is not None and len(path) < len(axes):
        return "close" if axis.opened[path[-1]] else "open"
    return "member"


def _member(axis: Axis, code: int) -> Any:
    if code == OTHERS:
        return OTHERS_MEMBER
    if code == axis.members.null:
        return None
    if code == axis.members.no_match:
        return NO_MATCH
    return next(iter(axis.member_values(np.array([code], np.int64)).values()))
