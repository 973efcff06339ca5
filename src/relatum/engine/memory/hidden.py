"""Sets of members that a grid leaves out beside the best, one for each combination of outer members."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from relatum.data.columns import Array
from relatum.data.groups import Links, places_of


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

    def sets_of(self, codes: Sequence[Array]) -> Array:
        """For each combination, a column of codes for each key, the set that it is in; -1 where it is in none."""
        places = places_of(codes, list(self.codes.T), self.sizes)
        return np.append(self.sets, -1)[places]
