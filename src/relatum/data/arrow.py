"""Columns from Arrow arrays, and back."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data import compute as pc
from relatum.data.buffers import array_values, fixed_array, in_one_piece, positions_array, texts_array
from relatum.data.columns import Array, Column, boolean_column, column_of_texts, exact_column, float_column, text_column
from relatum.data.date_patterns import ISO, dates_of
from relatum.data.days import MICROSECONDS_A_DAY
from relatum.data.moments import PER_SECOND, SECONDS_A_DAY, refuse_far_days, refuse_far_moments, wall_clock
from relatum.data.stacking import appended
from relatum.data.types import BOOLEAN, DATE, FLOAT, INTEGER, MAX_SCALE, NANOSECONDS, TEXT, TIMESTAMP, Kind, Type
from relatum.data.types import decimal as decimal_type
from relatum.errors import SourceError

_MICROSECONDS = pa.timestamp("us")
_DIGITS = {"s": 0, "ms": 3, "us": 6, "ns": 9}


def plain_type(arrow: Any) -> Any:
    """The Arrow type of the same values stored plainly: run after run, eight bits for a truth and UUIDs are ways to
    store what others store too.
    """
    if pa.types.is_run_end_encoded(arrow):
        return plain_type(arrow.value_type)
    if pa.types.is_dictionary(arrow) and not is_text(arrow.value_type):
        return plain_type(arrow.value_type)
    if isinstance(arrow, pa.Bool8Type):
        return pa.bool_()
    return pa.string() if isinstance(arrow, pa.UuidType | pa.JsonType) else arrow


def plainly_stored(array: Any) -> Any:
    """An array, or a chunked one, stored as :func:`plain_type` says."""
    if plain_type(array.type) == array.type:
        return array
    if isinstance(array, pa.ChunkedArray):
        return pa.chunked_array([plainly_stored(each) for each in array.chunks], plain_type(array.type))
    if pa.types.is_run_end_encoded(array.type):
        return plainly_stored(pc.run_end_decode(array))
    if pa.types.is_dictionary(array.type):
        return plainly_stored(array.dictionary_decode())
    if isinstance(array.type, pa.Bool8Type):
        return pc.not_equal(array.storage, 0)
    return _uuid_texts(array.storage) if isinstance(array.type, pa.UuidType) else pc.cast(array.storage, pa.string())


def _uuid_texts(array: Any) -> Any:
    """UUIDs as RFC 9562 writes them (https://www.rfc-editor.org/rfc/rfc9562#section-4)."""
    if array.null_count == len(array):
        return pa.nulls(len(array), pa.string())
    first = array.offset * 16
    data = np.frombuffer(array.buffers()[1], np.uint8)[first : first + len(array) * 16].reshape(-1, 16)
    digits = np.frombuffer(b"0123456789abcdef", np.uint8)
    places = [at + sum(at >= gap for gap in (8, 12, 16, 20)) for at in range(32)]
    texts = np.full((len(data), 36), ord("-"), np.uint8)
    texts[:, places] = digits[np.stack([data >> 4, data & 15], axis=2).reshape(-1, 32)]
    written = texts.view("S36").reshape(-1).astype("U36")
    return pa.array(written, pa.string(), mask=array_values(pc.is_null(array)))


def is_text(arrow: Any) -> bool:
    """Whether values of an Arrow type are texts, stored one by one."""
    kinds = pa.types
    return bool(kinds.is_string(arrow) or kinds.is_large_string(arrow) or kinds.is_string_view(arrow))


def type_of(arrow: Any) -> Type | None:
    """The type in which an Arrow type is read; None for one that is not read (lists, structs, binary).

    Times of day are read as text, durations as seconds: both exactly.
    """
    kinds = pa.types
    arrow = plain_type(arrow)
    if kinds.is_dictionary(arrow):
        return type_of(arrow.value_type)
    if kinds.is_integer(arrow):
        return INTEGER
    if kinds.is_decimal(arrow):
        return decimal_type(max(arrow.scale, 0)) if arrow.scale <= MAX_SCALE else None
    if kinds.is_floating(arrow):
        return FLOAT
    if is_text(arrow) or kinds.is_null(arrow):
        return TEXT
    if kinds.is_boolean(arrow):
        return BOOLEAN
    if kinds.is_date(arrow):
        return DATE
    if kinds.is_timestamp(arrow):
        return TIMESTAMP
    if kinds.is_time(arrow):
        return TEXT
    if kinds.is_duration(arrow):
        return decimal_type(_DIGITS[arrow.unit]) if _DIGITS[arrow.unit] else INTEGER
    return None


def not_read(arrow: Any) -> str:
    """Why values of an Arrow type that :func:`type_of` does not know are not read, and the way out."""
    kinds = pa.types
    said = f"values of type {arrow} cannot be read"
    if kinds.is_list(arrow) or kinds.is_large_list(arrow) or kinds.is_fixed_size_list(arrow):
        return f"{said}: write each list element as a row of another table, with this table's key"
    if kinds.is_struct(arrow):
        return f"{said}: write each field as a separate column"
    if kinds.is_map(arrow):
        return f"{said}: write each entry as a row of another table, with this table's key"
    return f"{said}: write them as text or numbers"


def arrow_type(type_: Type) -> Any:
    """The Arrow type in which values of ``type_`` are handed out."""
    if type_.kind is Kind.DECIMAL:
        return pa.decimal128(38, type_.scale)
    if type_.scale:
        return pa.timestamp("ns")
    return {
        Kind.INTEGER: pa.int64(),
        Kind.FLOAT: pa.float64(),
        Kind.TEXT: pa.string(),
        Kind.BOOLEAN: pa.bool_(),
        Kind.DATE: pa.date32(),
        Kind.TIMESTAMP: _MICROSECONDS,
        Kind.NULL: pa.null(),
    }[type_.kind]


def column_from_arrow(array: Any, wanted: Type | None = None, zone: str = "UTC") -> Column:
    """A column from an Arrow array or chunked array.

    Parameters
    ----------
    array : pyarrow.Array or pyarrow.ChunkedArray
        Values of a type that :func:`type_of` knows.
    wanted : Type, optional
        Convert to this type first.
    zone : str
        The time zone on whose clocks moments that know their zone are read.

    Raises
    ------
    SourceError
        A value does not fit in 64 bits, or cannot be converted to the type wanted.
    """
    found = type_of(array.type)
    if found is None:
        raise SourceError(not_read(array.type), fix="Convert the column, or leave it out.")
    array = plainly_stored(array)
    target = wanted or found
    if isinstance(array, pa.ChunkedArray) and array.num_chunks > 1 and target == found and is_simple(array.type):
        # Piece by piece, so that what is in between is never there for all rows at once.
        return appended([column_from_arrow(chunk, target, zone) for chunk in array.chunks], target)
    temporal = target.kind in (Kind.TIMESTAMP, Kind.DATE)
    if found is TEXT and temporal and not pa.types.is_time(array.type):
        return dates_of(column_from_arrow(array), target, ISO, zone)
    if temporal and found.kind in (Kind.TIMESTAMP, Kind.DATE):
        return _moments(in_one_piece(array), target, zone)
    if pa.types.is_duration(array.type):
        array = _seconds(in_one_piece(array), found)
    elif pa.types.is_time(array.type):
        array = pc.cast(array, pa.string())
    elif pa.types.is_timestamp(array.type) and array.type.tz is not None:
        array = column_to_arrow(_moments(in_one_piece(array), sized(array) or found, zone))
    if target != found:
        array = _converted(array, target)
    if target.kind is Kind.TEXT and not pa.types.is_dictionary(array.type):
        return column_of_texts(array)
    array = in_one_piece(array)
    nulls = array_values(pc.is_null(array)) if array.null_count else None
    if target.kind is Kind.TEXT:
        return _text(array, nulls)
    if target.kind is Kind.FLOAT:
        return float_column(target, array_values(pc.cast(array, pa.float64()), 0.0), nulls)
    if target.kind is Kind.BOOLEAN:
        return boolean_column(target, array_values(array, False), nulls)
    return exact_column(target, _whole_numbers(array, target), nulls)


def is_simple(arrow: Any) -> bool:
    """Whether every value of an Arrow type fits the type that its columns have: nothing is said of any by its row."""
    kinds = pa.types
    if kinds.is_decimal128(arrow):
        return bool(arrow.precision <= MAX_SCALE)
    whole = kinds.is_integer(arrow) and not kinds.is_uint64(arrow)
    return bool(whole or kinds.is_floating(arrow) or kinds.is_boolean(arrow) or kinds.is_date32(arrow))


def _converted(array: Any, target: Type) -> Any:
    try:
        if target.kind is Kind.DECIMAL and pa.types.is_floating(array.type):
            # A float such as 4.35 is not the decimal it was written as: go by its shortest text.
            array = pc.cast(array, pa.string())
        return pc.cast(array, pa.decimal128(38, target.scale) if target.kind is Kind.DECIMAL else arrow_type(target))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise SourceError(
            f"cannot be read as {target}: {error}", fix="Correct the value, or the column's type."
        ) from None


def _seconds(array: Any, type_: Type) -> Any:
    """Durations as numbers of seconds with the digits that their unit has."""
    whole = pc.cast(array, pa.int64())
    nulls = array_values(pc.is_null(whole)) if whole.null_count else None
    return column_to_arrow(exact_column(type_, array_values(whole, 0), nulls))


def _moments(array: Any, target: Type, zone: str) -> Column:
    """Dates and timestamps of any unit as dates, microseconds or nanoseconds, on the clocks of a zone."""
    nulls = array_values(pc.is_null(array)) if array.null_count else None
    arrow = array.type
    if arrow == pa.date32():
        days, unit = array_values(pc.cast(array, pa.int32()), 0).astype(np.int64), 0
        refuse_far_days(days, nulls)
    else:
        unit = 1000 if arrow == pa.date64() else PER_SECOND[arrow.unit]
        values = array_values(pc.cast(array, pa.int64()), 0)
        refuse_far_moments(values, unit, nulls)
        if pa.types.is_timestamp(arrow) and arrow.tz is not None:
            values = wall_clock(values, unit, zone)
        days = values // (SECONDS_A_DAY * unit)
    if target.kind is Kind.DATE:
        return exact_column(DATE, days, nulls)
    wanted = 10 ** (6 + target.scale)
    if not unit:
        values, unit = days * MICROSECONDS_A_DAY, 10**6
    if unit > wanted:
        finer = unit // wanted
        if np.any(values % finer != 0 if nulls is None else (values % finer != 0) & ~nulls):
            raise SourceError(
                f"holds timestamps with more digits than a {target} can hold",
                fix='Set type = "timestamp(9)" for the column.',
            )
        return exact_column(target, values // finer, nulls)
    factor = wanted // unit
    limit = ((1 << 63) - 1) // factor
    if np.any(np.abs(values) > limit if nulls is None else (np.abs(values) > limit) & ~nulls):
        raise SourceError(f"holds a timestamp that does not fit a {target}, which covers the years 1678 to 2261")
    return exact_column(target, values * factor, nulls)


def needs_a_look(arrow: Any) -> bool:
    """Whether an Arrow type alone does not tell which type holds all values."""
    return bool(pa.types.is_uint64(arrow) or (pa.types.is_timestamp(arrow) and arrow.unit == "ns"))


def sized(array: Any) -> Type | None:
    """The type for values whose Arrow type alone does not tell which one holds them all: they are looked at.

    Timestamps of nanoseconds are microseconds unless one needs its digits; whole numbers beyond 64 bits are text, since
    a float would make one of two of them. None for other types.
    """
    if pa.types.is_timestamp(array.type) and array.type.unit == "ns":
        values = array_values(in_one_piece(pc.cast(array, pa.int64())), 0)
        return Type(Kind.TIMESTAMP, 3) if np.any(values % 1000) else TIMESTAMP
    if pa.types.is_uint64(array.type):
        values = array_values(in_one_piece(array), 0)
        return TEXT if len(values) and int(values.max()) >= 1 << 63 else INTEGER
    return None


def with_nulls(array: Any, markers: Sequence[str]) -> Any:
    """An array with null where a value is one of the markers, each taken as a value of the array's type.

    Parameters
    ----------
    array : pyarrow.Array or pyarrow.ChunkedArray
        Values of any type.
    markers : sequence of str
        Texts that mean null: one that is no value of the type, such as ``NA`` among numbers, marks nothing.

    Returns
    -------
    pyarrow.Array or pyarrow.ChunkedArray
        As long as ``array``, of its type; the array itself where no marker can occur.
    """
    if pa.types.is_dictionary(array.type):
        array = pc.cast(array, array.type.value_type)
    known = []
    for marker in markers:
        with suppress(pa.ArrowInvalid, pa.ArrowNotImplementedError):  # a marker such as NA is not a number
            known.append(pa.scalar(marker).cast(array.type).as_py())
    if not known:
        return array
    return pc.if_else(pc.is_in(array, value_set=pa.array(known, array.type)), pa.scalar(None, array.type), array)


def _text(array: Any, nulls: NDArray[np.bool_] | None) -> Column:
    texts = array.dictionary
    if texts.null_count:
        # A dictionary may itself hold null: its positions then stand for null too.
        missing = array_values(pc.is_null(texts))
        codes = array_values(array.indices, 0).astype(np.int64)
        extra = missing[codes]
        nulls = extra if nulls is None else nulls | extra
        texts = texts_array([text or "" for text in texts.to_pylist()])
    return text_column(TEXT, array_values(array.indices, 0).astype(np.int64), texts, nulls)


def _whole_numbers(array: Any, target: Type) -> Array:
    try:
        if target.kind is Kind.DECIMAL:
            same = pa.types.is_decimal128(array.type) and array.type.scale == target.scale
            return _unscaled(array if same else pc.cast(array, pa.decimal128(38, target.scale)))
        return array_values(pc.cast(array, pa.int64()), 0)
    except (pa.ArrowInvalid, OverflowError) as error:
        raise SourceError(f"holds a value that does not fit in 64 bits: {error}") from None


def _unscaled(array: Any) -> Array:
    # Arrow keeps a decimal128 as two little-endian 64-bit halves; the upper one of a 64-bit value is just its sign.
    halves = np.frombuffer(array.buffers()[1], dtype=np.int64, count=2 * (len(array) + array.offset))
    halves = halves.reshape(-1, 2)[array.offset :]
    low, high = halves[:, 0].copy(), halves[:, 1]
    if array.type.precision <= MAX_SCALE:
        return low
    wide = high != (low >> 63)
    if array.null_count:
        wide &= ~array_values(pc.is_null(array))
    if wide.any():
        raise OverflowError(f"row {int(np.flatnonzero(wide)[0]) + 1}")
    return low


def column_to_arrow(column: Column) -> Any:
    """An Arrow array of a column's values, exact.

    Parameters
    ----------
    column : Column
        Values of any type; decimals and timestamps keep their scale.

    Returns
    -------
    pyarrow.Array
        As long as the column, null where it is; of the type that :func:`arrow_type` names.
    """
    kind = column.type.kind
    mask = column.nulls
    if kind is Kind.TEXT:
        return _narrow_texts(pc.take(column.dictionary, positions_array(column.values, mask)))
    if kind is Kind.DECIMAL:
        low = column.values.astype(np.int64)
        halves = np.empty((len(low), 2), dtype=np.int64)
        halves[:, 0], halves[:, 1] = low, low >> 63
        return fixed_array(halves, arrow_type(column.type), mask)
    if kind is Kind.NULL:
        return pa.nulls(len(column))
    stored = {Kind.FLOAT: np.float64, Kind.BOOLEAN: np.bool_, Kind.DATE: np.int32}.get(kind, np.int64)
    return fixed_array(column.values.astype(stored), arrow_type(column.type), mask)


def _narrow_texts(texts: Any) -> Any:
    """Texts whose places are given in 32 bits; of a few, converting them takes longer than finding them."""
    nulls, places, content = texts.buffers()
    if texts.offset or content is None or content.size >= 1 << 31:
        return pc.cast(texts, pa.string())
    narrow = np.frombuffer(places, np.int64, len(texts) + 1).astype(np.int32)
    return pa.Array.from_buffers(pa.string(), len(texts), [nulls, pa.py_buffer(narrow), content])


def python_values(column: Column) -> list[Any]:
    """A short column's values turned into Python objects. A timestamp of nanoseconds is text: no datetime holds one.

    Parameters
    ----------
    column : Column
        Values of any type: for samples and members, never for all rows of a fact.

    Returns
    -------
    list of int, Decimal, float, str, bool, date, datetime or None
        In the order of the rows; None where null.
    """
    array = column_to_arrow(column)
    return list((pc.cast(array, pa.string()) if column.type == NANOSECONDS else array).to_pylist())
