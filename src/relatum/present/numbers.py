"""Numbers, dates and other values in writing, by the patterns of Unicode CLDR."""

from __future__ import annotations

import copy
import math
import re
from collections.abc import Callable, Iterable, Sequence
from datetime import date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal
from functools import cache, lru_cache
from typing import Any

import numpy as np
from babel import Locale
from babel.dates import format_date, format_datetime
from babel.numbers import NumberPattern, format_decimal, get_decimal_symbol, get_group_symbol, parse_pattern
from msgspec import Struct, structs

from relatum.data.columns import Column
from relatum.data.digits import exactly, is_number
from relatum.data.types import Kind, Type
from relatum.data.vectors import there
from relatum.model.looks import SCALES, Format
from relatum.present.patterns import MOST_DIGITS, is_time_pattern

#: Shown where a cell has no value, and where it is more than any number.
BLANK, INFINITE = "–", "∞"
_DATE_KINDS = (Kind.DATE, Kind.TIMESTAMP)


class Writer:
    """Writes the values of one column, all of them in one unit.

    Parameters
    ----------
    type_ : Type
        Their type.
    format : Format
        How they are written; empty for the usual way of the type.
    largest : Decimal
        The largest of the values, whatever their signs: the digits of a float and an automatic scale follow from it.
    locale, currency : str
        For separators and the currency sign.
    """

    def __init__(self, type_: Type, format: Format, largest: Decimal, locale: str, currency: str) -> None:
        self.type, self.format, self.locale, self.currency = type_, format, locale, currency
        self.blank = format.blank or BLANK
        self.power = _power(format.scale, largest, locale) if type_.numeric and not format.duration else 0
        self.unit = scale_word(format.scale, self.power, locale) if self.power else ""
        self.time = ""
        if type_.numeric and format.duration:
            # A measure's own number pattern gives way where a request asks for time.
            self.time = format.pattern if is_time_pattern(format.pattern) else _TIMES[format.duration]
        self.number: NumberPattern | None = None
        if type_.numeric and not self.time:
            pattern = format.pattern if any(sign in format.pattern for sign in "#0@") else ""
            self.number = number_pattern(pattern or usual_pattern(type_, largest.scaleb(-self.power)), locale)
        self._fixed: dict[int, NumberPattern] = {}

    def __call__(self, value: Any) -> str:
        """A value, written."""
        if value is None:
            return self.blank
        if self.type.numeric:
            return self._number(value)
        if self.type.kind in _DATE_KINDS and self.format.pattern:
            return date_text(value, self.format.pattern, self.locale)
        return plain(value)

    def ticks(self, numbers: Sequence[float]) -> list[str]:
        """Numbers along an axis, written as the values are, with as many digits more as tell them apart."""
        whole = self.type.kind is Kind.INTEGER and not self.power
        if self.time or self.number is None or whole:
            # Between whole numbers there is nothing to be written.
            return ["" if whole and number != round(number) else self.near(number) for number in numbers]
        writer = copy.copy(self)
        writer.format = structs.replace(self.format, zero="", digits=0)
        for more in range(MOST_DIGITS):
            writer.number = copy.copy(self.number)
            least, most = self.number.frac_prec
            writer.number.frac_prec = (least + more, most + more)
            texts = [writer(float(number)) for number in numbers]
            if len(set(texts)) == len(set(numbers)):
                break
        return texts

    def near(self, number: float) -> str:
        """A number between values, written as they are: where they are whole, rounded to a whole one."""
        return self(round(number) if self.type.kind is Kind.INTEGER and not self.time else float(number))

    def _number(self, value: Any) -> str:
        if isinstance(value, float) and not math.isfinite(value):
            text = self.format.infinity or INFINITE
            return "not a number" if math.isnan(value) else f"−{text}" if value < 0 else text
        if value == 0 and self.format.zero:
            return self.format.zero
        with exactly():
            exact = (Decimal(repr(value)) if isinstance(value, float) else Decimal(value)).scaleb(-self.power)
            if self.time:
                return _signed(_time_text(exact * _SECONDS[self.format.duration], self.time))
            return _written(*self.rounded(exact), self.locale, self.currency)

    def rounded(self, exact: Decimal) -> tuple[Decimal, NumberPattern]:
        """A number as it is shown, half away from zero and never minus zero, and the pattern that shows it."""
        assert self.number is not None, "numbers have a pattern"
        with exactly():
            if not self.format.digits:
                return _half_away(self.number, exact), self.number
            shown = exact.scaleb(self.number.scale)
            if shown:
                shown = shown.quantize(Decimal(1).scaleb(shown.adjusted() - self.format.digits + 1), ROUND_HALF_UP)
            digits = max(0, self.format.digits - 1 - shown.adjusted()) if shown else 0
            if digits not in self._fixed:
                self._fixed[digits] = number = copy.copy(self.number)
                number.frac_prec = (digits, digits)
            return (shown or abs(shown)).scaleb(-self.number.scale), self._fixed[digits]


