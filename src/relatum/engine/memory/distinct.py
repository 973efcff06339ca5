"""Different codes by group: marked in a table of all pairs of a group and a code, or listed where they are few."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from relatum.data.columns import Array, Column
from relatum.data.groups import distinct, spread_ranges

#: The group of each row, or None when all rows belong to one group.
GroupOfRow = Array | None
#: Groups that are chosen: one of them possibly several times, or a stretch of them.
Which = Array | slice

#: A table of up to _MARKS pairs is always made; a larger one, up to _MOST_MARKS, if one pair in _ONE_IN occurs.
_MARKS, _MOST_MARKS, _ONE_IN = 1 << 20, 1 << 27, 64
#: From this many codes on, each group is worked by itself, which costs a step of Python.
_WIDE = 1 << 13


def with_values(groups: GroupOfRow, column: Column, rows: int) -> tuple[GroupOfRow, Array]:
    """The values of the rows that have one, and their groups."""
    values = np.broadcast_to(column.values, rows)
    if column.nulls is None:
        return groups, values
    has_value = np.broadcast_to(~column.nulls, rows)
    return None if groups is None else groups[has_value], values[has_value]


class DistinctFold:
    """How many different codes each group has.

    A pair is a group times the width, a power of two, and a code. Pairs are marked in a table, with a line for each
    group, or listed in parts, each ascending. Groups chosen among others share the table of these, by their lines.
    """

    def __init__(self, size: int) -> None:
        self.size = size
        self.width = 0
        self._marks: NDArray[np.bool_] | None = None
        self._lines: Array | None = None
        self._parts: list[Array] = []

    def add(self, groups: GroupOfRow, column: Column | None, rows: int) -> None:
        """Take in rows, with codes from 0 to the column's upper bound; those without one do not count."""
        assert column is not None
        groups, codes = with_values(groups, column, rows)
        bits = int(column.upper).bit_length()
        self._take(codes if groups is None else (groups << bits) + codes, 1 << bits)

    @staticmethod
    def marks_fit(slots: int, pairs: int) -> bool:
        """Whether a table with this many slots is made for this many pairs."""
        return slots <= max(_MARKS, min(_MOST_MARKS, _ONE_IN * pairs))

    def take_marks(self, marks: NDArray[np.bool_]) -> None:
        """Take marks that were made elsewhere, as many for each group."""
        self.width = len(marks) // self.size
        self._marks = marks.reshape(self.size, self.width)

    def _take(self, pairs: Array, width: int) -> None:
        self.width = width
        slots = self.size * width
        if self._marks is None and slots <= _MARKS:
            self._marks = np.zeros((self.size, width), np.bool_)
        if self._marks is not None:
            self._marks.reshape(-1)[pairs] = True
        else:
            # Sorting is quicker in 32 bits.
            self._parts.append(distinct(pairs.astype(np.uint32) if slots < 1 << 32 else pairs))

    def _mark(self) -> None:
        """Mark the pairs that are listed, where they are many."""
        if self._marks is None and self.marks_fit(self.size * self.width, sum(map(len, self._parts))):
            self._marks = np.zeros((self.size, self.width), np.bool_)
        if self._marks is not None:
            for part in self._parts:
                self._marks.reshape(-1)[part] = True
            self._parts = []

    def pairs(self) -> Array:
        """The distinct pairs, ascending."""
        if self._marks is not None:
            return np.flatnonzero(self._marks if self._lines is None else self._marks[self._lines])
        if len(self._parts) > 1:
            self._parts = [distinct(np.concatenate(self._parts))]
        return self._parts[0] if self._parts else np.zeros(0, np.int64)

    @property
    def counts(self) -> Array:
        """How many codes each group has."""
        if self._marks is None:
            return np.diff(self._starts(np.arange(self.size)), append=len(self.pairs()))
        if self.width < _WIDE:
            counts = np.asarray(np.count_nonzero(self._marks, axis=1))
            return counts if self._lines is None else counts[self._lines]
        return np.fromiter(map(np.count_nonzero, self._each()), np.int64, self.size)

    def _each(self) -> Iterator[NDArray[np.bool_]]:
        """The marks of each group."""
        assert self._marks is not None
        return iter(self._marks) if self._lines is None else (self._marks[line] for line in self._lines.tolist())

    def _starts(self, groups: Array) -> Array:
        """Where the pairs of groups begin."""
        pairs = self.pairs()
        return np.searchsorted(pairs, (groups * self.width).astype(pairs.dtype))

    @property
    def _bits(self) -> int:
        return max(self.width, 1).bit_length() - 1

    def at(self, present: Which) -> DistinctFold:
        """The fold of just these groups."""
        if isinstance(present, slice):
            present = np.arange(self.size)[present]
        if _all_of(present, self.size):
            return self
        result = DistinctFold(len(present))
        result.width = self.width
        if self._marks is not None:
            result._marks, result._lines = self._marks, present if self._lines is None else self._lines[present]
        elif self.width:
            pairs = self.pairs()
            starts = self._starts(np.arange(self.size))
            counts = np.diff(starts, append=len(pairs))
            owners, positions = spread_ranges(starts[present], counts[present])
            result._take(owners * self.width + pairs[positions] % self.width, self.width)
        return result

    def merge(self, other: DistinctFold) -> None:
        """Take in another fold's groups."""
        if other._marks is None:
            self.width = max(self.width, other.width)
            self._parts += other._parts
            self._mark()
        elif self._marks is not None:
            self._marks |= other._marks
        else:
            self._take(other.pairs(), other.width)

    @classmethod
    def beside(cls, folds: Sequence[DistinctFold]) -> DistinctFold:
        """The groups of several folds, one fold's after another's."""
        result = cls(sum(fold.size for fold in folds))
        width, start = max(fold.width for fold in folds), 0
        for fold in folds:
            if fold.width:
                result._take(fold.pairs().astype(np.int64) + start * width, width)
            start += fold.size
        return result

    def regrouped(self, groups: Array, size: int) -> DistinctFold:
        """The fold of coarser groups."""
        if size == self.size and _all_of(groups, size):
            return self
        result = DistinctFold(size)
        result.width = self.width
        if self._marks is not None and self.width >= _WIDE:
            into = np.zeros((size, self.width), np.bool_)
            for group, marks in zip(groups.tolist(), self._each(), strict=True):
                into[group] |= marks
            result._marks = into
        elif self.width:
            pairs = self.pairs()
            result._take((groups[pairs >> self._bits] << self._bits) + (pairs & (self.width - 1)), self.width)
        return result


def _all_of(groups: Array, size: int) -> bool:
    """Whether groups are all of them, in order."""
    return len(groups) == size and bool((groups == np.arange(size)).all())
