"""Values turned into another type: null where one does not fit."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from decimal import Decimal
from typing import Any, assert_never

import numpy as np
import pyarrow as pa

from relatum.data import compute as pc
from relatum.data import vectors as v
from relatum.data.arrow import column_to_arrow
from relatum.data.buffers import array_values, texts_array
from relatum.data.columns import Column, exact_column, float_column
from relatum.data.date_patterns import moments_of
from relatum.data.days import day_of
from relatum.data.sorting import sorted_texts
from relatum.data.types import DATE, FLOAT, INTEGER, TEXT, Kind, Type
from relatum.engine.memory.rounding import bounded, rounded, rounded_floats

_WHOLE = r"^[+-]?[0-9]+$"
_NUMBER = r"^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)$"
_FLOAT = r"^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]{1,3})?$"
#: More digits than this a number in a text does not have.
_DIGITS = 37
#: Floats are whole numbers exactly up to here.
_EXACT = 2.0**53


def cast(arguments: list[Column], type_: Type) -> Column:
    """A vector as another type; null stays null, and values that do not fit become null."""
    column = arguments[0]
    if column.type == type_:
        return column
    match type_.kind:
        case Kind.TEXT:
            return _to_text(column)
        case Kind.DATE:
            return _to_date(column)
        case Kind.FLOAT:
            return _to_float(column)
        case Kind.INTEGER | Kind.DECIMAL:
            return _to_exact(column, type_)
        case Kind.BOOLEAN | Kind.TIMESTAMP | Kind.NULL:
            raise AssertionError(f"cannot cast to {type_}")
        case _:
            assert_never(type_.kind)


def _by_text(column: Column, of_texts: Callable[[Any], Column]) -> Column:
    """What each text of a column's dictionary is, for each row."""
    if not len(column.dictionary):
        found = of_texts(texts_array([""]))
    else:
        found = of_texts(column.dictionary)
    nulls = None if found.nulls is None else found.nulls.take(column.values)
    if column.nulls is not None:
        nulls = column.nulls if nulls is None else nulls | column.nulls
    values = np.asarray(found.values.take(column.values))
    return Column(found.type, values, nulls, found.dictionary, found.lower, found.upper)


def _to_date(column: Column) -> Column:
    if column.type.kind is Kind.TEXT:
        return _by_text(column, _date_texts)
    return bounded(DATE, v.days_of(column), column.nulls)


def _date_texts(texts: Any) -> Column:
    found = moments_of(texts)
    return exact_column(DATE, found.days, ~found.read)


def _to_float(column: Column) -> Column:
    if column.type.kind is Kind.TEXT:
        return _by_text(column, _float_texts)
    return Column(FLOAT, v.floats(column), column.nulls)


def _float_texts(texts: Any) -> Column:
    trimmed = pc.utf8_trim_whitespace(texts)
    fits = pc.match_substring_regex(trimmed, _FLOAT)
    numbers = pc.if_else(fits, trimmed, pa.scalar(None, trimmed.type)).cast(pa.float64())
    return float_column(FLOAT, array_values(numbers, 0.0), array_values(numbers.is_null()))


def _to_exact(column: Column, type_: Type) -> Column:
    match column.type.kind:
        case Kind.TEXT:
            return _by_text(column, lambda texts: _exact_texts(texts, type_))
        case Kind.FLOAT:
            return _rounded(column, type_)
        case Kind.BOOLEAN:
            return _to_exact(Column(INTEGER, column.values.astype(np.int64), column.nulls, None, 0, 1), type_)
        case Kind.INTEGER | Kind.DECIMAL:
            return _rescaled(column, type_)
        case Kind.DATE | Kind.TIMESTAMP | Kind.NULL:
            raise AssertionError(f"{column.type} is not cast to {type_}")
        case _:
            assert_never(column.type.kind)


def _exact_texts(texts: Any, type_: Type) -> Column:
    trimmed = pc.utf8_trim_whitespace(texts)
    fits = pc.match_substring_regex(trimmed, _WHOLE if type_.kind is Kind.INTEGER else _NUMBER)
    fits = pc.and_(fits, pc.less_equal(pc.utf8_length(trimmed), _DIGITS))
    return _exact_decimals(pc.if_else(fits, trimmed, pa.scalar(None, trimmed.type)).cast(pa.string()), type_)


