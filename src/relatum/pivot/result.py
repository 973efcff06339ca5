"""What a pivot gives back: values by cell at every grain, members in order, notes."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from msgspec import Struct, field
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.arrow import arrow_type, column_to_arrow, python_values
from relatum.data.buffers import array_values, fixed_array, texts_array
from relatum.data.columns import Array, Column, Members
from relatum.data.groups import are_ordered, number_groups, places_of
from relatum.data.types import Kind, Type
from relatum.errors import RequestError
from relatum.language.tree import TotalPlace
from relatum.model.looks import PLAIN, USUAL, Format, StyleRule, Theme
from relatum.pivot.made_of import FormulaPart
from relatum.pivot.request import AxisWord, Request
from relatum.plan.engine import Cells
from relatum.plan.notes import Note

#: Stands in a layout where a field is totalled over, for the members that a top leaves out, and for what lies below a
#: member that is not opened, or below others.
TOTAL, OTHERS, BELOW = -1, -2, -3
_LAYOUT_LIMIT = 50_000_000


class Axis(Struct, frozen=True, eq=False):
    """One field of an axis: its members, and for each of their codes its place in the order of members.

    ``attribute`` gives, where another field determines it, that field's position and for each of its codes the code
    here. ``opened`` tells of each code whether deeper fields are shown under it, None where they always are;
    ``descending`` of each thing that members are ordered by whether the largest comes first. ``side`` and ``source``
    are the axis of the request and the number of the text there that the field comes from. ``format`` is the pattern
    of its members, ``period`` the calendar's column that it is, ``colours`` those of members as they are written.
    """

    table: str
    column: str
    label: str
    name: str
    members: Members
    rank: Array
    attribute: tuple[int, Array] | None = None
    opened: NDArray[np.bool_] | None = None
    total: TotalPlace = "after"
    descending: tuple[bool, ...] = ()
    banded: bool = False
    side: AxisWord = "rows"
    source: int = 0
    format: str = ""
    period: str = ""
    colours: Mapping[str, str] = field(default_factory=dict)

    def member_values(self, codes: Array) -> dict[int, Any]:
        """The members that some codes stand for, as Python values by code; only these are looked at."""
        wanted = np.unique(codes)
        wanted = wanted[(wanted >= 0) & (wanted < self.members.null)]
        return dict(zip(wanted.tolist(), python_values(self.members.values.take(wanted)), strict=True))


class Value(Struct, frozen=True):
    """One value of a request: its label, what heads it, its formula with its parts, type and format, what it means."""

    label: str
    formula: str
    type: Type
    format: Format = PLAIN
    heading: str = ""
    about: str = ""
    parts: tuple[FormulaPart, ...] = ()

    @property
    def formulas(self) -> list[str]:
        """Its formula and those of the measures and derived columns in it, a line each, deeper ones further in."""
        named = bool(self.parts) and self.parts[0].shown == self.formula
        inner = [each for each in self.parts if each.formula and not each.again]
        lines = [f"{'  ' * (each.depth - named)}{each.shown} = {each.formula}" for each in inner]
        return lines if named else [self.formula, *lines]


class CellRule(Struct, frozen=True):
    """A style rule for the cells of a value: its number, and the number of the condition computed with the values."""

    rule: StyleRule
    value: int
    condition: int | None


class Recipe(Struct, frozen=True):
    """How a value is computed from parts that add up over members.

    ``steps`` is a tree of lists: ``["part", number]``, ``["number", value]`` or an operation with its arguments; empty
    where there is none, for the ``reason``. ``fields`` are the positions of the fields over whose members all of its
    parts add up. The value of one member depends on the other members of the fields ``beside``, and where ``innermost``
    says so on those of the innermost row field that its cell has. ``sums`` says that all parts are sums.
    """

    steps: list[Any]
    fields: frozenset[int]
    reason: str = ""
    beside: frozenset[int] = frozenset()
    innermost: bool = False
    sums: bool = False

    @property
    def numbers(self) -> tuple[int, ...]:
        """The parts that it uses."""
        return tuple(dict.fromkeys(_part_numbers(self.steps))) if self.steps else ()

    @property
    def linear(self) -> bool:
        """Whether the value of members together is the sum of their own values."""
        return bool(self.steps) and self.sums and _linear(self.steps)

    def with_numbers(self, numbers: Mapping[int, int]) -> Recipe:
        """The recipe with its parts renumbered."""
        return replace(self, steps=_renumbered(self.steps, numbers))


def _linear(steps: list[Any]) -> bool:
    match steps:
        case ["part", _]:
            return True
        case (
            ["negate", inner] | ["*", ["number", _], inner] | ["*", inner, ["number", _]] | ["/", inner, ["number", _]]
        ):
            return _linear(inner)
        case ["+" | "-", one, other]:
            return _linear(one) and _linear(other)
        case _:
            return False


def _renumbered(steps: list[Any], numbers: Mapping[int, int]) -> list[Any]:
    if steps[0] == "part":
        return ["part", numbers[steps[1]]]
    return [_renumbered(each, numbers) if isinstance(each, list) else each for each in steps]


def _part_numbers(steps: list[Any]) -> list[int]:
    if steps[0] == "part":
        return [steps[1]]
    return [number for each in steps[1:] if isinstance(each, list) for number in _part_numbers(each)]


class PartColumn(Struct, frozen=True):
    """A part of values: which of the columns beside the values it is, and how it is put together over members."""

    column: int
    merge: Literal["sum", "min", "max"]


class HiddenMembers(Struct, frozen=True, eq=False):
    """The members of a field that a top hides, each under those of ``outer`` fields.

    ``codes`` has a column for each outer field and, last, for the member. Fields go by their numbers among those that
    cells have keys for.
    """

    field: int
    outer: tuple[int, ...]
    codes: Array


class MemberRule(Struct, frozen=True, eq=False):
    """A style rule for the members of a field (its position on the axes): for each code whether it holds."""

    rule: StyleRule
    axis: int
    holds: NDArray[np.bool_]


class Layout(Struct, frozen=True, eq=False):
    """The grid as shown: member codes of each row and column, or TOTAL, OTHERS or BELOW.

    ``cells`` has for each row and column the number of its cell, -1 where there is none.
    """

    rows: Array
    columns: Array
    cells: Array


class Result(Struct, frozen=True, eq=False):
    """A pivot's answer. ``axes`` are the row fields, then the column fields; ``cells`` starts with the full grain.

    ``fields`` are the positions in ``axes`` of the fields that cells have keys for: all but attributes. ``orders`` are
    the values that a field's members are ordered by, with their combinations, by the field's number among these.
    ``facts`` are the tables whose rows the values are over.
    ``cells`` have the conditions of style rules after the values, and then the ``parts`` that ``recipes`` use, where
    they were asked for. With these come the members that tops hide, and ``unseen`` cells of others that no line shows.
    """

    request: Request
    model: str
    locale: str
    currency: str
    axes: tuple[Axis, ...]
    row_count: int
    fields: tuple[int, ...]
    values: tuple[Value, ...]
    cells: tuple[Cells, ...]
    orders: dict[int, Cells]
    notes: tuple[Note, ...]
    rules: tuple[CellRule, ...] = ()
    member_rules: tuple[MemberRule, ...] = ()
    theme: Theme = USUAL
    facts: tuple[str, ...] = ()
    recipes: tuple[Recipe, ...] = ()
    parts: tuple[PartColumn, ...] = ()
    hidden: tuple[HiddenMembers, ...] = ()
    unseen: tuple[Cells, ...] = ()

    @property
    def where(self) -> str:
        """The condition that the request sets."""
        return self.request.where

    # -- as shown ---------------------------------------------------------------------------------------------------

    def layout(self) -> Layout:
        """Rows and columns in order, totals and others where they belong."""
        codes = self._all_codes(self.cells)
        rows, row_numbers = self._ordered(codes, "rows")
        columns, column_numbers = self._ordered(codes, "columns")
        if len(rows) * len(columns) > _LAYOUT_LIMIT:
            raise RequestError(
                f"The grid has {len(rows):,} rows and {len(columns):,} columns: too many to show.",
                fix="Use to_arrow(), which has one row for each combination shown.",
            )
        cells = np.full((len(rows), len(columns)), -1, np.int64)
        cells[row_numbers, column_numbers] = np.arange(len(codes))
        return Layout(rows, columns, cells)

    def column_of(self, number: int) -> Column:
        """A value's column over all cells, in the order in which a layout numbers them."""
        return _stacked([cells.values[number] for cells in self.cells])

    def _all_codes(self, grains: Sequence[Cells]) -> Array:
        """The codes of every combination, a column for each axis field, attributes among them."""
        parts = []
        for cells in grains:
            codes = np.full((len(cells.codes), len(self.axes)), TOTAL, np.int64, order="F")
            for at, key in enumerate(cells.keys):
                codes[:, self.fields[key]] = OTHERS if key in cells.others else cells.codes[:, at]
            if cells.others or len(cells.keys) < len(self.fields):  # else no field has a total, or what is below it
                for axis in self._axes():
                    self._mark_below(codes, [self.fields[key] for key in axis])
            parts.append(codes)
        every = parts[0] if len(parts) == 1 else np.concatenate(parts)
        for position, each in enumerate(self.axes):
            if each.attribute is not None:
                head, codes_of = each.attribute
                own = every[:, head]
                none = np.where(own == OTHERS, BELOW, own)
                every[:, position] = np.where(own >= 0, codes_of[np.maximum(own, 0)], none)
        return every

    def _axes(self) -> tuple[list[int], list[int]]:
        """The numbers of the fields that cells have keys for, of the rows and of the columns."""
        every = range(len(self.fields))
        return (
            [key for key in every if self.fields[key] < self.row_count],
            [key for key in every if self.fields[key] >= self.row_count],
        )

    def _mark_below(self, codes: Array, positions: list[int]) -> None:
        """Write BELOW where no total is meant: deeper than others, and than a member that is not opened."""
        for outer, inner in itertools.pairwise(positions):
            own, opened = codes[:, outer], self.axes[outer].opened
            shut = (own == OTHERS) | (own == BELOW)
            if opened is not None:
                shut |= (own >= 0) & ~opened[np.maximum(own, 0)]
            codes[shut & (codes[:, inner] == TOTAL), inner] = BELOW

    # -- order --------------------------------------------------------------------------------------------------------

    def _ordered(self, codes: Array, word: AxisWord) -> tuple[Array, Array]:
        """The distinct lines of an axis in order, and for each combination the number of its line."""
        on_rows, on_columns = self._axes()
        keys = on_rows if word == "rows" else on_columns
        if not keys:
            return np.zeros((1, 0), np.int64), np.zeros(len(codes), np.int64)
        shown = range(self.row_count) if word == "rows" else range(self.row_count, len(self.axes))
        if on_rows and on_columns:
            numbers = self._numbered(codes, keys)
            first = np.zeros(int(numbers.max(initial=-1)) + 1, np.int64)
            first[numbers[::-1]] = np.arange(len(codes))[::-1]
            lines = codes[first]
        else:  # each combination is a line
            lines, numbers = codes, np.arange(len(codes))
        sorted_by = [each for depth in range(len(keys)) for each in self._sorted_by(lines, keys[: depth + 1])]
        if are_ordered(sorted_by):
            return lines[:, list(shown)], numbers
        order = np.lexsort(sorted_by[::-1])
        place = np.empty(len(order), np.int64)
        place[order] = np.arange(len(order))
        return lines[order][:, list(shown)], place[numbers]

    def _numbered(self, codes: Array, keys: Sequence[int]) -> Array:
        """For each combination the number of its distinct one by some fields."""
        columns = [codes[:, self.fields[key]] - BELOW for key in keys]
        sizes = [self.axes[self.fields[key]].members.size - BELOW for key in keys]
        return number_groups(columns, sizes, len(codes))[1]

    def _sorted_by(self, lines: Array, keys: Sequence[int]) -> list[Array]:
        """What lines with the same outer members are sorted by, down to the member of the innermost field."""
        axis = self.axes[self.fields[keys[-1]]]
        own = lines[:, self.fields[keys[-1]]]
        if 0 <= own.min(initial=0) and own.max(initial=-1) < axis.members.no_match:
            return [*self._order_keys(lines, keys, axis), axis.rank[own]]
        total = -1 if axis.total == "before" else _LAST
        place = np.select(
            [own == TOTAL, own == OTHERS, own == axis.members.no_match], [total, _OTHERS_PLACE, _NO_MATCH_PLACE], 0
        )
        rank = np.where(own >= 0, axis.rank[np.maximum(own, 0)], 0)
        return [place, *self._order_keys(lines, keys, axis), rank, own]

    def _order_keys(self, lines: Array, keys: Sequence[int], axis: Axis) -> list[Array]:
        """What lines are sorted by where their members are ordered by values: null last, then the values."""
        found = self.orders.get(keys[-1])
        if found is None:
            return []
        columns = [found.codes[:, found.keys.index(key)] - BELOW for key in keys]
        wanted = [lines[:, self.fields[key]] - BELOW for key in keys]
        sizes = [self.axes[self.fields[key]].members.size - BELOW for key in keys]
        at = places_of(wanted, columns, sizes)
        sorted_by: list[Array] = []
        for column, down in zip(found.orders, axis.descending, strict=True):
            placed, unknown = v.sort_keys(column, down)
            sorted_by += [np.append(unknown, True)[at].astype(np.int64), np.append(placed, 0)[at]]
        return sorted_by

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
            A column for each field, named ``table.column`` or as its formula is labelled, and one for each value's
            label. ``(no match)`` is null, marked by a boolean column ``table.column:no_match`` where it occurs; so are
            the fields below a member that is not opened, marked by ``table.column:closed``, and others, marked by
            ``table.column:others``.
        """
        codes = self._all_codes(self.cells)
        _, rows = self._ordered(codes, "rows")
        _, columns = self._ordered(codes, "columns")
        order = slice(None) if are_ordered([rows, columns]) else np.lexsort((columns, rows))
        plain = codes.min(initial=0) >= 0
        if not totals and not plain and (codes == TOTAL).any():
            order = np.arange(len(codes))[order]
            order = order[~np.logical_or.reduce([own == TOTAL for own in codes.T])[order]]
        codes = codes[order]
        names: list[str] = []
        arrays: list[Any] = []

        def flag(name: str, where: Array) -> None:
            names.append(name)
            arrays.append(fixed_array(where, pa.bool_()))

        for number, axis in enumerate(self.axes):
            own = codes[:, number]
            names.append(axis.name)
            arrays.append(_member_array(axis, own))
            if (own == axis.members.no_match).any():
                flag(f"{axis.name}:no_match", own == axis.members.no_match)
            if not plain and axis.attribute is None and (own == OTHERS).any():
                flag(f"{axis.name}:others", own == OTHERS)
            if axis.opened is not None:
                flag(f"{axis.name}:closed", (own >= 0) & ~axis.opened[np.maximum(own, 0)])
            if totals:
                flag(f"{axis.name}:total", own == TOTAL)
        for number, value in enumerate(self.values):
            names.append(value.label)
            arrays.append(column_to_arrow(self.column_of(number).take(order)))
        return pa.table(arrays, names=names)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def scalar(self) -> Any:
        """The one value of a request without axes: int, Decimal, float, str, bool, date, datetime or None."""
        return python_values(self.cells[0].values[0])[0]


#: Where others, no match and a total are after the members of a field.
_OTHERS_PLACE, _NO_MATCH_PLACE, _LAST = 1, 2, 3


def _member_array(axis: Axis, codes: Array) -> Any:
    members = axis.members
    known = (codes >= 0) & (codes < members.null)
    if not len(members.values):
        return pa.nulls(len(codes), arrow_type(members.values.type))
    if known.all():
        return column_to_arrow(members.values.take(codes))
    column = members.values.take(np.where(known, codes, 0))
    return column_to_arrow(Column(column.type, column.values, ~known, column.dictionary, column.lower, column.upper))


def _stacked(columns: list[Column]) -> Column:
    """One column from several of one type; a part that is null throughout may lack a dictionary of its own."""
    if len(columns) == 1:
        return columns[0]
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
