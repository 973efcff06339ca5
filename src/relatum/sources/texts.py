"""What texts in a file are once they are looked at: dates and moments, numbers too wide to be numbers, codes."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pyarrow as pa

from relatum.data import compute as pc
from relatum.data.arrow import arrow_type, column_to_arrow
from relatum.data.buffers import array_values, in_one_piece
from relatum.data.columns import Array, exact_column
from relatum.data.date_patterns import ISO, Moments, moments_of
from relatum.data.days import FIRST_DAY, LAST_DAY
from relatum.data.moments import MOST_NANO_DAYS, PER_SECOND, SECONDS_A_DAY
from relatum.data.types import DATE, NANOSECONDS, TIMESTAMP, Kind, Type

#: Up to here every whole number is a float; beyond, one float represents two whole numbers.
WIDE = 2.0**53
_ISO = re.compile(ISO.expression)


def moments(texts: Any, zone: str) -> tuple[Any, str]:
    """An array of texts as dates or moments if all of them are; otherwise the texts, and a remark about them."""
    first = next((each for each in texts[:1000].to_pylist() if each is not None), "")
    if not _ISO.match(first):
        return texts, ""
    array = in_one_piece(texts)
    found = moments_of(array)
    known = ~array_values(array.is_null())
    if not found.read[known].all():
        return texts, ""
    zoned = found.zoned[known]
    if zoned.any() and not zoned.all():
        return texts, "some timestamps have a time zone and some do not: read as text"
    type_ = DATE if found.dates_only else NANOSECONDS if found.fine else TIMESTAMP
    if type_ == NANOSECONDS and np.abs(found.days[known]).max(initial=0) > MOST_NANO_DAYS:
        return texts, "timestamps with nine fractional digits, some before 1678 or after 2261: read as text"
    return as_moments(found, array, type_, zone), ""


def says_zone(texts: Any) -> bool:
    """Whether some text of an array is a moment with its zone."""
    return bool(moments_of(in_one_piece(texts)).zoned.any())


def as_moments(found: Moments, texts: Any, type_: Type, zone: str) -> Any:
    """An Arrow array of what texts said."""
    nulls = array_values(texts.is_null()) if texts.null_count else None
    return column_to_arrow(exact_column(type_, found.as_type(type_, zone), nulls))


def unread(texts: Any, type_: Type) -> int | None:
    """The first text of an array that is not a date or moment of a type; None where all are."""
    found = moments_of(in_one_piece(texts))
    wrong = ~found.read & ~array_values(in_one_piece(texts).is_null())
    if found.fine and type_.kind is Kind.TIMESTAMP and not type_.scale:
        wrong |= found.nanoseconds % 1000 != 0
    return int(np.flatnonzero(wrong)[0]) if wrong.any() else None


def stated_moments(texts: Any, type_: Type, zone: str) -> Any:
    """Texts that are all dates or moments as the type that the model states."""
    array = in_one_piece(texts)
    return as_moments(moments_of(array), array, type_, zone)


def midnights(array: Any) -> bool:
    """Whether every moment of an array is the midnight that begins a day, of no zone: a date in other words."""
    if array.type.tz is not None or array.null_count == len(array):
        return False
    return not np.any(
        array_values(in_one_piece(array).view(pa.int64()), 0) % (SECONDS_A_DAY * PER_SECOND[array.type.unit])
    )


def outside_years(array: Any) -> bool:
    """Whether an array holds a date outside the years 1 to 9999."""
    numbers, a_day = _numbers(array)
    days = numbers // a_day
    return bool(np.any((days < FIRST_DAY) | (days > LAST_DAY)))


def _numbers(array: Any) -> tuple[Array, int]:
    """Dates or moments as numbers since 1970, and how many of them a day has."""
    # The same bits read as numbers: a cast would load what makes three hundred functions.
    if not pa.types.is_timestamp(array.type):
        return array_values(in_one_piece(array).view(pa.int32()), 0), 1
    return array_values(in_one_piece(array).view(pa.int64()), 0), SECONDS_A_DAY * PER_SECOND[array.type.unit]


def too_wide(array: Any) -> bool:
    """Whether an array of floats holds one so large that it may stand for two whole numbers."""
    largest = pc.max(pc.abs(array)).as_py()
    return largest is not None and largest >= WIDE


def all_whole(texts: Any) -> bool:
    """Whether every text is a whole number in digits."""
    return bool(pc.all(pc.match_substring_regex(texts, r"^[+-]?[0-9]+$")).as_py())


def converts(value: str, type_: Type) -> bool:
    """Whether a text is a value of a type."""
    if type_.kind in (Kind.DATE, Kind.TIMESTAMP):
        return unread(pa.array([value]), type_) is None
    if re.match(r"[+-]?0[xX]", value):
        return False
    try:
        pa.array([value]).cast(arrow_type(type_))
    except pa.ArrowInvalid:
        return False
    return True
