"""Numbers brought to fewer digits: rounding half away from zero, floor and ceiling, exact where numbers are."""

from __future__ import annotations

from collections.abc import Callable
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import numpy as np

from relatum.data import vectors as v
from relatum.data.columns import Array, Column, exact_column
from relatum.data.digits import exactly
from relatum.data.types import Kind, Type
from relatum.errors import ValueOverflowError


def refuse_where(wrong: Any, nulls: v.Nulls) -> None:
    """Raise an overflow where a result does not fit; placeholders of nulls do not count."""
    if np.any(wrong if nulls is None else wrong & ~nulls):
        raise ValueOverflowError.of_result()


def _to_unit(column: Column, digits: int, step: int, type_: Type, quotient: Callable[[Array, int], Array]) -> Column:
    """Whole numbers brought to multiples of ten to the ``digits``, each then written in steps of ``step``."""
    quotients = quotient(column.values.astype(np.int64), digits)
    reach = max(abs(column.lower), abs(column.upper)) // 10**digits + 1
    count = Column(type_, np.asarray(quotients), column.nulls, None, -reach, reach)
    return v.exact("multiply", type_, count, Column(type_, np.asarray(step), None, None, step, step), column.nulls)


def _half_away(values: Array, digits: int) -> Array:
    if digits > 19:
        return np.zeros_like(values)
    if digits == 19:  # ten to the 19 is more than 64 bits hold, its half is not
        half = 5 * 10**18
        return np.asarray(np.where(values >= half, 1, np.where(values <= -half, -1, 0)))
    unit = 10**digits
    whole, rest = np.floor_divide(values, unit), np.remainder(values, unit)
    # Towards minus infinity first, with a rest from 0 on: a half goes up above zero and down below.
    return np.asarray(whole + np.where(values < 0, rest > unit - rest, rest >= unit - rest))


def _floor_to(values: Array, digits: int) -> Array:
    return np.asarray(np.floor_divide(values, 10**digits))


def _ceil_to(values: Array, digits: int) -> Array:
    unit = 10**digits
    return np.asarray(np.floor_divide(values, unit) + (np.remainder(values, unit) > 0))


def _whole_floats(values: Array, nulls: v.Nulls, type_: Type) -> Column:
    """Floats without a fraction as whole numbers; one that 64 bits do not hold is an overflow."""
    refuse_where((values >= 2.0**63) | (values < -(2.0**63)), nulls)
    with np.errstate(invalid="ignore"):
        whole = np.asarray(np.where(np.abs(values) < 2.0**63, values, 0.0 if nulls is not None else values))
        return bounded(type_, whole.astype(np.int64), nulls)


def bounded(type_: Type, values: Array, nulls: v.Nulls) -> Column:
    """Whole numbers as a vector with their bounds."""
    if values.ndim == 0:
        return Column(type_, values, nulls, None, int(values), int(values))
    return exact_column(type_, values, None if nulls is None else np.broadcast_to(nulls, values.shape))


def rounded(arguments: list[Column], type_: Type) -> Column:
    """Numbers rounded half away from zero to a number of digits, 0 unless given."""
    column = arguments[0]
    digits = int(arguments[1].values) if len(arguments) == 2 else 0
    if column.type.kind is Kind.FLOAT:
        rounded = rounded_floats(v.floats(column), digits)
        if type_.kind is Kind.FLOAT:
            return v.finite(rounded, column.nulls)
        return _whole_floats(rounded, column.nulls, type_)
    if digits >= column.type.scale:
        return Column(type_, column.values, column.nulls, None, column.lower, column.upper)
    step = 10 ** -min(digits, 0)
    if column.type.scale - digits > 19:
        return Column(type_, np.zeros_like(column.values), column.nulls, None, 0, 0)
    return _to_unit(column, column.type.scale - digits, step, type_, _half_away)


def rounded_floats(values: Array, digits: int) -> Array:
    """Floats rounded half away from zero, each as its shortest decimal reads.

    Half way lies the decimal that ends in 5: the float nearest to it is rounded as that decimal, not as the float,
    which may be a little less.
    """
    size = np.abs(values)
    with np.errstate(all="ignore"):
        if digits >= 0:
            unit = 10.0 ** min(digits, 308)
            low = np.floor(size * unit)
            half = (2 * low + 1) / (2 * unit)
            rounded = np.where(size >= half, low + 1, low) / unit
            # So far apart are large floats that the one half way may be the nearest to another decimal too.
            unsure = (size == half) & (np.spacing(size) * unit > 1e-2) & (low < 2.0**53)
            if np.any(unsure):
                rounded = np.array(rounded)
                rounded[unsure] = [_shortest(value, digits) for value in np.atleast_1d(size[unsure]).tolist()]
        else:
            unit = 10.0 ** min(-digits, 308)
            low = np.floor(size / unit)
            rounded = np.where(size >= (2 * low + 1) * (unit / 2), low + 1, low) * unit
        # Past 2**53 a float has no fraction, and a product that is too large no meaning.
        kept = ~np.isfinite(low) | (low >= 2.0**53)
        return np.asarray(np.sign(values) * np.where(kept, size, rounded))


def _shortest(value: float, digits: int) -> float:
    """A float rounded as its shortest decimal reads."""
    with exactly():
        return float(Decimal(repr(value)).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP))


def floor(arguments: list[Column], type_: Type) -> Column:
    """The greatest whole numbers not above."""
    (column,) = arguments
    if column.type.kind is Kind.FLOAT:
        return _whole_floats(np.floor(column.values), column.nulls, type_)
    return _to_unit(column, column.type.scale, 1, type_, _floor_to)


def ceil(arguments: list[Column], type_: Type) -> Column:
    """The least whole numbers not below."""
    (column,) = arguments
    if column.type.kind is Kind.FLOAT:
        return _whole_floats(np.ceil(column.values), column.nulls, type_)
    return _to_unit(column, column.type.scale, 1, type_, _ceil_to)
