"""Keys: which rows of two tables have the same, which occur more than once, which find nothing."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

import numpy as np
from msgspec import Struct

from relatum.data import compute as pc
from relatum.data import vectors as v
from relatum.data.arrow import python_values
from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column, exact_column
from relatum.data.groups import distinct
from relatum.data.types import DATE, Kind, Type, common_type
from relatum.errors import DataError
from relatum.model.declaration import Relationship
from relatum.model.names import column_name
from relatum.wording import counted, sample_text

_SAMPLES = 5
#: Up to this many slots, a key finds its row through a table with a slot for each.
TABLE_SLOTS = 1 << 22
#: What keys are multiplied by.
_ODD = np.uint64(int.from_bytes(os.urandom(8), "little") | 1)


class Keys(Struct, frozen=True, eq=False):
    """Keys of both ends as whole numbers; -1 where null, or where the one side has no such value."""

    many: Array
    one: Array
    slots: int


def duplicate_keys(columns: list[Column]) -> tuple[int, int, list[tuple[object, ...]]]:
    """Keys that occur more than once. A row in which a column is null has no key.

    Parameters
    ----------
    columns : list of Column
        The key's columns, of one length.

    Returns
    -------
    tuple of int, int and list of tuple
        How many such keys there are, how many rows they are on, and the first few, as Python values.
    """
    keys = paired(columns, columns)
    known, counts = np.unique(keys.one[keys.one >= 0], return_counts=True)
    repeated = known[counts > 1]
    samples = []
    for key in repeated[:_SAMPLES]:
        row = np.flatnonzero(keys.one == key)[:1]
        samples.append(tuple(python_values(column.take(row))[0] for column in columns))
    return len(repeated), int(counts[counts > 1].sum()), samples


def keys_found(many: list[Column], one: list[Column]) -> Array:
    """For each row of one side, whether its key occurs on the other, however often.

    Parameters
    ----------
    many, one : list of Column
        The columns of both sides in the same order; those of a side have one length.

    Returns
    -------
    numpy.ndarray of bool
        As long as the columns of ``many``; False where a column is null.
    """
    found: Array = rows_found(paired(many, one))[0] >= 0
    return found


def refuse_duplicates(relationship: Relationship, one: list[Column], turned: bool = False) -> None:
    """Raise a DataError when the one side's key occurs on several rows; ``turned`` says that the left end is meant."""
    refuse_repeated(relationship, *duplicate_keys(one), turned)


def refuse_repeated(
    relationship: Relationship, keys: int, rows: int, samples: list[tuple[object, ...]], turned: bool
) -> None:
    """Raise a DataError where keys of the one side are on several rows.

    Parameters
    ----------
    relationship : Relationship
        For the message.
    keys, rows : int
        How many keys are on several rows, and how many rows they are on.
    samples : list of tuple
        Some of these keys, as Python values.
    turned : bool
        The left end is meant, not the right one.

    Raises
    ------
    DataError
        There are such keys.
    """
    if keys:
        shown = ", ".join(", ".join(map(sample_text, sample)) for sample in samples)
        raise DataError(
            f"{relationship.many if turned else relationship.one} is {'a' if turned else 'the'} one side of "
            f"{relationship}, but its keys are not unique: "
            f"{counted(keys, 'key')} on {counted(rows, 'row')}, for instance {shown}.",
            fix="Remove the duplicates, relate by more columns, or reverse the relationship.",
        )


def comparable(relationship: Relationship, many: list[Column], one: list[Column]) -> tuple[list[Column], list[Column]]:
    """Both ends of a relationship as columns of one type each; a DataError where they never match."""
    types = common_types(relationship, [each.type for each in many], [each.type for each in one])
    left, right = [], []
    for many_column, one_column, common in zip(many, one, types, strict=True):
        if (many_column.type.kind, one_column.type.kind) == (Kind.TIMESTAMP, Kind.DATE):
            # A moment finds the row of its day.
            many_column = exact_column(DATE, v.days_of(many_column), many_column.nulls)
        left.append(v.converted(many_column, common))
        right.append(v.converted(one_column, common))
    return left, right


