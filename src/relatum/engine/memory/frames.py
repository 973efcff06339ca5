"""Frames: lists of cells, each a combination of members or rows of some keys."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from relatum.data.columns import Array, Column

#: Above this many possible groups, only those that occur are numbered.
DENSE_GROUPS = 1 << 24
#: Fewer rows than possible groups by this factor are sorted rather than counted into every group.
SPARSE = 16


@dataclass(frozen=True, slots=True, eq=False)
class Frame:
    """Cells: a code of each key for each, and the values that ``let`` has named for them."""

    size: int
    codes: Mapping[int, Array]
    names: Mapping[int, Column] = field(default_factory=dict)

    def project(self, keys: Iterable[int], sizes: Mapping[int, int]) -> tuple[Frame, Array | None]:
        """The distinct cells by some of the keys, and for each cell of this frame the number of its distinct one."""
        kept = sorted(key for key in keys if key in self.codes)
        if len(kept) == len(self.codes):
            return self, None
        codes, numbers = number_groups([self.codes[key] for key in kept], [sizes[key] for key in kept], self.size)
        return Frame(len(codes), {key: codes[:, at] for at, key in enumerate(kept)}), numbers

    def expanded(self, parents: Array, codes: Mapping[int, Array]) -> Frame:
        """Finer cells: ``parents`` are the cells that they come from, ``codes`` those of the new keys."""
        taken = {key: own[parents] for key, own in self.codes.items()}
        names = {number: column.take(parents) for number, column in self.names.items()}
        return Frame(len(parents), {**taken, **codes}, names)

    def named(self, names: Mapping[int, Column]) -> Frame:
        """The same cells with more named values."""
        return Frame(self.size, self.codes, {**self.names, **names})


def joined(left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int]) -> tuple[Array, Array]:
    """Pairs of positions where all columns of codes agree, ordered by the left position and then the right.

    Without columns everything agrees with everything.
    """
    left_size = len(left[0]) if left else 0
    every = [np.concatenate([one, other]) for one, other in zip(left, right, strict=True)]
    _, numbers = number_groups(every, sizes, len(every[0]))
    own, other = numbers[:left_size], numbers[left_size:]
    order = np.argsort(other, kind="stable")
    groups = int(numbers.max(initial=-1)) + 1
    counts = np.bincount(other, minlength=groups)
    starts = np.cumsum(counts) - counts
    return spread_ranges(starts[own], counts[own], order)


def spread_ranges(starts: Array, counts: Array, order: Array | None = None) -> tuple[Array, Array]:
    """Ranges written out: for each element the number of its range, and its position (looked up in ``order``)."""
    owners = np.repeat(np.arange(len(counts)), counts)
    offsets = np.arange(len(owners)) - np.repeat(np.cumsum(counts) - counts, counts)
    positions = np.repeat(starts, counts) + offsets
    return owners, positions if order is None else order[positions]


@dataclass(frozen=True, slots=True, eq=False)
class Links:
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


def number_groups(keys: Sequence[Array], sizes: Sequence[int], rows: int) -> tuple[Array, Array]:
    """The distinct combinations of codes that occur, in order, and for each row the number of its combination."""
    if not keys:
        return np.zeros((1 if rows else 0, 0), np.int64), np.zeros(rows, np.int64)
    packed, slots = keys[0].astype(np.int64), sizes[0]
    for codes, size in zip(keys[1:], sizes[1:], strict=True):
        if slots * size >= 1 << 62:
            distinct, packed = np.unique(packed, return_inverse=True)
            slots = len(distinct)
        packed, slots = packed * size + codes, slots * size
    if slots <= min(DENSE_GROUPS, SPARSE * rows) or slots <= 4 * rows:
        seen = np.zeros(slots, np.bool_)
        seen[packed] = True
        present = np.flatnonzero(seen)
        number = np.zeros(slots, np.int64)
        number[present] = np.arange(len(present))
        groups = number[packed]
    else:
        present, groups = np.unique(packed, return_inverse=True)
    example = np.zeros(len(present), np.int64)
    example[groups] = np.arange(rows)
    return np.stack([codes[example].astype(np.int64) for codes in keys], axis=1), groups