def formatter(type_: Type, format: Format, values: Iterable[Any], locale: str, currency: str) -> Writer:
    """How to write some values, given one by one."""
    numbers = [abs(value) for value in values if value] if type_.numeric else []
    finite = [each for each in numbers if not isinstance(each, float) or math.isfinite(each)]
    largest = max(finite, default=0)
    return Writer(
        type_, format, Decimal(repr(largest)) if isinstance(largest, float) else Decimal(largest), locale, currency
    )


def column_writer(column: Column, type_: Type, format: Format, locale: str, currency: str) -> Writer:
    """How to write the values of a column."""
    return Writer(type_, format, _largest(column, type_), locale, currency)


def _largest(column: Column, type_: Type) -> Decimal:
    if not type_.numeric or not len(column):
        return Decimal(0)
    values = column.values[there(column)]
    if type_.kind is Kind.FLOAT:
        values = values[np.isfinite(values)]
        return Decimal(repr(float(np.abs(values).max(initial=0.0))))
    if not len(values):
        return Decimal(0)
    return Decimal(max(abs(int(values.min())), abs(int(values.max())))).scaleb(-type_.scale)


def _half_away(number: NumberPattern, exact: Decimal) -> Decimal:
    if number.exp_prec is None and "@" not in number.pattern:
        # A percent pattern shows a hundred times the number: it is that which is rounded.
        _, digits = number.frac_prec
        exact = exact.scaleb(number.scale).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP).scaleb(-number.scale)
    return exact or abs(exact)


def _signed(text: str) -> str:
    # A hyphen is easily lost beside a digit; a minus sign is as wide as a digit.
    return text.replace("-", "−")


class _Ends(Struct, frozen=True):
    """What a pattern puts around the digits of a positive and of a negative number, and its separators."""

    before: str
    after: str
    minus_before: str
    minus_after: str
    group: str
    decimal: str


_DIGITS = re.compile(r"\d.*\d", re.DOTALL)


@lru_cache(maxsize=256)
def _ends(pattern: NumberPattern, locale: str, currency: str) -> _Ends | None:
    """The ends of a plain pattern: digits in threes or not grouped, one at least before the point; None for others."""
    grouped = pattern.grouping == (3, 3)
    if pattern.exp_prec is not None or "@" in pattern.pattern or pattern.int_prec[0] != 1:
        return None
    if not grouped and pattern.grouping[0] < 100:
        return None
    ends = []
    for sample in (Decimal(1234567), Decimal(-1234567)):
        text = _babel_text(sample.scaleb(-pattern.scale), pattern, locale, currency)
        core = _DIGITS.search(text)
        if core is None:
            return None
        ends += [text[: core.start()], text[core.end() :]]
    group = get_group_symbol(locale) if grouped else ""
    return _Ends(ends[0], ends[1], ends[2], ends[3], group, get_decimal_symbol(locale))


def _written(number: Decimal, pattern: NumberPattern, locale: str, currency: str) -> str:
    """A number that has been rounded, in a pattern: a plain one is written here, since a grid has many numbers."""
    ends = _ends(pattern, locale, currency)
    if ends is None:
        return _babel_text(number, pattern, locale, currency)
    least, most = pattern.frac_prec
    shown = number.scaleb(pattern.scale)
    whole, _, fraction = f"{abs(shown):,.{most}f}".partition(".")
    if len(fraction) > least:
        fraction = fraction[:least] + fraction[least:].rstrip("0")
    digits = whole.replace(",", ends.group) + (ends.decimal + fraction if fraction else "")
    return f"{ends.minus_before}{digits}{ends.minus_after}" if shown < 0 else f"{ends.before}{digits}{ends.after}"


def _babel_text(number: Decimal, pattern: NumberPattern, locale: str, currency: str) -> str:
    return _signed(pattern.apply(number, locale, currency=currency, currency_digits=False))


@cache
def number_pattern(pattern: str, locale: str) -> NumberPattern:
    """A pattern as a locale has it: ``#,##0`` says that digits are grouped, the locale how."""
    parsed = parse_pattern(pattern)
    usual = Locale.parse(locale).decimal_formats.get(None)
    if parsed.grouping == (3, 3) and usual is not None and pattern.count(",") == pattern.count(";") + 1:
        parsed = copy.copy(parsed)
        parsed.grouping = usual.grouping
    return parsed


def usual_pattern(type_: Type, largest: Decimal) -> str:
    """The pattern of numbers of a type that have none."""
    if type_.kind is Kind.INTEGER and largest == largest.to_integral_value():
        return "#,##0"
    if type_.kind is Kind.DECIMAL:
        digits = type_.scale if type_.scale <= 2 else 2
    else:
        digits = min(max(3 - largest.adjusted(), 0), MOST_DIGITS) if largest else 0
        digits = 2 if 2 < digits <= 3 and largest >= 1 else digits
    return "#,##0" + ("." + "0" * digits if digits else "")


# -- units ------------------------------------------------------------------------------------------------------------