def common_types(relationship: Relationship, many: Sequence[Type], one: Sequence[Type]) -> list[Type]:
    """The types in which the ends of a relationship are compared.

    Parameters
    ----------
    relationship : Relationship
        For messages.
    many, one : sequence of Type
        The types of both ends' columns, in the same order.

    Raises
    ------
    DataError
        Two of them never match, such as a text and a number.
    """
    types = []
    for left, right, many_name, one_name in zip(
        many, one, relationship.many.columns, relationship.one.columns, strict=True
    ):
        dated = (left.kind, right.kind) == (Kind.TIMESTAMP, Kind.DATE)
        common = DATE if dated else common_type([left, right])
        if common is None:
            raise DataError(
                f"{column_name(relationship.many.table, many_name)} is {left} and "
                f"{column_name(relationship.one.table, one_name)} is {right}: they never match.",
                fix="Set the type of one of them in the model: type = "
                f'"{right}" for {column_name(relationship.many.table, many_name)}.',
            )
        types.append(common)
    if relationship.match == "as_of" and types[-1].kind in (Kind.TEXT, Kind.BOOLEAN):
        raise DataError(
            f"{relationship} matches as of {relationship.one.columns[-1]}, which is {types[-1]}.",
            fix="The last column of an as_of relationship is a date, a timestamp or a number.",
        )
    return types


def paired(many: list[Column], one: list[Column]) -> Keys:
    """Keys of several columns, of both ends, as one whole number each."""
    keys: Keys | None = None
    for many_column, one_column in zip(many, one, strict=True):
        here = _pair(many_column, one_column)
        keys = here if keys is None else _combined(keys, here)
    assert keys is not None
    return keys


def _combined(keys: Keys, here: Keys) -> Keys:
    if keys.slots * here.slots >= 1 << 62:
        known = distinct(keys.one[keys.one >= 0])
        keys = Keys(rank_of(known, keys.many), rank_of(known, keys.one), len(known))
    many, one = _packed(keys.many, here.many, here.slots), _packed(keys.one, here.one, here.slots)
    return Keys(many, one, keys.slots * here.slots)


def _packed(outer: Array, inner: Array, slots: int) -> Array:
    """Two keys as one, -1 where either is below 0."""

    def pack(part: slice) -> Array:
        here, there = outer[part], inner[part]
        packed: Array = here * slots + there
        below = (here | there) < 0
        if below.any():
            packed[below] = -1
        return packed

    return v.by_blocks(len(outer), np.int64, pack)


def _pair(many: Column, one: Column) -> Keys:
    if one.type.kind is Kind.TEXT:
        found = pc.index_in(many.dictionary, value_set=one.dictionary)
        known = array_values(found, -1).astype(np.int64)
        many_codes = known.take(many.values) if len(known) else np.full(len(many), -1, np.int64)
        one_codes, slots = one.values.astype(np.int64), len(one.dictionary)
    elif one.type.kind is Kind.FLOAT or one.upper - one.lower >= 1 << 62:
        known = distinct(one.values)
        many_codes, one_codes, slots = rank_of(known, many.values), rank_of(known, one.values), len(known)
    else:
        slots = one.upper - one.lower + 1
        beyond = many.lower < one.lower or many.upper > one.upper

        def codes(part: slice) -> Array:
            values = many.values[part]
            above: Array = values.astype(np.int64) - one.lower
            if beyond:
                # What is outside the one side's bounds finds nothing; the rest is less than 64 bits above the lower.
                above[(values < one.lower) | (values > one.upper)] = -1
            return above

        many_codes = v.by_blocks(len(many), np.int64, codes)
        one_codes = one.values.astype(np.int64) - one.lower
    return Keys(without_nulls(many_codes, many), without_nulls(one_codes, one), max(slots, 1))


def rank_of(distinct: Array, values: Array) -> Array:
    """The place of each value among distinct ascending ones; -1 where it is not there."""
    if not len(distinct):
        return np.full(len(values), -1, np.int64)
    positions = np.searchsorted(distinct, values).clip(max=len(distinct) - 1)
    return np.where(distinct[positions] == values, positions, -1)


