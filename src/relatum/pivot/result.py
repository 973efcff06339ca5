"""What a pivot gives back: values by cell at every grain, members in order, notes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data.arrow import arrow_type, column_to_arrow, python_values
from relatum.data.buffers import array_values, fixed_array, texts_array
from relatum.data.columns import Array, Column, Members
from relatum.data.groups import in_order, number_groups
from relatum.data.types import Kind, Type
from relatum.errors import RequestError
from relatum.model.names import column_name
from relatum.plan.engine import Cells
from relatum.plan.notes import Note

#: Stands in a layout where a field is totalled over.
TOTAL = -1
_LAYOUT_LIMIT = 50_000_000


@dataclass(frozen=True, slots=True, eq=False)
class Axis:
    """One field of an axis: its members, and for each of their codes its place in the order of members."""

    table: str
    column: str
    label: str
    members: Members
    rank: Array

    @property
    def name(self) -> str:
        """``table.column``."""
        return column_name(self.table, self.column)

    def member_values(self, codes: Array) -> dict[int, Any]:
        """The members that some codes stand for, as Python values by code; only these are looked at."""
        wanted = np.unique(codes)
        wanted = wanted[(wanted >= 0) & (wanted < self.members.null)]
        return dict(zip(wanted.tolist(), python_values(self.members.values.take(wanted)), strict=True))


@dataclass(frozen=True, slots=True)
class Value:
    """One value of a request: its label, formula, type and number format."""

    label: str
    formula: str
    type: Type
    format: str


@dataclass(frozen=True, slots=True, eq=False)
class Layout:
    """The grid as shown: member codes of each row and column, TOTAL where a field is totalled over.

    ``cells`` has for each row and column the number of its cell, -1 where there is none.
    """

    rows: Array
    columns: Array
    cells: Array


@dataclass(frozen=True, slots=True, eq=False)
class Result:
    """A pivot's answer. ``axes`` are the row fields, then the column fields; ``cells`` starts with the full grain."""

    model: str
    locale: str
    currency: str
    axes: tuple[Axis, ...]
    row_count: int
    values: tuple[Value, ...]
    cells: tuple[Cells, ...]
    where: str
    notes: tuple[Note, ...]

    # -- as shown ---------------------------------------------------------------------------------------------------

    def layout(self) -> Layout:
        """Rows and columns in order, each total after what it totals."""
        codes = self._all_codes(self.cells)
        rows, row_numbers = self._ordered(codes, range(self.row_count))
        columns, column_numbers = self._ordered(codes, range(self.row_count, len(self.axes)))
        if len(rows) * len(columns) > _LAYOUT_LIMIT:
            raise RequestError(
                f"The grid has {len(rows):,} rows and {len(columns):,} columns: too many to lay out.",
                fix="Read it with to_arrow(), which has a row for each combination shown.",
            )
        cells = np.full((len(rows), len(columns)), -1, np.int64)
        cells[row_numbers, column_numbers] = np.arange(len(codes))
        return Layout(rows, columns, cells)

    def column_of(self, number: int) -> Column:
        """A value's column over all cells, in the order in which a layout numbers them."""
        return _stacked([cells.values[number] for cells in self.cells])

    def _all_codes(self, grains: tuple[Cells, ...]) -> Array:
        parts = []
        for cells in grains:
            codes = np.full((len(cells.codes), len(self.axes)), TOTAL, np.int64)
            codes[:, list(cells.keys)] = cells.codes
            parts.append(codes)
        return np.concatenate(parts)

    def _ranks(self, codes: Array, number: int) -> Array:
        rank = np.append(self.axes[number].rank, self.axes[number].members.size)  # a total comes last
        return np.asarray(rank[codes[:, number]])

    def _rank_sizes(self) -> list[int]:
        return [axis.members.size + 1 for axis in self.axes]

    def _ordered(self, codes: Array, axes: range) -> tuple[Array, Array]:
        own = codes[:, list(axes)]
        if not len(axes):
            return np.zeros((1, 0), np.int64), np.zeros(len(codes), np.int64)
        ranks = [self._ranks(codes, number) for number in axes]
        sizes = self._rank_sizes()
        distinct, numbers = number_groups(ranks, [sizes[number] for number in axes], len(codes))
        first = np.zeros(len(distinct), np.int64)
        first[numbers[::-1]] = np.arange(len(codes))[::-1]
        return own[first], numbers

    # -- tidy -------------------------------------------------------------------------------------------------------

    def to_arrow(self, totals: bool = False) -> Any:
        """A tidy Arrow table: one row for each combination shown.

        Parameters
        ----------
        totals : bool
            Add the subtotals and totals that the request asked for, with a boolean column ``table.column:total``
            for each field.

        Returns
        -------
        pyarrow.Table
            A column for each field, named ``table.column``, and one for each value's label. ``(no match)`` is null,
            told by a boolean column ``table.column:no_match`` where it occurs.
        """
        grains = self.cells if totals else self.cells[:1]
        codes = self._all_codes(grains)
        ranks = [self._ranks(codes, number) for number in range(len(self.axes))]
        order = in_order(ranks, self._rank_sizes(), len(codes))
        names: list[str] = []
        arrays: list[Any] = []
        for number, axis in enumerate(self.axes):
            own = codes[order, number]
            names.append(axis.name)
            arrays.append(_member_array(axis, own))
            if (own == axis.members.no_match).any():
                names.append(f"{axis.name}:no_match")
                arrays.append(fixed_array(own == axis.members.no_match, pa.bool_()))
            if totals:
                names.append(f"{axis.name}:total")
                arrays.append(fixed_array(own == TOTAL, pa.bool_()))
        for number, value in enumerate(self.values):
            column = _stacked([cells.values[number] for cells in grains]).take(order)
            names.append(value.label)
            arrays.append(column_to_arrow(column))
        return pa.table(arrays, names=names)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def scalar(self) -> Any:
        """The one value of a request without axes: int, Decimal, float, str, bool, date, datetime or None."""
        return python_values(self.cells[0].values[0])[0]


def _member_array(axis: Axis, codes: Array) -> Any:
    members = axis.members
    known = (codes >= 0) & (codes < members.null)
    if not len(members.values):
        return pa.nulls(len(codes), arrow_type(members.values.type))
    column = members.values.take(np.where(known, codes, 0))
    return column_to_arrow(Column(column.type, column.values, ~known, column.dictionary, column.lower, column.upper))


def _stacked(columns: list[Column]) -> Column:
    """One column from several of one type; a part that is null throughout may lack a dictionary of its own."""
    first = max(columns, key=lambda column: 0 if column.dictionary is None else len(column.dictionary))
    if first.type.kind is Kind.TEXT and any(column.dictionary is not first.dictionary for column in columns):
        texts = pa.concat_arrays([column_to_arrow(column) for column in columns]).dictionary_encode()
        codes = array_values(texts.indices, 0).astype(np.int64)
        dictionary = texts.dictionary if len(texts.dictionary) else texts_array([""])
        return Column(
            first.type, codes, _all_nulls(columns), dictionary.cast(pa.large_string()), 0, len(dictionary) - 1
        )
    return Column(
        first.type,
        np.concatenate([column.values for column in columns]),
        _all_nulls(columns),
        first.dictionary,
        min(column.lower for column in columns),
        max(column.upper for column in columns),
    )


def _all_nulls(columns: list[Column]) -> NDArray[np.bool_]:
    return np.concatenate(
        [np.zeros(len(column), np.bool_) if column.nulls is None else column.nulls for column in columns]
    )
