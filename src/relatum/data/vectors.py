"""Helpers for vectors of any length: a vector is a Column, a constant one has no dimensions."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from typing import Any, Literal, assert_never

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data.buffers import texts_array
from relatum.data.columns import Array, Column, float_column
from relatum.data.days import MICROSECONDS_A_DAY
from relatum.data.sorting import sorted_texts
from relatum.data.types import BOOLEAN, FLOAT, Kind, Type
from relatum.errors import ValueOverflowError
from relatum.runtime.limits import refuse_stopped
from relatum.runtime.threads import shared_each

Nulls = NDArray[np.bool_] | None
LOWEST, HIGHEST = -(1 << 63), (1 << 63) - 1
_INT32_LOWEST, _INT32_HIGHEST = -(1 << 31), (1 << 31) - 1
#: So many rows are worked out at once by :func:`by_blocks`.
_BLOCK = 1 << 17
#: Up to here whole numbers are floats exactly, and next to each other.
FLOAT_EXACT = 1 << 53


def all_null(type_: Type) -> Column:
    """A vector without dimensions that has no value."""
    dictionary = texts_array([""]) if type_.kind is Kind.TEXT else None
    kind = {Kind.FLOAT: np.float64, Kind.BOOLEAN: np.bool_}.get(type_.kind, np.int64)
    return Column(type_, np.zeros((), kind), np.asarray(True), dictionary, 0, 0)


def spread(column: Column, length: int) -> Column:
    """A vector of the given length; a constant is repeated.

    Parameters
    ----------
    column : Column
        A vector of that length, or a constant of length 1.
    length : int
        The number of rows.
    """
    if column.values.ndim:
        return column
    nulls = None if column.nulls is None else np.broadcast_to(column.nulls, length)
    return Column(
        column.type, np.broadcast_to(column.values, length), nulls, column.dictionary, column.lower, column.upper
    )


def either_null(*columns: Column) -> Nulls:
    """Where any of the vectors has no value.

    Parameters
    ----------
    *columns : Column
        Vectors of one length, or constants of length 1.

    Returns
    -------
    numpy.ndarray of bool, or None
        None where every one has a value throughout.
    """
    result: Nulls = None
    for column in columns:
        if column.nulls is not None:
            result = column.nulls if result is None else result | column.nulls
    return result


def known(column: Column) -> Any:
    """Where a vector has a value, as an array or plain True."""
    return True if column.nulls is None else ~column.nulls


def there(column: Column) -> NDArray[np.bool_]:
    """Where a vector has a value, for each of its rows."""
    return np.ones(column.values.shape, np.bool_) if column.nulls is None else ~column.nulls


def sort_keys(column: Column, descending: bool) -> tuple[Array, NDArray[np.bool_]]:
    """Whole numbers that sort as the values do, ascending, and which values are null: null comes last either way."""
    known = there(column)
    _, places = np.unique(column.values, return_inverse=True)
    return np.where(known, -places if descending else places, 0), ~known


def plain(column: Column) -> Any:
    """The values; a constant as a Python number, which NumPy compares and adds without widening the other side."""
    return column.values if column.values.ndim else column.values.item()


def floats(column: Column) -> Array:
    """The values in 64-bit floats."""
    if column.type.kind is Kind.DECIMAL:
        result: Array = column.values / float(10**column.type.scale)
        return result
    return column.values.astype(np.float64, copy=False)


def float_sum(values: Iterable[float]) -> float:
    """The sum of floats, rounded once; infinite where it, or a part of it, is too large for a float."""
    try:
        return math.fsum(values)
    except OverflowError:
        return math.inf


def finite(values: Array, nulls: Nulls) -> Column:
    """A float vector; infinities and NaN become null."""
    values = np.asarray(values, dtype=np.float64)
    if values.ndim == 0:
        bad = not np.isfinite(values)
        nulls = np.asarray(True) if bad else nulls
        return Column(FLOAT, np.zeros(()) if bad else values, nulls)
    return float_column(FLOAT, values, nulls if nulls is None else np.broadcast_to(nulls, values.shape))


def truth(values: Any, nulls: Nulls = None) -> Column:
    """A boolean vector, False where it has no value."""
    values = np.asarray(values)
    return Column(BOOLEAN, values if nulls is None else values & ~nulls, nulls, None, 0, 1)


def whole_type(lower: int, upper: int) -> Any:
    """The integer type to compute in for results within these bounds."""
    return np.int32 if _INT32_LOWEST <= lower and upper <= _INT32_HIGHEST else np.int64


def fits(lower: int, upper: int) -> bool:
    """Whether whole numbers within these bounds fit 64 bits."""
    return lower >= LOWEST and upper <= HIGHEST


def exact(operation: Arithmetic, type_: Type, left: Column, right: Column, nulls: Nulls) -> Column:
    """Add, subtract or multiply whole numbers; an overflow is an error, and nothing else is.

    The bounds of the operands tell in advance whether 64 bits suffice. Where they do not, each result is looked
    at: sums and differences by their signs, products by a float estimate, which near the limit is off by less than the
    sign of the wrapped product tells.
    """
    lower, upper = reach_of(operation, (left.lower, left.upper), (right.lower, right.upper))
    work = _OPERATIONS[operation]
    kind = whole_type(min(lower, left.lower, right.lower), max(upper, left.upper, right.upper))
    with np.errstate(over="ignore"):
        values = np.asarray(work(left.values, right.values, dtype=kind, casting="unsafe"))
    if not fits(lower, upper):
        wrong = _overflows(operation, left.values.astype(np.int64), right.values.astype(np.int64), values)
        if nulls is not None:
            wrong = wrong & ~nulls
        if np.any(wrong):
            raise ValueOverflowError(
                "A result does not fit in 64 bits.",
                fix="Round an operand, or turn it into a float by dividing it by 1.",
            )
        lower, upper = max(lower, LOWEST), min(upper, HIGHEST)
        if nulls is not None:
            # Placeholders of nulls mean nothing, but are within the bounds.
            values = np.where(nulls, min(max(lower, 0), upper), values)
    return Column(type_, values, nulls, None, lower, upper)


Arithmetic = Literal["add", "subtract", "multiply"]
_OPERATIONS: dict[Arithmetic, Any] = {"add": np.add, "subtract": np.subtract, "multiply": np.multiply}


def reach_of(operation: Arithmetic, left: tuple[int, int], right: tuple[int, int]) -> tuple[int, int]:
    """The least and the greatest number that can come of numbers between two bounds each."""
    match operation:
        case "add":
            return left[0] + right[0], left[1] + right[1]
        case "subtract":
            return left[0] - right[1], left[1] - right[0]
        case "multiply":
            corners = [one * other for one in left for other in right]
            return min(corners), max(corners)
        case _:
            assert_never(operation)


def _overflows(operation: Arithmetic, left: Array, right: Array, wrapped: Array) -> Array:
    match operation:
        case "add":
            return np.asarray(((left ^ wrapped) & (right ^ wrapped)) < 0)
        case "subtract":
            return np.asarray(((left ^ right) & (left ^ wrapped)) < 0)
        case "multiply":
            estimate = left.astype(np.float64) * right.astype(np.float64)
            surely = np.abs(estimate) >= 2.0**63 * (1 + 2.0**-50)
            near = np.abs(estimate) > 2.0**63 * (1 - 2.0**-50)
            return np.asarray(surely | (near & ((wrapped < 0) != (estimate < 0))))
        case _:
            assert_never(operation)


def to_scale(column: Column, scale: int, type_: Type) -> Column:
    """An exact vector with more digits after the point."""
    factor = 10 ** (scale - column.type.scale)
    if factor == 1:
        return Column(type_, column.values, column.nulls, None, column.lower, column.upper)
    step = Column(type_, np.asarray(factor), None, None, factor, factor)
    return exact("multiply", type_, column, step, column.nulls)


def converted(column: Column, type_: Type) -> Column:
    """A vector as a type that its own type mixes with."""
    if column.type.kind is Kind.NULL:
        return all_null(type_)
    if type_.kind is Kind.FLOAT and column.type.kind is not Kind.FLOAT:
        return Column(type_, floats(column), column.nulls)
    if type_.kind is Kind.DECIMAL or type_.scale != column.type.scale:
        return to_scale(column, type_.scale, type_)
    return column


def same_dictionary(columns: list[Column]) -> list[Column]:
    """Text vectors rewritten to share one dictionary."""
    first = columns[0].dictionary
    if all(column.dictionary is first for column in columns):
        return columns
    merged, positions = sorted_texts(pa.concat_arrays([column.dictionary for column in columns]))
    result, start = [], 0
    for column in columns:
        stop = start + len(column.dictionary)
        # numpy's take hands back a scalar for a position without dimensions.
        values = np.asarray(positions[start:stop].take(column.values)) if stop > start else column.values
        result.append(Column(column.type, values, column.nulls, merged, 0, max(len(merged) - 1, 0)))
        start = stop
    return result


def with_nulls_after(column: Column, count: int) -> Column:
    """A column with ``count`` nulls added at its end.

    Parameters
    ----------
    column : Column
        Values of any type.
    count : int
        How many nulls.

    Returns
    -------
    Column
        Longer by ``count``; the bounds stay.
    """
    values = np.append(column.values, np.full(count, column.values[0] if len(column) else 0, column.values.dtype))
    nulls = (
        np.zeros(len(values), np.bool_) if column.nulls is None else np.append(column.nulls, np.ones(count, np.bool_))
    )
    nulls[len(column) :] = True
    dictionary = column.dictionary
    if dictionary is not None and not len(dictionary):
        dictionary = all_null(column.type).dictionary
    return Column(column.type, values, nulls, dictionary, column.lower, column.upper)


def days_of(column: Column) -> Array:
    """Days since 1970 of a vector.

    Parameters
    ----------
    column : Column
        Dates, or timestamps, whose day counts.

    Returns
    -------
    numpy.ndarray of int
        As long as the vector; anything where it is null.
    """
    values = column.values.astype(np.int64)
    if column.type.kind is not Kind.TIMESTAMP:
        return values
    return np.asarray(values // (MICROSECONDS_A_DAY * 10**column.type.scale))


def by_blocks(rows: int, kind: Any, part: Callable[[slice], Array]) -> Array:
    """What a function makes of rows, block after block on all cores: what it works out for one stays in the cache.

    Parameters
    ----------
    rows : int
        How many rows there are.
    kind : numpy.dtype
        The type of the whole.
    part : callable
        Makes the values of a stretch of rows.

    Returns
    -------
    numpy.ndarray
        As long as there are rows.
    """
    whole = np.empty(rows, kind)

    def fill(start: int) -> None:
        block = slice(start, start + _BLOCK)
        whole[block] = part(block)

    shared_each(fill, range(0, rows, _BLOCK), refuse_stopped)
    return whole
