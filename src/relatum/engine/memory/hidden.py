"""Sets of members that a grid leaves out beside the best, one for each combination of outer members."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from relatum.data.columns import Array
from relatum.data.groups import Links, packed_codes, places_of

#: Sets are found by number if there are at most this many combinations for each hidden one.
_SLOTS = 4


@dataclass(frozen=True, eq=False)
class HiddenSets:
    """The hidden members of one field.

    ``keys`` are those of the outer members and, last, of the member; ``codes`` has a row for each hidden combination of
    them, ``sets`` the number of the set of each, and ``sizes`` how many codes each key has.
    """

    keys: tuple[int, ...]
    codes: Array
    sets: Array
    sizes: tuple[int, ...]

    @property
    def outer(self) -> frozenset[int]:
        """The keys of the outer members."""
        return frozenset(self.keys[:-1])

    @cached_property
    def links(self) -> Links:
        """For each member the sets that hold it."""
        return Links.of(self.codes[:, -1], self.sets, self.sizes[-1])

    @cached_property
    def _by_number(self) -> Array | None:
        """The set of each combination of codes, by one number for all of them; None where that are too many."""
        slots = math.prod(self.sizes)
        if slots > _SLOTS * (len(self.codes) + 1):
            return None
        sets = np.full(slots, -1, np.int32 if len(self.codes) < 1 << 31 else np.int64)
        sets[packed_codes(list(self.codes.T), self.sizes)] = self.sets
        return sets

    def sets_of(self, codes: Sequence[Array]) -> Array:
        """For each combination, a column of codes for each key, the set that it is in; -1 where it is in none."""
        if self._by_number is not None:
            return self._by_number[packed_codes(codes, self.sizes)]
        places = places_of(codes, list(self.codes.T), self.sizes)
        return np.append(self.sets, -1)[places]
