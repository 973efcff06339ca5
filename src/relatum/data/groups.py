"""Grouping by whole-number codes: which combinations occur, and which pairs of rows have the same ones."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from relatum.data.columns import Array

#: Above this many possible groups, only those that occur are numbered.
DENSE_GROUPS = 1 << 24
#: Fewer rows than possible groups by this factor are sorted rather than counted into every group.
SPARSE = 16


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
    ordered = np.sort(values)
    if not len(ordered):
        return ordered
    return ordered[np.concatenate(([True], ordered[1:] != ordered[:-1]))]


def spread_ranges(starts: Array, counts: Array, order: Array | None = None) -> tuple[Array, Array]:
    """Ranges written out: for each element the number of its range, and its position (looked up in ``order``)."""
    owners = np.repeat(np.arange(len(counts)), counts)
    offsets = np.arange(len(owners)) - np.repeat(np.cumsum(counts) - counts, counts)
    positions = np.repeat(starts, counts) + offsets
    return owners, positions if order is None else order[positions]


def pair_count(left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int]) -> int:
    """How many pairs :func:`joined` would give."""
    own, other, groups = _numbers_of(left, right, sizes)
    return int(np.bincount(other, minlength=groups)[own].sum())


def _numbers_of(left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int]) -> tuple[Array, Array, int]:
    """A number for each combination of codes, for the rows of both sides."""
    left_size = len(left[0]) if left else 0
    every = [np.concatenate([one, other]) for one, other in zip(left, right, strict=True)]
    _, numbers = number_groups(every, sizes, len(every[0]))
    return numbers[:left_size], numbers[left_size:], int(numbers.max(initial=-1)) + 1


def joined(left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int]) -> tuple[Array, Array]:
    """Pairs of positions where all columns of codes agree, ordered by the left position and then the right.

    Parameters
    ----------
    left, right : sequence of numpy.ndarray of int
        Columns of codes, as many on both sides. Without columns everything agrees with everything.
    sizes : sequence of int
        For each column a number that all of its codes are below.

    Returns
    -------
    tuple of two numpy.ndarray of int64
        Left and right positions, of one length.
    """
    own, other, groups = _numbers_of(left, right, sizes)
    order = np.argsort(other, kind="stable")
    counts = np.bincount(other, minlength=groups)
    starts = np.cumsum(counts) - counts
    return spread_ranges(starts[own], counts[own], order)


def places_of(wanted: Sequence[Array], among: Sequence[Array], sizes: Sequence[int]) -> Array:
    """For each combination of codes the position of an equal one among others.

    Parameters
    ----------
    wanted, among : sequence of numpy.ndarray of int
        Columns of codes, as many on both sides; each side's have one length.
    sizes : sequence of int
        For each column a number that all of its codes are below.

    Returns
    -------
    numpy.ndarray of int64
        As long as the columns of ``wanted``; -1 where there is no equal combination.
    """
    own, other, groups = _numbers_of(wanted, among, sizes)
    place = np.full(groups, -1, np.int64)
    place[other] = np.arange(len(other))
    return np.asarray(place[own])


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
    packed, slots = keys[0].astype(np.int64), sizes[0]
    for codes, size in zip(keys[1:], sizes[1:], strict=True):
        if slots * size > DENSE_GROUPS:
            # A key such as an order's number settles its date and customer: they make no finer groups.
            _, packed, slots = _numbered(packed, slots)
            if _determined(packed, slots, codes):
                continue
        if slots * size >= 1 << 62:
            _, packed, slots = _numbered(packed, slots)
        packed, slots = packed * size + codes, slots * size
    groups, count = _numbered(packed, slots)[1:]
    example = np.zeros(count, np.int64)
    example[groups] = np.arange(rows)
    return np.stack([codes[example].astype(np.int64) for codes in keys], axis=1), groups


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
    if slots <= min(DENSE_GROUPS, SPARSE * rows) or slots <= 4 * rows:
        seen = np.zeros(slots, np.bool_)
        seen[packed] = True
        present = np.flatnonzero(seen)
        number = np.zeros(slots, np.int64)
        number[present] = np.arange(len(present))
        return present, number[packed], len(present)
    present, groups = np.unique(packed, return_inverse=True)
    return present, groups, len(present)


def _determined(groups: Array, count: int, codes: Array) -> bool:
    """Whether all rows of a group have the same code."""
    one = np.zeros(count, codes.dtype)
    one[groups] = codes
    return bool(np.array_equal(one[groups], codes))
