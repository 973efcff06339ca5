"""Join indexes: for each row of the many side, the row number on the one side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow.compute as pc

from relatum.data.arrow import python_values
from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column, narrow_codes
from relatum.data.types import Kind
from relatum.engine.memory import vectors as v
from relatum.engine.memory.frames import spread_ranges
from relatum.errors import DataError, counted
from relatum.language.functions import common_type
from relatum.model.declaration import Relationship
from relatum.model.names import column_name

#: Up to this many slots, a key finds its row through a table rather than by searching.
_TABLE_SLOTS = 1 << 22
_SAMPLES = 5


@dataclass(frozen=True, slots=True, eq=False)
class JoinIndex:
    """``positions`` holds a row number of the one side for each row of the many side, ``size`` for no match."""

    positions: Array
    size: int
    null_keys: int
    orphans: int

    @property
    def unmatched(self) -> int:
        """How many rows find nothing."""
        return self.null_keys + self.orphans


@dataclass(frozen=True, slots=True, eq=False)
class _Keys:
    """Keys of both ends as whole numbers; -1 where null, or where the one side has no such value."""

    many: Array
    one: Array
    slots: int


def duplicate_keys(columns: list[Column]) -> tuple[int, int, list[tuple[object, ...]]]:
    """How many keys occur more than once, how many rows they stand on, and some of them."""
    keys = _paired(columns, columns)
    distinct, counts = np.unique(keys.one[keys.one >= 0], return_counts=True)
    repeated = distinct[counts > 1]
    samples = []
    for key in repeated[:_SAMPLES]:
        row = np.flatnonzero(keys.one == key)[:1]
        samples.append(tuple(python_values(column.take(row))[0] for column in columns))
    return len(repeated), int(counts[counts > 1].sum()), samples


def keys_found(many: list[Column], one: list[Column]) -> Array:
    """For each row of one side, whether its key occurs on the other, however often."""
    keys = _paired(many, one)
    known = np.unique(keys.one[keys.one >= 0])
    return (keys.many >= 0) & (_rank(known, keys.many) >= 0)


def build_join_index(
    relationship: Relationship, many: list[Column], one: list[Column], turned: bool = False
) -> JoinIndex:
    """Find for each row of the many side its row of the one side.

    Parameters
    ----------
    relationship : Relationship
        For messages, and for how the last column matches.
    many, one : list of Column
        The columns compared, in the same order.

    Raises
    ------
    DataError
        The columns' types cannot be compared, or the one side is not unique.
    """
    many, one = _comparable(relationship, many, one)
    refuse_duplicates(relationship, one, turned)
    nulls = v.either_null(*many)
    null_keys = 0 if nulls is None else int(np.broadcast_to(nulls, len(many[0])).sum())
    size = len(one[0])
    if relationship.match == "as_of":
        positions = _latest(many, one)
    else:
        keys = _paired(many, one)
        positions = _found(keys.many, keys.one, keys.slots, np.arange(size))
    missing = positions < 0
    positions = narrow_codes(np.where(missing, size, positions), size + 1)
    return JoinIndex(positions, size, null_keys, int(missing.sum()) - null_keys)


def refuse_duplicates(relationship: Relationship, one: list[Column], turned: bool = False) -> None:
    """Raise a DataError when the one side's key occurs on several rows; ``turned`` says that the left end is meant."""
    keys, rows, samples = duplicate_keys(one)
    if keys:
        shown = ", ".join(", ".join(map(repr_value, sample)) for sample in samples)
        raise DataError(
            f"{relationship.many if turned else relationship.one} is {'a' if turned else 'the'} one side of "
            f"{relationship}, but it is not unique: "
            f"{counted(keys, 'key')} on {counted(rows, 'row')}, for instance {shown}.",
            fix="Remove the duplicates, relate by more columns, or turn the relationship round.",
        )


def repr_value(value: object) -> str:
    """A value as a formula would write it."""
    return f"'{value}'" if isinstance(value, str) else str(value)


