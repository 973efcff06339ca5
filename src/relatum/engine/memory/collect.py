"""Aggregates that need all rows of a group at once: distinct counts, medians, deviations, first and last."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import FLOAT, INTEGER, Kind, Type

_TABLE_BITS = 1 << 27


def collected(function: str, groups: Array, columns: list[Column], size: int, fraction: float, type_: Type) -> Column:
    """The value of an aggregate for each of ``size`` groups.

    Parameters
    ----------
    function : str
        ``distinct``, ``median``, ``percentile``, ``stddev``, ``variance``, ``stddev_pop``, ``variance_pop``,
        ``first`` or ``last``.
    groups : array of int
        The group of each row.
    columns : list of Column
        The arguments for each row.
    size : int
        How many groups there are; every one has a row.
    fraction : float
        The part that ``percentile`` looks for.
    """
    has_value = v.either_null(*columns)
    if has_value is not None:
        has_value = ~np.broadcast_to(has_value, len(groups))
        groups = groups[has_value]
        columns = [_without_nulls(v.spread(column, len(has_value)), has_value) for column in columns]
    else:
        columns = [v.spread(column, len(groups)) for column in columns]
    if function == "distinct":
        return Column(INTEGER, _distinct(groups, columns[0], size), None, None, 0, len(groups))
    if function in ("first", "last"):
        return _by_order(function, groups, columns[0], columns[1], size, type_)
    values = v.floats(columns[0])
    if function == "median":
        return _percentile(groups, values, size, 0.5)
    if function == "percentile":
        return _percentile(groups, values, size, fraction)
    return _spread_of(function, groups, values, size)


def _without_nulls(column: Column, has_value: NDArray[np.bool_]) -> Column:
    return Column(column.type, column.values[has_value], None, column.dictionary, column.lower, column.upper)


def _distinct(groups: Array, column: Column, size: int) -> Array:
    if column.type.kind is Kind.FLOAT or column.upper - column.lower >= 1 << 31:
        known, codes = np.unique(column.values, return_inverse=True)
        width = len(known)
    else:
        codes, width = column.values.astype(np.int64) - column.lower, column.upper - column.lower + 1
    pairs = groups * max(width, 1) + codes
    if size * width <= _TABLE_BITS:
        seen = np.zeros(size * max(width, 1), np.bool_)
        seen[pairs] = True
        result: Array = seen.reshape(size, -1).sum(axis=1)
        return result
    pairs.sort()
    fresh = np.ones(len(pairs), np.bool_)
    fresh[1:] = pairs[1:] != pairs[:-1]
    return np.bincount(pairs[fresh] // width, minlength=size)


def _percentile(groups: Array, values: Array, size: int, fraction: float) -> Column:
    # Linear interpolation between the two values around position fraction * (n - 1), counted from 0.
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
    return v.finite(low + (high - low) * (place - below), counts == 0)


def _spread_of(function: str, groups: Array, values: Array, size: int) -> Column:
    counts = np.bincount(groups, minlength=size)
    # Deviations from one value of the group and from their mean first, squares after: no difference of two large
    # numbers, and equal values have no spread at all.
    shift = np.zeros(size)
    shift[groups] = values
    values = values - shift[groups]
    means = np.bincount(groups, values, size) / counts.clip(min=1)
    squares = np.bincount(groups, (values - means[groups]) ** 2, size)
    divisor = counts if function.endswith("_pop") else counts - 1
    variance = squares / divisor.clip(min=1)
    result = np.sqrt(variance) if function.startswith("stddev") else variance
    return v.finite(result, divisor < 1)


def _by_order(function: str, groups: Array, column: Column, by: Column, size: int, type_: Type) -> Column:
    counts = np.bincount(groups, minlength=size)
    order = np.lexsort((by.values, groups))  # stable: ties keep the order of rows
    stops = np.cumsum(counts)
    position = stops - counts if function == "first" else stops - 1
    missing = counts == 0
    values = (
        column.values[order[position.clip(0, max(len(order) - 1, 0))]]
        if len(order)
        else np.zeros(size, column.values.dtype)
    )
    return Column(type_, values, missing if missing.any() else None, column.dictionary, column.lower, column.upper)