class KeyRows:
    """The row of each key, for keys too far apart to have a place each.

    Open addressing with linear probing (D. E. Knuth, The Art of Computer Programming, volume 3, section 6.4), worked
    out for all keys at once: those whose place is taken try the next one together. Where a key is looked for first
    depends on a number drawn at random for each process, so that nobody can choose keys that all get into each other's
    way. No answer depends on it.

    Parameters
    ----------
    keys : numpy.ndarray of int64, one dimension
        The key of each row, 0 or more.
    """

    def __init__(self, keys: Array) -> None:
        self._keys = keys
        self._bits = max((4 * len(keys)).bit_length(), 3)
        self._rows: Array = np.full(1 << self._bits, -1, np.int32 if len(keys) < 1 << 31 else np.int64)
        #: Whether some key is on several rows: it leads to one of them.
        self.repeated = False
        pending, places = np.arange(len(keys)), self._places(keys)
        while len(pending):
            free = self._rows[places] < 0
            self._rows[places[free]] = pending[free]
            there = self._rows[places]
            later = there != pending
            pending, places, there = pending[later], places[later], there[later]
            taken = keys[there] != keys[pending]
            self.repeated = self.repeated or not taken.all()
            pending, places = pending[taken], (places[taken] + 1) & (len(self._rows) - 1)

    def _places(self, keys: Array) -> Array:
        """Where each key is looked for first: the highest bits of its product with an odd number drawn at random.

        M. Dietzfelbinger, T. Hagerup, J. Katajainen, M. Penttonen: A reliable randomized algorithm for the
        closest-pair problem. Journal of Algorithms 25 (1997), section 2.
        """
        product = keys.astype(np.uint64) * _ODD
        return (product >> np.uint64(64 - self._bits)).astype(np.int64)

    def of(self, wanted: Array) -> Array:
        """The row of each key wanted, -1 where it is on none.

        Parameters
        ----------
        wanted : numpy.ndarray of int64, one dimension
            Keys; below 0 there is no key.
        """
        return v.by_blocks(len(wanted), self._rows.dtype, lambda part: self._block(wanted[part]))

    def _block(self, wanted: Array) -> Array:
        places = self._places(wanted)
        found: Array = self._rows.take(places)
        if not len(self._keys):
            return found
        # An empty place reads the last key: the place itself shows that nothing is there.
        pending = np.flatnonzero((self._keys.take(found) != wanted) & (found >= 0))
        while len(pending):
            places[pending] = (places[pending] + 1) & (len(self._rows) - 1)
            found[pending] = there = self._rows[places[pending]]
            pending = pending[(self._keys[there] != wanted[pending]) & (there >= 0)]
        return found


def rows_found(keys: Keys) -> tuple[Array, bool]:
    """For each key of the many side its row of the one side, -1 for none; and whether some key is on several rows."""
    rows = np.flatnonzero(keys.one >= 0)
    known = keys.one if len(rows) == len(keys.one) else keys.one[rows]
    if keys.slots > max(TABLE_SLOTS, 4 * len(known)):
        table = KeyRows(known)
        found = table.of(keys.many)
        return (found if known is keys.one else np.append(rows, -1).take(found, mode="wrap")), table.repeated
    rows_of: Array = np.full(keys.slots + 1, -1, np.int32 if len(keys.one) < 1 << 31 else np.int64)
    rows_of[known] = rows
    # -1 wraps to the last slot, which finds nothing.
    positions = v.by_blocks(len(keys.many), rows_of.dtype, lambda part: rows_of.take(keys.many[part], mode="wrap"))
    return positions, int(np.count_nonzero(rows_of >= 0)) < len(known)


def without_nulls(codes: Array, column: Column) -> Array:
    """Codes with -1 where the column has no value."""
    return codes if column.nulls is None else np.where(column.nulls, -1, codes)


def unmatched_rows(relationship: Relationship, many: Sequence[Column], one: Sequence[Column]) -> tuple[int, int]:
    """How many rows of the many side have a null key, and how many have one that occurs nowhere on the one side.

    Parameters
    ----------
    relationship : Relationship
        For messages, and for how the last column matches.
    many, one : sequence of Column
        The columns compared, in the same order; those of a side have one length.

    Returns
    -------
    tuple of int and int
        Rows with a null key, and rows whose key finds nothing.

    Raises
    ------
    DataError
        The columns' types cannot be compared.
    """
    left, right = comparable(relationship, list(many), list(one))
    nulls = v.either_null(*left)
    null_keys = 0 if nulls is None else int(np.broadcast_to(nulls, len(left[0])).sum())
    return null_keys, int((~keys_found(left, right)).sum()) - null_keys


def folded(texts: Any) -> Any:
    """Texts without what people do not see: case, blanks around them, blanks in a row."""
    return pc.utf8_lower(pc.utf8_trim_whitespace(pc.replace_substring_regex(texts, r"\s+", " ")))