def _power(scale: str, largest: Decimal, locale: str) -> int:
    """The power of ten of a scale; the automatic one leaves at most five digits before the point."""
    if scale != "automatic":
        return SCALES[scale] if scale else 0
    powers = [power for power in sorted(_compact(locale)) if largest.scaleb(-power) < 100_000]
    if not largest or largest < 100_000:
        return 0
    return powers[0] if powers else max(_compact(locale), default=0)


@cache
def _compact(locale: str) -> dict[int, str]:
    """The powers of ten that a locale has a word for, with it."""
    formats = Locale.parse(locale).compact_decimal_formats
    found: dict[int, str] = {}
    for kind in ("long", "short"):
        try:
            patterns = dict(formats[kind]["other"])
        except KeyError:
            continue
        for number, pattern in patterns.items():
            text = pattern.pattern
            # '0 thousand' at 1,000 is the unit itself; '00 thousand' at 10,000 the same one.
            if text.count("0") == 1 and text != "0":
                found.setdefault(len(number) - 1, text.replace("0", "").replace("'", "").strip())
        if found:
            break
    return found


@cache
def scale_word(scale: str, power: int, locale: str) -> str:
    """What a unit is called in a heading: by the locale where it has a word, else as a factor."""
    if locale.split("_")[0] == "en":
        own = {each: word for word, each in reversed(SCALES.items()) if each}
        return scale if scale in SCALES and scale != "automatic" else own.get(power, _compact(locale).get(power, ""))
    return _compact(locale).get(power) or f"× {format_decimal(10**power, locale=locale)}"


# -- durations --------------------------------------------------------------------------------------------------------

_SECONDS = {"seconds": 1, "minutes": 60, "hours": 3600, "days": 86400}
_TIMES = {"seconds": "h:mm:ss", "minutes": "h:mm", "hours": "h:mm", "days": "d'd' h'h'"}
_PIECE = re.compile(r"d+|h+|m+|s+|'[^']*'|.")
_LONG = {"d": 86400, "h": 3600, "m": 60, "s": 1}


def _time_text(seconds: Decimal, pattern: str) -> str:
    pieces = _PIECE.findall(pattern)
    smallest = min(_LONG[piece[0]] for piece in pieces if piece[0] in _LONG)
    left = int((abs(seconds) / smallest).quantize(Decimal(1), ROUND_HALF_UP)) * smallest
    sign = "-" if seconds < 0 and left else ""
    parts = {}
    for unit in sorted({piece[0] for piece in pieces if piece[0] in _LONG}, key=lambda each: -_LONG[each]):
        parts[unit], left = divmod(left, _LONG[unit])
    texts = [
        str(parts[piece[0]]).zfill(len(piece)) if piece[0] in parts else piece.strip("'") if piece[0] == "'" else piece
        for piece in pieces
    ]
    return sign + "".join(texts)


# -- other values -----------------------------------------------------------------------------------------------------


@cache
def date_text(value: date, pattern: str, locale: str) -> str:
    """A date or timestamp by a pattern of CLDR."""
    if isinstance(value, datetime):
        return format_datetime(value, pattern, locale=locale)
    return format_date(value, pattern, locale=locale)


def plain(value: Any) -> str:
    """A value that is not a number, as text."""
    if value is None:
        return BLANK
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, float) and value.is_integer() and abs(value) < 2.0**53:
        return str(int(value))
    return value.isoformat() if isinstance(value, date) else str(value)


def member_text(value: Any) -> str:
    """An axis member as text; years and other whole numbers are not grouped."""
    return "(null)" if value is None else plain(value)


_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


def _period_date(value: Any, period: str) -> date | None:
    """The first date of the period that a member of a calendar column is."""
    match period:
        case "month":
            return date.fromisoformat(f"{value}-01")
        case "quarter":
            return date(int(value[:4]), int(value[-1]) * 3 - 2, 1)
        case "year":
            return date(value, 1, 1)
        case "month_of_year":
            return date(2024, value, 1)
        case "quarter_of_year":
            return date(2024, value * 3 - 2, 1)
        case "weekday":
            return date(2024, 1, 1) + timedelta(days=_WEEKDAYS.index(value))
        case _:
            return value if isinstance(value, date) else None


def member_writer(pattern: str, period: str, locale: str) -> Callable[[Any], str]:
    """How the members of a column are written.

    Parameters
    ----------
    pattern : str
        The column's own number or date pattern, empty for none.
    period : str
        The name of the calendar's column, where it is one whose members are periods.
    locale : str
        For the names of months and for separators.
    """
    if not pattern:
        return member_text
    write = None
    if any(sign in pattern for sign in "#0@"):
        write = Writer(Type(Kind.FLOAT), Format(pattern=pattern), Decimal(0), locale, "")

    def written(value: Any) -> str:
        if value is None:
            return member_text(value)
        if write is not None:
            return write(value) if is_number(value) else member_text(value)
        day = _period_date(value, period)
        return member_text(value) if day is None else date_text(day, pattern, locale)

    return written
