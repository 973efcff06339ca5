"""Inner cells: how many there may be."""

from __future__ import annotations

from collections.abc import Sequence

from relatum.data.columns import Array
from relatum.data.groups import joined
from relatum.runtime.limits import refuse_above, refuse_late, refuse_memory

#: The bytes that a member needs while its formulas are computed: codes, row numbers, values.
_MEMBER_BYTES = 40


def refuse_many(count: int) -> None:
    """Raise a LimitError for more inner cells than may be computed at once."""
    refuse_late()
    said = f"A formula would be evaluated for {count:,} members"
    refuse_above("members", count, said, "Use a coarser grain, or filter first.")
    refuse_memory(_MEMBER_BYTES * count, f"Work on {count:,} members")


def pairs_of(left: Sequence[Array], right: Sequence[Array], sizes: Sequence[int]) -> tuple[Array, Array]:
    """Pairs of positions where all columns of codes agree; refused where there are too many."""
    return joined(left, right, sizes, refuse_many)
