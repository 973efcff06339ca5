"""Values of groups brought to cells, and vectors with the bounds of their values."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from relatum.data.columns import Array, Column
from relatum.data.groups import places_of
from relatum.engine.memory.aggregates import null_column


def aligned(groups: list[Array], cells: list[Array], sizes: Sequence[int], values: Column, size: int) -> Column:
    """A value for each cell; null for cells without such a group."""
    if not cells:
        place = np.zeros(size, np.int64) if len(values) else np.full(size, -1, np.int64)
        return taken_at(values, place)
    if len(values) == size and all(map(np.array_equal, cells, groups)):
        return values
    return taken_at(values, places_of(cells, groups, sizes))


def taken_at(values: Column, place: Array) -> Column:
    """The values at positions, null where a position is below zero."""
    missing = place < 0
    if not len(values):
        return null_column(values.type, len(place))
    if not missing.any():
        return values.take(place)
    taken = values.take(np.where(missing, 0, place))
    return replace(taken, nulls=missing if taken.nulls is None else taken.nulls | missing)


def with_bounds(column: Column) -> Column:
    """A vector with the bounds of its values, so that arithmetic on it knows whether 64 bits suffice."""
    if not column.type.exact or not column.values.ndim or not len(column):
        return column
    known = column.values if column.nulls is None else column.values[~column.nulls]
    lower, upper = (int(known.min()), int(known.max())) if len(known) else (0, 0)
    values = column.values if column.nulls is None else np.where(column.nulls, lower, column.values)
    return Column(column.type, values, column.nulls, None, lower, upper)
