"""Aggregates that need all rows of a group at once: distinct counts, medians, deviations, first and last.

Each takes the group of every row and its arguments, as long, and gives a value for each of ``size`` groups.
"""

from __future__ import annotations

import numpy as np

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import FLOAT, INTEGER, Kind, Type

_TABLE_BITS = 1 << 27
_SAFE = 1 << 62


def _known(groups: Array, *columns: Column) -> tuple[Array, list[Column]]:
    """The rows on which all columns have a value."""
    nulls = v.either_null(*columns)
    if nulls is None:
        return groups, list(columns)
    rows = np.flatnonzero(~np.broadcast_to(nulls, len(groups)))
    taken = [column.take(rows) for column in columns]
    return groups[rows], [Column(c.type, c.values, None, c.dictionary, c.lower, c.upper) for c in taken]


def count_distinct(groups: Array, column: Column, size: int) -> Column:
    """How many different values each group has."""
    groups, (column,) = _known(groups, column)
    if column.type.kind is Kind.FLOAT or column.upper - column.lower >= 1 << 31:
        known, codes = np.unique(column.values, return_inverse=True)
        width = len(known)
    else:
        codes, width = column.values.astype(np.int64) - column.lower, column.upper - column.lower + 1
    width = max(width, 1)
    pairs = groups * width + codes
    if size * width <= _TABLE_BITS:
        seen = np.zeros(size * width, np.bool_)
        seen[pairs] = True
        counts: Array = seen.reshape(size, -1).sum(axis=1)
    else:
        pairs.sort()
        fresh = np.ones(len(pairs), np.bool_)
        fresh[1:] = pairs[1:] != pairs[:-1]
        counts = np.bincount(pairs[fresh] // width, minlength=size)
    return Column(INTEGER, counts, None, None, 0, len(groups))


def percentile(groups: Array, column: Column, size: int, fraction: float) -> Column:
    """The value below which a part of each group's values lies.

    Linear interpolation between the two values around position ``fraction * (n - 1)``, counted from 0: definition 7 of
    Hyndman and Fan, "Sample quantiles in statistical packages" (The American Statistician 50, 1996).
    """
    groups, (column,) = _known(groups, column)
    values = v.floats(column)
    order = np.lexsort((values, groups))
    values = values[order]
    counts = np.bincount(groups, minlength=size)
    starts = np.cumsum(counts) - counts
    place = fraction * (counts - 1).clip(min=0)
    below = np.floor(place).astype(np.int64)
    above = np.minimum(below + 1, (counts - 1).clip(min=0))
    if not len(values):
        return Column(FLOAT, np.zeros(size), np.ones(size, np.bool_))
    last = len(values) - 1
    low, high = values[(starts + below).clip(max=last)], values[(starts + above).clip(max=last)]
    part = place - below
    with np.errstate(over="ignore"):
        between = low + (high - low) * part
    # Two values so far apart that their difference is not a finite float are mixed by their shares.
    far = ~np.isfinite(between)
    if far.any():
        between = np.where(far, low * (1 - part) + high * part, between)
    return v.finite(between, counts == 0)


def spread_of(groups: Array, column: Column, size: int, *, root: bool, population: bool) -> Column:
    """Variance or standard deviation (its ``root``) of a sample or a whole population."""
    groups, (column,) = _known(groups, column)
    counts = np.bincount(groups, minlength=size)
    # Deviations from one value of the group and from their mean first, squares after: no difference of two large
    # numbers, and equal values have no spread at all. Whole numbers are subtracted as such: floats past 2**53 are not
    # distinguished.
    if column.type.exact and column.upper - column.lower < _SAFE:
        whole = column.values.astype(np.int64)
        shift = np.zeros(size, np.int64)
        shift[groups] = whole
        whole = whole - shift[groups]
        most, count = max(int(whole.max(initial=0)), -int(whole.min(initial=0))), int(counts.max(initial=0))
        if count * most**2 < v.FLOAT_EXACT and (count * most) ** 2 < _SAFE:
            # Every sum is exact, so the result does not depend on the order of rows: equal spreads are equal.
            sums, squares = (np.bincount(groups, each, size).astype(np.int64) for each in (whole, whole * whole))
            divisor = counts * (counts if population else counts - 1)
            variance = (counts * squares - sums**2) / divisor.clip(min=1) / 10.0 ** (2 * column.type.scale)
            return v.finite(np.sqrt(variance) if root else variance, divisor < 1)
        values = whole / float(10**column.type.scale)
    else:
        values = v.floats(column)
        first = np.zeros(size)
        first[groups] = values
        with np.errstate(over="ignore"):
            values = values - first[groups]
    with np.errstate(over="ignore", invalid="ignore"):
        means = np.bincount(groups, values, size) / counts.clip(min=1)
        squares = np.bincount(groups, (values - means[groups]) ** 2, size)
        divisor = counts if population else counts - 1
        variance = squares / divisor.clip(min=1)
        return v.finite(np.sqrt(variance) if root else variance, divisor < 1)


def edge_by(groups: Array, column: Column, by: Column, size: int, type_: Type, *, last: bool) -> Column:
    """The value on the row of each group where another is smallest, or greatest; ties keep the order of rows."""
    groups, (column, by) = _known(groups, column, by)
    counts = np.bincount(groups, minlength=size)
    order = np.lexsort((by.values, groups))
    stops = np.cumsum(counts)
    position = stops - 1 if last else stops - counts
    missing = counts == 0
    values = (
        column.values[order[position.clip(0, max(len(order) - 1, 0))]]
        if len(order)
        else np.zeros(size, column.values.dtype)
    )
    return Column(type_, values, missing if missing.any() else None, column.dictionary, column.lower, column.upper)
