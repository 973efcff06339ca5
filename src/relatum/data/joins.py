"""Join indexes: for each row of the many side, the row number on the one side."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from relatum.data import vectors as v
from relatum.data.columns import Array, Column, kind_of_codes, narrow_codes
from relatum.data.groups import Links, distinct
from relatum.data.keys import (
    TABLE_SLOTS,
    Keys,
    comparable,
    paired,
    rank_of,
    refuse_duplicates,
    rows_found,
    without_nulls,
)
from relatum.model.declaration import Relationship


class JoinIndex(Struct, frozen=True, eq=False):
    """``positions`` holds a row number of the one side for each row of the many side, ``size`` for no match."""

    positions: Array
    size: int
    null_keys: int
    orphans: int

    @property
    def unmatched(self) -> int:
        """How many rows find nothing."""
        return self.null_keys + self.orphans


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
    many, one = comparable(relationship, many, one)
    nulls = v.either_null(*many)
    null_keys = 0 if nulls is None else int(np.broadcast_to(nulls, len(many[0])).sum())
    size = len(one[0])
    if relationship.match == "as_of":
        refuse_duplicates(relationship, one, turned)
        positions = _latest(many, one)
    else:
        positions, repeated = rows_found(paired(many, one))
        if repeated:
            refuse_duplicates(relationship, one, turned)
    kind = kind_of_codes(size + 1)
    positions = v.by_blocks(len(positions), kind, lambda part: np.where(positions[part] < 0, size, positions[part]))
    return JoinIndex(positions, size, null_keys, int(np.count_nonzero(positions == size)) - null_keys)


class KeyLinks(Struct, frozen=True, eq=False):
    """Rows led to keys, and keys to rows.

    ``keys`` has a number below ``count`` for each row of the source, ``count`` where the row has no key that the other
    side has. ``rows`` leads each key number to the rows of the target that have it.
    """

    keys: Array
    count: int
    rows: Links

    @property
    def partners(self) -> Array:
        """How many rows each row of the source reaches."""
        reached = np.diff(self.rows.offsets)[: self.count]
        return np.append(reached, 0)[self.keys]


def matching_keys(relationship: Relationship, source: list[Column], target: list[Column]) -> KeyLinks:
    """How rows of one side of a many-to-many relationship find those of the other, by way of the keys they share.

    Parameters
    ----------
    relationship : Relationship
        For messages, and for the types that are compared.
    source, target : list of Column
        The columns of both sides in the same order; those of a side have one length.

    Raises
    ------
    DataError
        The columns' types cannot be compared.
    """
    left, right = comparable(relationship, source, target)
    keys = paired(left, right)
    known = distinct(keys.one[keys.one >= 0])
    one = rank_of(known, keys.one)
    rows = np.flatnonzero(one >= 0)
    own = rank_of(known, keys.many)
    numbers = narrow_codes(np.where(own < 0, len(known), own), len(known) + 1)
    return KeyLinks(numbers, len(known), Links.of(one[rows], rows, len(known) + 1))


def _latest(many: list[Column], one: list[Column]) -> Array:
    """Rows whose other columns are equal and whose last column is the latest that is not after the one wanted."""
    steps = distinct(_known_values(one[-1]))
    many_step = np.searchsorted(steps, many[-1].values, side="right") - 1
    many_step = np.where(v.known(many[-1]), many_step, -1)
    one_step = without_nulls(np.searchsorted(steps, one[-1].values), one[-1])
    if len(many) == 1:
        group = Keys(np.zeros(len(many[0]), np.int64), np.zeros(len(one[0]), np.int64), 1)
    else:
        group = paired(many[:-1], one[:-1])
    known = distinct(group.one[group.one >= 0])
    many_group, one_group = rank_of(known, group.many), rank_of(known, group.one)
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
    if slots <= TABLE_SLOTS:
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
    """The join index over two hops; what the first does not match, the second cannot.

    Parameters
    ----------
    first, second : JoinIndex
        Where the first leads to the rows that the second starts from.
    """
    extended = narrow_codes(np.append(second.positions, second.size), second.size + 1)
    positions = v.by_blocks(len(first.positions), extended.dtype, lambda part: extended.take(first.positions[part]))
    return JoinIndex(positions, second.size, 0, int(np.count_nonzero(positions == second.size)))


class LevelRows(Struct, frozen=True, eq=False):
    """The distinct values of a level: for each, the first row of the table that has it."""

    first_rows: Array
    index: JoinIndex


def build_level(columns: list[Column]) -> LevelRows:
    """The table of distinct values that columns imply, and how their own table looks it up."""
    keys = paired(columns, columns)
    _, first_rows, positions = np.unique(keys.one, return_index=True, return_inverse=True)
    nulls = int((keys.one < 0).sum())
    if nulls:
        # The key -1 sorts first: rows with a null in the level belong to no member of it.
        first_rows, positions = first_rows[1:], positions - 1
    size = len(first_rows)
    positions = np.where(positions < 0, size, positions)
    return LevelRows(first_rows, JoinIndex(narrow_codes(positions, size + 1), size, nulls, 0))
