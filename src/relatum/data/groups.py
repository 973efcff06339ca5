"""Grouping by whole-number codes: which combinations occur, and which pairs of rows have the same ones."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data.columns import Array

#: Above this many possible groups, only those that occur are numbered.
DENSE_GROUPS = 1 << 24
#: Fewer rows than possible groups by this factor are sorted rather than counted into every group.
SPARSE = 16
#: Up to this many possible combinations per row, a table of all of them is used; they are not numbered first.
_FEW = 32
#: So few combinations are looked for one by one, without a table.
_ONE_BY_ONE = 2
_LOOKED_AT = 64


class Links(Struct, frozen=True, eq=False):
    """For each code the numbers that it leads to: ``targets[offsets[code]:offsets[code + 1]]``."""

    offsets: Array
    targets: Array

    @classmethod
    def of(cls, codes: Array, targets: Array, size: int) -> Links:
        """Links from pairs of a code below ``size`` and a target; ``targets`` may have several columns."""
        order = np.argsort(codes, kind="stable")
        counts = np.bincount(codes, minlength=size)
        return cls(np.concatenate(([0], np.cumsum(counts))), targets[order])

    def follow(self, codes: Array) -> tuple[Array, Array]:
        """For each target of each code, the position of the code, and the target."""
        starts = self.offsets[codes]
        owners, positions = spread_ranges(starts, self.offsets[codes + 1] - starts)
        return owners, self.targets[positions]


def distinct(values: Array) -> Array:
    """The distinct numbers among some, ascending: ``np.unique`` without all that it loads when it is first called."""
    ordered = values if ascends(values) else np.sort(values)
    return ordered[run_starts(ordered)]


def marked(codes: Array, size: int) -> NDArray[np.bool_]:
    """Which codes below ``size`` occur."""
    marks = np.zeros(size, np.bool_)
    marks[codes] = True
    return marks


def true_places(table: NDArray[np.bool_]) -> tuple[Array, Array]:
    """The rows and columns where a table is true, row by row: ``np.nonzero`` of two dimensions, sooner."""
    columns = np.flatnonzero(table)
    rows = np.repeat(np.arange(len(table)), np.count_nonzero(table, axis=1))
    columns -= rows * table.shape[1]
    return rows, columns


def spread_ranges(starts: Array, counts: Array, order: Array | None = None) -> tuple[Array, Array]:
    """Ranges written out: for each element the number of its range, and its position (looked up in ``order``).

    Parameters
    ----------
    starts, counts : numpy.ndarray of int, one dimension
        Where each range begins, and how many elements it has; of one length.
    order : numpy.ndarray of int, optional
        Positions that the ranges run over; the positions themselves unless given.

    Returns
    -------
    tuple of two numpy.ndarray of int
        As long as all ranges together.
    """
    owners = np.repeat(np.arange(len(counts)), counts)
    offsets = np.arange(len(owners)) - np.repeat(np.cumsum(counts) - counts, counts)
    positions = np.repeat(starts, counts) + offsets
    return owners, positions if order is None else order[positions]


def joined(
    left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int], counted: Callable[[int], None] | None = None
) -> tuple[Array, Array]:
    """Pairs of positions where all columns of codes agree, ordered by the left position and then the right.

    Parameters
    ----------
    left, right : sequence of numpy.ndarray of int
        Columns of codes, as many on both sides, and at least one.
    sizes : sequence of int
        For each column a number that all of its codes are below.
    counted : callable, optional
        Called with how many pairs there are before they are made; it may refuse them.

    Returns
    -------
    tuple of two numpy.ndarray of int64
        Left and right positions, of one length.
    """
    own, other, groups = _comparable(left, right, sizes)
    counts = np.bincount(other, minlength=groups)
    many = counts[own]
    if counted is not None:
        counted(int(many.sum()))
    starts = np.cumsum(counts) - counts
    return spread_ranges(starts[own], many, None if ascends(other) else np.argsort(other, kind="stable"))


def places_of(wanted: Sequence[Array], among: Sequence[Array], sizes: Sequence[int]) -> Array:
    """For each combination of codes the position of an equal one among others.

    Parameters
    ----------
    wanted, among : sequence of numpy.ndarray of int
        Columns of codes, as many on both sides, and at least one; each side's have one length.
    sizes : sequence of int
        For each column a number that all of its codes are below.

    Returns
    -------
    numpy.ndarray of int32 or int64
        As long as the columns of ``wanted``; -1 where there is no equal combination.
    """
    if len(wanted[0]) <= _ONE_BY_ONE:
        return np.asarray([_place(codes, among) for codes in zip(*wanted, strict=True)], np.int64)
    own, other, groups = _comparable(wanted, among, sizes)
    # Places are looked up all over the table: a narrow one is read sooner.
    type_ = np.int32 if len(other) < 1 << 31 else np.int64
    place = np.full(groups, -1, type_)
    place[other] = np.arange(len(other), dtype=type_)
    return np.asarray(place[own])


def _place(codes: Sequence[int], among: Sequence[Array]) -> int:
    same = np.logical_and.reduce([column == code for column, code in zip(among, codes, strict=True)])
    place = int(same.argmax()) if len(same) else 0
    return place if place < len(same) and same[place] else -1


def _comparable(left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int]) -> tuple[Array, Array, int]:
    """A number for each combination of codes, for the rows of both sides, and one that all are below."""
    slots = math.prod(sizes)
    rows = len(left[0]) + len(right[0])
    if slots <= _FEW * rows:
        return packed_codes(left, sizes), packed_codes(right, sizes), slots
    every = [np.concatenate([one, other]) for one, other in zip(left, right, strict=True)]
    distinct, numbers = number_groups(every, sizes, rows)
    return numbers[: len(left[0])], numbers[len(left[0]) :], len(distinct)


def packed_codes(keys: Sequence[Array], sizes: Sequence[int]) -> Array:
    """One number for each combination of codes; in their order."""
    packed = keys[0].astype(np.int64, copy=False)
    for codes, size in zip(keys[1:], sizes[1:], strict=True):
        packed = packed * size + codes
    return packed


def number_groups(keys: Sequence[Array], sizes: Sequence[int], rows: int) -> tuple[Array, Array]:
    """The distinct combinations of codes that occur, in order, and for each row the number of its combination.

    Parameters
    ----------
    keys : sequence of arrays of int, each of length ``rows``
        Codes, each below its size.
    sizes : sequence of int
        How many codes each key can have.
    rows : int
        How many rows there are.

    Returns
    -------
    tuple of array and array
        The combinations, shape (combinations, keys), ordered by the first key, then the next; and the number of each
        row's combination.
    """
    if not keys:
        return np.zeros((1 if rows else 0, 0), np.int64), np.zeros(rows, np.int64)
    packed, slots, whole = keys[0].astype(np.int64, copy=False), sizes[0], True
    for codes, size in zip(keys[1:], sizes[1:], strict=True):
        if slots * size > DENSE_GROUPS:
            # A key such as an order's number settles its date and customer: they make no finer groups.
            _, packed, slots = _numbered(packed, slots)
            whole = False
            if _determined(packed, slots, codes):
                continue
        if slots * size >= 1 << 62:
            _, packed, slots = _numbered(packed, slots)
        packed, slots = packed * size + codes, slots * size
    if ascends(packed, strictly=True):
        return np.stack([codes.astype(np.int64, copy=False) for codes in keys]).T, np.arange(rows)
    present, groups, count = _numbered(packed, slots)
    if whole:
        return _unpacked(present, sizes), groups
    example = np.zeros(count, np.int64)
    example[groups] = np.arange(rows)
    return np.stack([codes[example].astype(np.int64) for codes in keys]).T, groups


def _unpacked(packed: Array, sizes: Sequence[int]) -> Array:
    """The combinations of codes that packed numbers stand for."""
    codes = np.empty((len(sizes), len(packed)), np.int64)
    unpack(packed, sizes, codes)
    return codes.T


def unpack(packed: Array, sizes: Sequence[int], codes: Array) -> None:
    """Write the combinations of codes that packed numbers stand for, a line for each key."""
    rest = packed
    for at in range(len(sizes) - 1, 0, -1):
        # NumPy divides by one number many times as fast as it finds remainders.
        more = rest // sizes[at]
        codes[at] = rest - more * sizes[at]
        rest = more
    codes[:1] = rest


def are_ordered(keys: Sequence[Array]) -> bool:
    """Whether rows come in the order of the first key, then the next: sorting what is sorted takes as long as sorting.

    Parameters
    ----------
    keys : sequence of numpy.ndarray of numbers
        All of one length.
    """
    tied: Array | bool = True
    for key in keys:
        before, after = key[:-1], key[1:]
        if ((before > after) & tied).any():
            return False
        tied = (before == after) & tied
    return True


def in_order(keys: Sequence[Array], sizes: Sequence[int], rows: int) -> Array:
    """The rows ordered by the first key, then the next; equal rows keep their order."""
    distinct, numbers = number_groups(keys, sizes, rows)
    if len(distinct) < rows:
        return np.argsort(numbers, kind="stable")
    order = np.empty(rows, np.int64)
    order[numbers] = np.arange(rows)
    return order


def _numbered(packed: Array, slots: int) -> tuple[Array, Array, int]:
    """The distinct numbers below ``slots`` in order, the place of each given one among them, and how many there are."""
    rows = len(packed)
    if ascends(packed):
        starts = run_starts(packed)
        groups = np.arange(rows)
        if len(starts) < rows:
            groups = np.repeat(np.arange(len(starts)), np.diff(starts, append=rows))
        return packed[starts], groups, len(starts)
    if slots <= min(DENSE_GROUPS, SPARSE * rows) or slots <= 4 * rows:
        present = np.flatnonzero(marked(packed, slots))
        # Numbers are looked up all over the table: narrow ones are read sooner.
        number = np.zeros(slots, np.int32 if slots < 1 << 31 else np.int64)
        number[present] = np.arange(len(present), dtype=number.dtype)
        return present, number[packed].astype(np.int64), len(present)
    present, groups = np.unique(packed, return_inverse=True)
    return present, groups, len(present)


def ascends(numbers: Array, *, strictly: bool = False) -> bool:
    """Whether no number is below the one before it, or each is above it; what is not mostly shows at its start."""
    few, follows = numbers[:_LOOKED_AT], np.greater if strictly else np.greater_equal
    return bool(follows(few[1:], few[:-1]).all()) and bool(follows(numbers[1:], numbers[:-1]).all())


def run_starts(numbers: Array) -> Array:
    """Where a number differs from the one before it, and the start."""
    fresh = np.ones(len(numbers), np.bool_)
    np.not_equal(numbers[1:], numbers[:-1], out=fresh[1:])
    return np.flatnonzero(fresh)


def as_stretch(positions: Array) -> slice | Array:
    """Ascending positions as what picks them out: of a stretch without gaps a slice, of which nothing is copied."""
    whole = len(positions) > 0 and int(positions[-1] - positions[0]) == len(positions) - 1
    return slice(int(positions[0]), int(positions[-1]) + 1) if whole else positions


def _determined(groups: Array, count: int, codes: Array) -> bool:
    """Whether all rows of a group have the same code."""
    one = np.zeros(count, codes.dtype)
    one[groups] = codes
    return bool(np.array_equal(one[groups], codes))