def matching_pairs(relationship: Relationship, left: list[Column], right: list[Column]) -> tuple[Array, Array]:
    """All pairs of rows whose keys are equal, for a many-to-many relationship."""
    left, right = _comparable(relationship, left, right)
    keys = _paired(left, right)
    known = np.unique(keys.one[keys.one >= 0])
    one = _rank(known, keys.one)
    many = _rank(known, keys.many)
    order = np.argsort(one, kind="stable")
    order = order[one[order] >= 0]
    counts = np.bincount(one[order], minlength=len(known))
    starts = np.cumsum(counts) - counts
    rows = np.flatnonzero(many >= 0)
    owners, positions = spread_ranges(starts[many[rows]], counts[many[rows]], order)
    return rows[owners], positions


def _comparable(relationship: Relationship, many: list[Column], one: list[Column]) -> tuple[list[Column], list[Column]]:
    left, right = [], []
    for many_column, one_column, many_name, one_name in zip(
        many, one, relationship.many.columns, relationship.one.columns, strict=True
    ):
        common = common_type([many_column.type, one_column.type])
        if common is None:
            raise DataError(
                f"{column_name(relationship.many.table, many_name)} is {many_column.type} and "
                f"{column_name(relationship.one.table, one_name)} is {one_column.type}: they never match.",
                fix="Declare the type of one of them in the model: type = "
                f'"{one_column.type}" for {column_name(relationship.many.table, many_name)}.',
            )
        left.append(v.converted(many_column, common))
        right.append(v.converted(one_column, common))
    if relationship.match == "as_of" and right[-1].type.kind in (Kind.TEXT, Kind.BOOLEAN):
        raise DataError(
            f"{relationship} matches as of {relationship.one.columns[-1]}, which is {right[-1].type}.",
            fix="The last column of an as_of relationship is a date, a timestamp or a number.",
        )
    return left, right


def _paired(many: list[Column], one: list[Column]) -> _Keys:
    keys: _Keys | None = None
    for many_column, one_column in zip(many, one, strict=True):
        here = _pair(many_column, one_column)
        keys = here if keys is None else _combined(keys, here)
    assert keys is not None
    return keys


def _combined(keys: _Keys, here: _Keys) -> _Keys:
    if keys.slots * here.slots >= 1 << 62:
        known = np.unique(keys.one[keys.one >= 0])
        keys = _Keys(_rank(known, keys.many), _rank(known, keys.one), len(known))
    many = np.where((keys.many < 0) | (here.many < 0), -1, keys.many * here.slots + here.many)
    one = np.where((keys.one < 0) | (here.one < 0), -1, keys.one * here.slots + here.one)
    return _Keys(many, one, keys.slots * here.slots)


def _pair(many: Column, one: Column) -> _Keys:
    if one.type.kind is Kind.TEXT:
        found = pc.index_in(many.dictionary, value_set=one.dictionary)
        known = array_values(found, -1).astype(np.int64)
        many_codes = known.take(many.values) if len(known) else np.full(len(many), -1, np.int64)
        one_codes, slots = one.values.astype(np.int64), len(one.dictionary)
    elif one.type.kind is Kind.FLOAT or one.upper - one.lower >= 1 << 62:
        distinct = np.unique(one.values)
        many_codes, one_codes, slots = _rank(distinct, many.values), _rank(distinct, one.values), len(distinct)
    else:
        slots = one.upper - one.lower + 1
        # Values outside the one side's bounds find nothing; the others are less than 64 bits above its lower bound.
        inside = (many.values >= one.lower) & (many.values <= one.upper)
        many_codes = np.where(inside, many.values.astype(np.int64) - one.lower, -1)
        one_codes = one.values.astype(np.int64) - one.lower
    return _Keys(_without(many_codes, many), _without(one_codes, one), max(slots, 1))


def _rank(distinct: Array, values: Array) -> Array:
    if not len(distinct):
        return np.full(len(values), -1, np.int64)
    positions = np.searchsorted(distinct, values).clip(max=len(distinct) - 1)
    return np.where(distinct[positions] == values, positions, -1)