def _exact_decimals(written: Any, type_: Type) -> Column:
    """Numbers in texts, rounded half away from zero; null where 64 bits do not hold one."""
    wide = pc.round(written.cast(pa.decimal256(76, 38)), type_.scale, round_mode="half_towards_infinity")
    numbers = wide.cast(pa.decimal256(76, type_.scale), safe=False)
    limit = Decimal(2**63).scaleb(-type_.scale)
    small = pc.and_(pc.less(numbers, pa.scalar(limit)), pc.greater_equal(numbers, pa.scalar(-limit)))
    kept = pc.if_else(small, numbers, pa.scalar(None, numbers.type)).cast(pa.decimal128(38, type_.scale))
    low = np.frombuffer(kept.buffers()[1], np.int64, 2 * (len(kept) + kept.offset)).reshape(-1, 2)[kept.offset :, 0]
    nulls = array_values(kept.is_null())
    return exact_column(type_, np.where(nulls, 0, low), nulls)


def _rescaled(column: Column, type_: Type) -> Column:
    """Whole numbers inside with more or fewer digits, rounded half away from zero."""
    more = type_.scale - column.type.scale
    if more < 0:
        digits = Column(INTEGER, np.asarray(type_.scale), None, None, type_.scale, type_.scale)
        return rounded([column, digits], type_)
    factor = 10**more
    values = column.values.astype(np.int64)
    limit = ((1 << 63) - 1) // factor
    wide = (values > limit) | (values < -limit)
    nulls = wide if column.nulls is None else wide | column.nulls
    return bounded(type_, np.where(wide, 0, values) * factor, nulls)


def _rounded(column: Column, type_: Type) -> Column:
    """Floats as their shortest decimals read, rounded half away from zero."""
    values = column.values
    with np.errstate(over="ignore"):  # what is too large becomes infinite, and is recognised by that
        scaled = np.abs(values) * 10.0**type_.scale
    wide = scaled >= 2.0**63
    large = (scaled >= _EXACT / 16) & ~wide
    found = np.rint(np.where(wide | large, 0.0, rounded_floats(values, type_.scale)) * 10.0**type_.scale)
    whole = np.asarray(found.astype(np.int64))
    if np.any(large):
        # So near the end of what a float tells apart, its own decimal is the one to round.
        whole = np.array(whole)
        whole[large] = _exact_decimals(pa.array(np.atleast_1d(values[large])).cast(pa.string()), type_).values
    nulls = wide if column.nulls is None else wide | column.nulls
    return bounded(type_, whole, nulls)


def _to_text(column: Column) -> Column:
    distinct, positions = np.unique(column.values, return_inverse=True)
    known = Column(column.type, distinct, None, None, column.lower, column.upper)
    texts = texts_array(_written(known))
    merged, places = sorted_texts(texts)
    codes = np.asarray(places[positions].reshape(column.values.shape))
    return Column(TEXT, codes, column.nulls, merged, 0, max(len(merged) - 1, 0))


def _written(column: Column) -> list[str]:
    """What values read like as text: whole floats without a point, dates and moments as ISO 8601 has them."""
    match column.type.kind:
        case Kind.INTEGER:
            return [str(each) for each in column.values.tolist()]
        case Kind.DECIMAL:
            return [f"{Decimal(each).scaleb(-column.type.scale):f}" for each in column.values.tolist()]
        case Kind.FLOAT:
            return [str(int(each)) if each.is_integer() and abs(each) < _EXACT else repr(each) for each in
                    column.values.tolist()]  # fmt: skip
        case Kind.BOOLEAN:
            return ["true" if each else "false" for each in column.values.tolist()]
        case Kind.DATE:
            return [day_of(each).isoformat() for each in column.values.tolist()]
        case Kind.TIMESTAMP:
            moments = column_to_arrow(column)
            if column.type.scale:
                return [str(each) for each in moments.cast(pa.string()).to_pylist()]
            return [each.isoformat(sep=" ") for each in moments.to_pylist() if isinstance(each, datetime)]
        case Kind.TEXT | Kind.NULL:
            raise AssertionError(f"{column.type} is text already, or nothing")
        case _:
            assert_never(column.type.kind)
