"""Columns from Arrow arrays, and back."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data.buffers import array_values, fixed_array, positions_array, texts_array
from relatum.data.columns import Array, Column, boolean_column, exact_column, float_column, text_column
from relatum.data.types import BOOLEAN, DATE, FLOAT, INTEGER, MAX_SCALE, TEXT, TIMESTAMP, Kind, Type
from relatum.data.types import decimal as decimal_type
from relatum.errors import SourceError

_MICROSECONDS = pa.timestamp("us")


def type_of(arrow: Any) -> Type | None:
    """The type in which an Arrow type is read; None for one that is not read (lists, structs, binary, times)."""
    kinds = pa.types
    if kinds.is_dictionary(arrow):
        return type_of(arrow.value_type)
    if kinds.is_integer(arrow):
        return INTEGER
    if kinds.is_decimal(arrow):
        return decimal_type(max(arrow.scale, 0)) if arrow.scale <= MAX_SCALE else None
    if kinds.is_floating(arrow):
        return FLOAT
    if kinds.is_string(arrow) or kinds.is_large_string(arrow) or kinds.is_string_view(arrow) or kinds.is_null(arrow):
        return TEXT
    if kinds.is_boolean(arrow):
        return BOOLEAN
    if kinds.is_date(arrow):
        return DATE
    if kinds.is_timestamp(arrow):
        return TIMESTAMP
    return None


def arrow_type(type_: Type) -> Any:
    """The Arrow type in which values of ``type_`` are handed out."""
    if type_.kind is Kind.DECIMAL:
        return pa.decimal128(38, type_.scale)
    return {
        Kind.INTEGER: pa.int64(),
        Kind.FLOAT: pa.float64(),
        Kind.TEXT: pa.string(),
        Kind.BOOLEAN: pa.bool_(),
        Kind.DATE: pa.date32(),
        Kind.TIMESTAMP: _MICROSECONDS,
        Kind.NULL: pa.null(),
    }[type_.kind]


def column_from_arrow(array: Any, wanted: Type | None = None) -> Column:
    """A column from an Arrow array or chunked array.

    Parameters
    ----------
    array : pyarrow.Array or pyarrow.ChunkedArray
        Values of a type that :func:`type_of` knows.
    wanted : Type, optional
        Convert to this type first.

    Raises
    ------
    SourceError
        A value does not fit 64 bits, or cannot be converted to the type wanted.
    """
    found = type_of(array.type)
    if found is None:
        raise SourceError(f"values of type {array.type} are not read", fix="Convert the column, or leave it out.")
    if pa.types.is_dictionary(array.type) and found is not TEXT:
        array = array.cast(array.type.value_type)
    target = wanted or found
    if target != found:
        array = _converted(array, target)
    fresh = target.kind is Kind.TEXT and not pa.types.is_dictionary(array.type)
    if fresh:
        array = array.cast(pa.large_string()).dictionary_encode()
    array = _in_one_piece(array)
    nulls = array_values(array.is_null()) if array.null_count else None
    if target.kind is Kind.TEXT:
        return _text(array, nulls, distinct=fresh)
    if target.kind is Kind.FLOAT:
        return float_column(target, array_values(array.cast(pa.float64()), 0.0), nulls)
    if target.kind is Kind.BOOLEAN:
        return boolean_column(target, array_values(array, False), nulls)
    return exact_column(target, _whole_numbers(array, target), nulls)


def _converted(array: Any, target: Type) -> Any:
    try:
        if target.kind is Kind.DECIMAL and pa.types.is_floating(array.type):
            # A float such as 4.35 is not the decimal it was written as: go by its shortest text.
            array = array.cast(pa.string())
        return array.cast(pa.decimal128(38, target.scale) if target.kind is Kind.DECIMAL else arrow_type(target))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise SourceError(
            f"cannot be read as {target}: {error}", fix="Correct the value, or the column's type."
        ) from None


def _in_one_piece(array: Any) -> Any:
    if not isinstance(array, pa.ChunkedArray):
        return array
    if pa.types.is_dictionary(array.type):
        array = array.unify_dictionaries()
    return array.combine_chunks() if array.num_chunks != 1 else array.chunk(0)


def _text(array: Any, nulls: NDArray[np.bool_] | None, *, distinct: bool) -> Column:
    texts = array.dictionary
    if texts.null_count:
        # A dictionary may itself hold null: its positions then stand for null too.
        missing = array_values(texts.is_null())
        codes = array_values(array.indices, 0).astype(np.int64)
        extra = missing[codes]
        nulls = extra if nulls is None else nulls | extra
        texts = texts_array([text or "" for text in texts.to_pylist()])
    return text_column(TEXT, array_values(array.indices, 0).astype(np.int64), texts, nulls, distinct=distinct)


def _whole_numbers(array: Any, target: Type) -> Array:
    try:
        if target.kind is Kind.DECIMAL:
            return _unscaled(array.cast(pa.decimal128(38, target.scale)))
        if target.kind is Kind.DATE:
            return array_values(array.cast(pa.date32()).cast(pa.int32()), 0).astype(np.int64)
        if target.kind is Kind.TIMESTAMP:
            return array_values(array.cast(pa.timestamp("us", tz=array.type.tz), safe=False).cast(pa.int64()), 0)
        return array_values(array.cast(pa.int64()), 0)
    except (pa.ArrowInvalid, OverflowError) as error:
        raise SourceError(f"holds a value that does not fit 64 bits: {error}") from None


def _unscaled(array: Any) -> Array:
    # Arrow keeps a decimal128 as two little-endian 64-bit halves; the upper one of a 64-bit value is just its sign.
    halves = np.frombuffer(array.buffers()[1], dtype=np.int64, count=2 * (len(array) + array.offset))
    halves = halves.reshape(-1, 2)[array.offset :]
    low, high = halves[:, 0].copy(), halves[:, 1]
    wide = high != (low >> 63)
    if array.null_count:
        wide &= ~array_values(array.is_null())
    if wide.any():
        raise OverflowError(f"row {int(np.flatnonzero(wide)[0]) + 1}")
    return low


def column_to_arrow(column: Column) -> Any:
    """An Arrow array of a column's values, exact."""
    kind = column.type.kind
    mask = column.nulls
    if kind is Kind.TEXT:
        return column.dictionary.take(positions_array(column.values, mask)).cast(pa.string())
    if kind is Kind.DECIMAL:
        low = column.values.astype(np.int64)
        halves = np.empty((len(low), 2), dtype=np.int64)
        halves[:, 0], halves[:, 1] = low, low >> 63
        return fixed_array(halves, arrow_type(column.type), mask)
    if kind is Kind.NULL:
        return pa.nulls(len(column))
    stored = {Kind.FLOAT: np.float64, Kind.BOOLEAN: np.bool_, Kind.DATE: np.int32}.get(kind, np.int64)
    return fixed_array(column.values.astype(stored), arrow_type(column.type), mask)


def python_values(column: Column) -> list[Any]:
    """A short column's values turned into Python objects: int, Decimal, float, str, bool, date, datetime or None."""
    return list(column_to_arrow(column).to_pylist())
