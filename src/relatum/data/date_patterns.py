"""Dates and moments written as text: in the ways of ISO 8601, or by a date pattern of Unicode CLDR."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa
from msgspec import Struct, field

from relatum.data import compute as pc
from relatum.data.buffers import array_values, in_one_piece
from relatum.data.columns import Array, Column, exact_column
from relatum.data.days import MICROSECONDS_A_DAY
from relatum.data.moments import MOST_NANO_DAYS, SECONDS_A_DAY, wall_clock
from relatum.data.types import Kind, Type
from relatum.errors import ModelError, SourceError

_NANO = 1_000_000_000
_ISO = (
    r"^(?P<y>\d{4})-(?P<M>\d{2})-(?P<d>\d{2})"
    r"(?:[T ](?P<H>\d{2}):(?P<m>\d{2})(?::(?P<s>\d{2})(?:[.,](?P<S>\d{1,9}))?)?(?: ?(?P<X>Z|[+-]\d{2}(?::?\d{2})?))?)?$"
)
#: The fields of a date that are read, by the letters of CLDR; what a field is matched by depends on its length.
_LETTERS = {
    "y": "year", "u": "year", "M": "month", "L": "month", "d": "day of the month", "D": "day of the year",
    "E": "name of the weekday", "a": "am or pm", "H": "hour 0 to 23", "K": "hour 0 to 11",
    "h": "hour 1 to 12", "m": "minute", "s": "second", "S": "fraction of a second", "X": "offset, or Z",
    "x": "offset", "Z": "offset",
}  # fmt: skip
#: Those that CLDR has besides, which are refused by name.
_REFUSED = {
    "G": "era", "Y": "year of weeks", "U": "cyclic year", "r": "related year", "Q": "quarter", "q": "quarter",
    "w": "week of the year", "W": "week of the month", "F": "weekday in the month", "g": "Julian day",
    "k": "hour 1 to 24", "e": "number of the weekday", "c": "number of the weekday", "b": "noon and midnight",
    "B": "part of the day",
    "j": "preferred hour", "J": "preferred hour", "C": "preferred hour", "A": "milliseconds of the day",
    "z": "name of a zone", "O": "name of a zone", "v": "name of a zone", "V": "name of a zone",
}  # fmt: skip
_PIECE = re.compile(r"'(?:[^']|'')*'|([A-Za-z])\1*|[^A-Za-z']+")


class DatePattern(Struct, frozen=True):
    """How dates are written: an expression whose groups are fields, and the names of months and halves of a day."""

    text: str
    expression: str
    months: dict[str, int] = field(default_factory=dict)
    halves: dict[str, int] = field(default_factory=dict)


class Moments(Struct, frozen=True, eq=False):
    """What texts said: days since 1970, nanoseconds of the day, and seconds ahead of UTC where ``zoned``.

    ``read`` is False where a text was no date; what is there means nothing.
    """

    days: Array
    nanoseconds: Array
    offsets: Array
    zoned: Array
    read: Array

    @property
    def fine(self) -> bool:
        """Whether some moment needs more digits than microseconds have."""
        return bool(np.any(self.nanoseconds % 1000 != 0))

    @property
    def dates_only(self) -> bool:
        """Whether every moment is the midnight that begins a day, of no zone."""
        return not self.zoned.any() and not self.nanoseconds.any()

    def as_type(self, type_: Type, zone: str) -> Array:
        """Days, microseconds or nanoseconds since 1970, on the clocks of a zone."""
        unit = 10**6 * 10**type_.scale if type_.kind is Kind.TIMESTAMP else 10**6
        if type_.scale and np.any(np.abs(self.days[self.read]) > MOST_NANO_DAYS):
            raise SourceError("holds timestamps with nine fractional digits, and timestamps before 1678 or after 2261")
        within = self.nanoseconds // (_NANO // unit)
        with np.errstate(over="ignore"):
            moments = self.days * SECONDS_A_DAY * unit + within
        if self.zoned.any():
            utc = moments - self.offsets * unit
            moments = np.where(self.zoned, wall_clock(utc, unit, zone), moments)
        return np.asarray(moments // MICROSECONDS_A_DAY if type_.kind is Kind.DATE else moments)


ISO = DatePattern("yyyy-MM-dd", _ISO)


def date_pattern(pattern: str, locale: str = "en") -> DatePattern:
    """A date pattern of CLDR, made ready to read by.

    Parameters
    ----------
    pattern : str
        Letters for fields (y, M, d, E, D, H, h, K, k, m, s, S, a, X, x, Z), other signs for themselves, words in
        single quotes: ``d. MMMM yyyy``, ``dd/MM/yyyy HH:mm``.
    locale : str
        In which months and weekdays are named.

    Raises
    ------
    ModelError
        It has a letter that cannot be read by, which the error names, or says no year, month or day.

    Examples
    --------
    >>> date_pattern("dd/MM/yyyy").expression
    '^(?P<d>\\\\d{1,2})/(?P<M>\\\\d{1,2})/(?P<y>\\\\d{4})$'
    """
    pieces = list(_PIECE.finditer(pattern))
    if "".join(each.group() for each in pieces) != pattern:
        raise ModelError(f"{pattern!r} is not a date pattern: a quote is not closed.", fix="Write '' for one quote.")
    parts: list[str] = []
    seen: dict[str, int] = {}
    months: dict[str, int] = {}
    halves: dict[str, int] = {}
    for at, piece in enumerate(pieces):
        letter, text = piece.group(1), piece.group()
        if letter is None:
            plain = text[1:-1].replace("''", "'") or "'" if text.startswith("'") else text
            parts.append(re.escape(plain))
            continue
        name = {"u": "y", "L": "M", "K": "h", "x": "X", "Z": "X"}.get(letter, letter)
        if letter not in _LETTERS or name in seen:
            raise ModelError(
                f"{pattern!r} is not a date pattern that can be read: {_fault(letter)}.",
                fix=f"Known letters: {', '.join(_LETTERS)}. Put words in single quotes.",
            )
        seen[name] = at
        # Adjacent digits are distinguished by their count alone.
        beside = any(0 <= each < len(pieces) and pieces[each].group(1) for each in (at - 1, at + 1))
        group, named = _matched(letter, name, len(text), locale, beside)
        months |= named if name == "M" else {}
        halves |= named if name == "a" else {}
        parts.append(f"(?P<{name}>{group})")
    if "y" not in seen or not ({"M", "d"} <= set(seen) or "D" in seen):
        raise ModelError(
            f"{pattern!r} is not a date pattern: it needs year, month and day.",
            fix="Use yyyy, MM, dd, HH, mm, ss, for example dd/MM/yyyy.",
        )
    return DatePattern(pattern, f"^{''.join(parts)}$", months, halves)


def _fault(letter: str) -> str:
    if letter in _LETTERS:
        return f"the {_LETTERS[letter]} appears twice"
    what = _REFUSED.get(letter)
    return f"{letter} ({what}) is not supported" if what else f"{letter} is not a letter of a date pattern"


def _matched(letter: str, name: str, count: int, locale: str, beside: bool) -> tuple[str, dict[str, int]]:
    """What a field is matched by, and the numbers of its names where it has names."""
    digits = f"\\d{{{count}}}" if beside else "\\d{1,2}"
    match name:
        case "y":
            return ("\\d{2}" if count == 2 else "\\d{4}" if count == 4 or beside else "\\d{1,4}"), {}
        case "M" if count >= 3:
            return _names(month_names(locale), months=True)
        case "M" | "d" | "H" | "h" | "m" | "s":
            return (digits if count <= 2 else f"\\d{{{count}}}"), {}
        case "D":
            return ("\\d{3}" if beside or count == 3 else "\\d{1,3}"), {}
        case "S":
            return (f"\\d{{{count}}}" if beside else "\\d{1,9}"), {}
        case "E":
            return "[^0-9,;/]+?", {}
        case "a":
            return "(?i:a\\.?m\\.?|p\\.?m\\.?)", {"a": 0, "p": 12}
        case "X":
            return "Z|[+-]\\d{2}(?::?\\d{2})?", {}
    raise AssertionError(f"{letter} is a letter without a way to match it")


def _names(names: dict[str, int], *, months: bool) -> tuple[str, dict[str, int]]:
    longest = sorted(names, key=len, reverse=True)
    return "(?i:" + "|".join(re.escape(each) + r"\.?" for each in longest) + ")", names


@lru_cache
def month_names(locale: str) -> dict[str, int]:
    """The names of months in a locale, long and short, in lower case, with their numbers."""
    from babel.dates import get_month_names  # noqa: PLC0415 - heavy, and needed by patterns with names alone

    found: dict[str, int] = {}
    for width in ("wide", "abbreviated"):
        for context in ("format", "stand-alone"):
            for number, name in get_month_names(width, context, locale).items():
                found.setdefault(name.lower().rstrip("."), number)
    return found


def moments_of(texts: Any, pattern: DatePattern = ISO) -> Moments:
    """What an Arrow array of texts says, read by a pattern; null reads as no date.

    Parameters
    ----------
    texts : pyarrow.Array of string
        The texts.
    pattern : DatePattern
        How they are written: as ISO 8601 writes dates and moments, unless given.

    Returns
    -------
    Moments
        For each text whether it was read, its day, nanosecond of the day and offset from UTC in seconds.

    Examples
    --------
    >>> found = moments_of(pa.array(["2024-05-17T09:30:00.25+02:00", "May"]))
    >>> found.read.tolist(), int(found.offsets[0]), int(found.nanoseconds[0])
    ([True, False], 7200, 34200250000000)
    """
    fields = pc.extract_regex(texts, pattern.expression)
    read = ~array_values(fields.is_null())
    parts = {fields.type.field(at).name: pc.struct_field(fields, [at]) for at in range(fields.type.num_fields)}

    def number(name: str, missing: int = 0) -> Array:
        return _whole(parts.get(name), len(texts), missing)

    years = number("y", 1970)
    if re.search(r"\(\?P<y>\\d\{2\}\)", pattern.expression):
        years = years + np.where(years < 69, 2000, 1900)
    months = _named(parts["M"], pattern.months) if pattern.months else number("M", 1)
    first = ((years - 1970) * 12 + months - 1).astype("datetime64[M]")
    start = first.astype("datetime64[D]").astype(np.int64)
    length = (first + np.timedelta64(1, "M")).astype("datetime64[D]").astype(np.int64) - start
    days = number("d", 1)
    valid = (years >= 1) & (years <= 9999) & (months >= 1) & (months <= 12) & (days >= 1) & (days <= length)
    if "D" in parts:
        days = number("D", 1)
        year = (years - 1970).astype("datetime64[Y]")
        start = year.astype("datetime64[D]").astype(np.int64)
        end = (year + np.timedelta64(1, "Y")).astype("datetime64[D]").astype(np.int64)
        valid = (years >= 1) & (years <= 9999) & (days >= 1) & (start + days <= end)
    hours = number("H")
    if "h" in parts:
        hours = number("h") % 12 + (_named(_first_letter(parts["a"]), pattern.halves) if "a" in parts else 0)
    minutes, seconds = number("m"), number("s")
    valid &= (hours <= 23) & (minutes <= 59) & (seconds <= 59)
    fraction = parts.get("S")
    nanoseconds = _whole(None if fraction is None else pc.utf8_rpad(fraction, 9, "0"), len(texts), 0)
    within = ((hours * 60 + minutes) * 60 + seconds) * _NANO + nanoseconds
    offsets, zoned = _offsets(parts.get("X"), len(texts))
    return Moments(np.where(valid, start + days - 1, 0), within, offsets, zoned & read, read & valid)


def _whole(texts: Any, count: int, missing: int) -> Array:
    if texts is None:
        return np.full(count, missing, np.int64)
    empty = pc.equal(texts, "")
    known = pc.if_else(empty, pa.scalar(None, pa.string()), texts)
    return np.asarray(array_values(in_one_piece(known.cast(pa.int64())), missing))


def _named(texts: Any, names: dict[str, int]) -> Array:
    plain = pc.utf8_rtrim(pc.utf8_lower(texts), ".")
    found = array_values(in_one_piece(pc.index_in(plain, value_set=pa.array(list(names)))), -1)
    numbers = np.append(np.asarray(list(names.values()), np.int64), 0)
    return np.asarray(numbers[found])


def _first_letter(texts: Any) -> Any:
    return pc.utf8_slice_codeunits(pc.utf8_lower(texts), 0, 1)


def _offsets(texts: Any, count: int) -> tuple[Array, Array]:
    """Seconds ahead of UTC, and where a zone was written."""
    if texts is None:
        return np.zeros(count, np.int64), np.zeros(count, np.bool_)
    zoned = array_values(in_one_piece(pc.fill_null(pc.not_equal(texts, ""), False)))
    digits = pc.replace_substring_regex(texts, "[^0-9]", "")
    padded = pc.utf8_rpad(digits, 4, "0")
    number = _whole(pc.if_else(pc.equal(digits, ""), pa.scalar("0"), padded), count, 0)
    sign = np.where(array_values(in_one_piece(pc.fill_null(pc.starts_with(texts, "-"), False))), -1, 1)
    return sign * (number // 100 * 3600 + number % 100 * 60), zoned


def dates_of(column: Column, type_: Type, pattern: DatePattern, zone: str = "UTC") -> Column:
    """A text column read as dates or timestamps.

    Parameters
    ----------
    column : Column
        Texts.
    type_ : Type
        Date, or a timestamp with its digits.
    pattern : DatePattern
        How the texts are written.
    zone : str
        The time zone on whose clocks moments that say their offset are read.

    Returns
    -------
    Column
        As long as ``column``, null where it is.

    Raises
    ------
    SourceError
        A text is not written by the pattern.
    """
    if column.null_count == len(column):
        return exact_column(type_, np.zeros(len(column), np.int64), column.nulls)
    found = moments_of(column.dictionary, pattern)
    if not found.read.all():
        text = column.dictionary[int(np.flatnonzero(~found.read)[0])].as_py()
        raise SourceError(
            f"holds {text!r}, which is not a date of the form {pattern.text}",
            fix="Correct the value, or the column's pattern in the model.",
        )
    if found.fine and type_.kind is Kind.TIMESTAMP and not type_.scale:
        raise SourceError(
            "holds timestamps with more digits than microseconds", fix='Set type = "timestamp(9)" for the column.'
        )
    return exact_column(type_, found.as_type(type_, zone)[column.values], column.nulls)
