"""Groups of rows with their folds, and how groups are rolled up, led on to other codes, and selected."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data.columns import Array, Column
from relatum.data.groups import Links, number_groups, spread_ranges
from relatum.engine.memory.folds import Fold


class Groups(Struct, frozen=True, eq=False):
    """Groups of rows: a code of each scanned column for each group, folds, and for kept rows the group of each.

    ``columns`` are the kept rows' arguments.
    """

    codes: list[Array]
    sizes: list[int]
    folds: list[Fold]
    rows: Array | None
    columns: list[Column]

    @property
    def count(self) -> int:
        """How many groups there are."""
        return len(self.folds[0].counts)  # type: ignore[union-attr]

    def rolled_up(self, wanted: list[int]) -> Groups:
        """The coarser groups of just these columns."""
        codes = [self.codes[at] for at in wanted]
        sizes = [self.sizes[at] for at in wanted]
        if wanted == list(range(len(self.codes))):
            return self
        distinct, numbers = number_groups(codes, sizes, self.count)
        folds = [fold.regrouped(numbers, len(distinct)) for fold in self.folds]
        rows = None if self.rows is None else numbers[self.rows]
        return Groups([distinct[:, at] for at in range(len(wanted))], sizes, folds, rows, self.columns)

    def ordered(self, wanted: Sequence[int]) -> Groups:
        """The same groups with their columns in this order; one may be wanted twice or not at all; no groups merge."""
        codes, sizes = [self.codes[at] for at in wanted], [self.sizes[at] for at in wanted]
        return Groups(codes, sizes, self.folds, self.rows, self.columns)

    def at(self, groups: Array) -> Groups:
        """These groups, one of them possibly several times; rows are repeated with their group."""
        folds = [fold.at(groups) for fold in self.folds]
        codes = [own[groups] for own in self.codes]
        if self.rows is None:
            return Groups(codes, self.sizes, folds, None, self.columns)
        order = np.argsort(self.rows, kind="stable")
        counts = np.bincount(self.rows, minlength=self.count)
        starts = np.cumsum(counts) - counts
        owners, positions = spread_ranges(starts[groups], counts[groups], order)
        # Rows stay in the order of their table, which settles ties.
        in_order = np.argsort(positions, kind="stable")
        owners, positions = owners[in_order], positions[in_order]
        columns = [column.take(positions) for column in self.columns]
        return Groups(codes, self.sizes, folds, owners, columns)

    def led_on(self, at: int, links: Links, sizes: list[int]) -> Groups:
        """The groups with one column's codes replaced by the codes that they lead to."""
        owners, targets = links.follow(self.codes[at])
        found = self.at(owners)
        new = [targets] if targets.ndim == 1 else [targets[:, number] for number in range(targets.shape[1])]
        codes = [*found.codes[:at], *new, *found.codes[at + 1 :]]
        all_sizes = [*self.sizes[:at], *sizes, *self.sizes[at + 1 :]]
        wide = Groups(codes, all_sizes, found.folds, found.rows, found.columns)
        return wide.merged()

    def recoded(self, at: int, codes: Array, size: int) -> Groups:
        """The groups with other codes in one column; those whose code is below zero are left out."""
        kept = np.flatnonzero(codes >= 0)
        found = self if len(kept) == self.count else self.at(kept)
        own = [*found.codes[:at], codes[kept], *found.codes[at + 1 :]]
        sizes = [*self.sizes[:at], size, *self.sizes[at + 1 :]]
        return Groups(own, sizes, found.folds, found.rows, found.columns).merged()

    def merged(self) -> Groups:
        """The groups with those of equal codes put together."""
        distinct, numbers = number_groups(self.codes, self.sizes, self.count)
        folds = [fold.regrouped(numbers, len(distinct)) for fold in self.folds]
        rows = None if self.rows is None else numbers[self.rows]
        return Groups([distinct[:, at] for at in range(len(self.codes))], self.sizes, folds, rows, self.columns)

    def selected(self, mask: NDArray[np.bool_]) -> Groups:
        """Just the groups that are marked."""
        return self.at(np.flatnonzero(mask))

    def without(self, at: int) -> Groups:
        """The groups without one column, those of equal other codes put together."""
        return self.rolled_up([number for number in range(len(self.codes)) if number != at])

    def at_edge(self, at: int, extra: range, last: bool) -> Groups:
        """The groups with the first or last real value of a column among those of equal cells; without that column.

        Cells are what the columns before it hold, but for the ``extra`` ones.
        """
        others = [number for number in range(at) if number not in extra]
        codes = self.codes[at]
        real = codes < self.sizes[at] - 2
        _, numbers = number_groups([self.codes[own] for own in others], [self.sizes[own] for own in others], self.count)
        best = np.full(int(numbers.max(initial=-1)) + 1, -1 if last else self.sizes[at], np.int64)
        (np.maximum if last else np.minimum).at(best, numbers[real], codes[real])
        return self.selected(real & (codes == best[numbers])).without(at)
