"""Frames: lists of cells, each a combination of members or rows of some keys."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
from msgspec import Struct, field

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.groups import number_groups


class Frame(Struct, frozen=True, eq=False):
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


def same_cells(one: Frame, other: Frame, names: Iterable[int]) -> bool:
    """Whether two frames have the same cells, and the same values of these names."""
    return (
        one.size == other.size
        and one.codes.keys() == other.codes.keys()
        and all(np.array_equal(codes, other.codes[key]) for key, codes in one.codes.items())
        and all(_same_values(one.names[name], other.names[name]) for name in names)
    )


def _same_values(one: Column, other: Column) -> bool:
    if one is other:
        return True
    if one.dictionary is not other.dictionary or not np.array_equal(one.values, other.values):
        return False
    return np.array_equal(v.known(one) & np.ones(len(one), np.bool_), v.known(other) & np.ones(len(other), np.bool_))


def frame_at(frame: Frame, cells: Array) -> Frame:
    """Some of a frame's cells, with their named values."""
    codes = {key: own[cells] for key, own in frame.codes.items()}
    return Frame(len(cells), codes, {number: column.take(cells) for number, column in frame.names.items()})