def _without(codes: Array, column: Column) -> Array:
    return codes if column.nulls is None else np.where(column.nulls, -1, codes)


def _found(wanted: Array, keys: Array, slots: int, rows: Array) -> Array:
    usable = keys >= 0
    keys, rows = keys[usable], rows[usable]
    if not len(keys):
        return np.full(len(wanted), -1, np.int64)
    if slots <= max(_TABLE_SLOTS, 4 * len(keys)):
        table = np.full(slots + 1, -1, np.int32 if len(rows) < 1 << 31 else np.int64)
        table[keys] = rows
        return np.asarray(table.take(wanted, mode="wrap"))  # -1 wraps to the last slot, which finds nothing
    order = np.argsort(keys)
    ranks = _rank(keys[order], wanted)
    return np.where(ranks < 0, -1, rows[order].take(ranks.clip(min=0)))


def _latest(many: list[Column], one: list[Column]) -> Array:
    """Rows whose other columns are equal and whose last column is the latest that is not after the one wanted."""
    steps = np.unique(_known_values(one[-1]))
    many_step = np.searchsorted(steps, many[-1].values, side="right") - 1
    many_step = np.where(v.known(many[-1]), many_step, -1)
    one_step = _without(np.searchsorted(steps, one[-1].values), one[-1])
    if len(many) == 1:
        group = _Keys(np.zeros(len(many[0]), np.int64), np.zeros(len(one[0]), np.int64), 1)
    else:
        group = _paired(many[:-1], one[:-1])
    known = np.unique(group.one[group.one >= 0])
    many_group, one_group = _rank(known, group.many), _rank(known, group.one)
    width = max(len(steps), 1)
    usable = (one_group >= 0) & (one_step >= 0)
    starts, rows = (one_group * width + one_step)[usable], np.flatnonzero(usable)
    wanted = many_group * width + many_step
    valid = (many_group >= 0) & (many_step >= 0)
    if not len(starts):
        return np.full(len(wanted), -1, np.int64)
    order = np.argsort(starts)
    starts, rows = starts[order], rows[order]
    slots = len(known) * width
    if slots <= _TABLE_SLOTS:
        # For every group and step, the last start up to there: a table filled forwards.
        last = np.full(slots, -1, np.int64)
        last[starts] = np.arange(len(starts))
        last = np.maximum.accumulate(last)
        found = last.take(np.where(valid, wanted, 0))
    else:
        found = np.searchsorted(starts, wanted, side="right") - 1
    clipped = found.clip(min=0)
    matches = valid & (found >= 0) & (starts.take(clipped) // width == many_group)
    return np.where(matches, rows.take(clipped), -1)


def _known_values(column: Column) -> Array:
    return column.values if column.nulls is None else column.values[~column.nulls]


def composed(first: JoinIndex, second: JoinIndex) -> JoinIndex:
    """The join index over two hops; what the first does not match, the second cannot."""
    extended = np.append(second.positions, np.asarray([second.size], dtype=np.int64))
    positions = narrow_codes(extended.take(first.positions), second.size + 1)
    return JoinIndex(positions, second.size, 0, int((positions == second.size).sum()))


@dataclass(frozen=True, slots=True, eq=False)
class LevelRows:
    """The distinct values of a level: for each, the first row of the table that has it."""

    first_rows: Array
    index: JoinIndex


def build_level(columns: list[Column]) -> LevelRows:
    """The table of distinct values that columns imply, and how their own table looks it up."""
    keys = _paired(columns, columns)
    _, first_rows, positions = np.unique(keys.one, return_index=True, return_inverse=True)
    nulls = int((keys.one < 0).sum())
    if nulls:
        # The key -1 sorts first: rows with a null in the level belong to no member of it.
        first_rows, positions = first_rows[1:], positions - 1
    size = len(first_rows)
    positions = np.where(positions < 0, size, positions)
    return LevelRows(first_rows, JoinIndex(narrow_codes(positions, size + 1), size, nulls, 0))
