"""Numbers and other values in writing, by the patterns of Unicode CLDR."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import date, datetime
from decimal import ROUND_HALF_UP, Decimal, localcontext
from typing import Any

from babel import Locale, UnknownLocaleError
from babel.numbers import NumberPattern, parse_pattern

from relatum.data.types import Kind, Type
from relatum.errors import ModelError, RequestError

#: Shown where a cell has no value.
BLANK = "–"
_MOST_DIGITS = 6


def check_locale(locale: str) -> None:
    """Raise a ModelError for a locale that CLDR does not know."""
    try:
        Locale.parse(locale)
    except (UnknownLocaleError, ValueError):
        raise ModelError(
            f"The locale {locale} is not known.", fix="Write a language and a country: en_GB.", place=("locale",)
        ) from None


def check_format(pattern: str, label: str) -> None:
    """Raise a RequestError for the format of a requested value that is no number pattern."""
    try:
        check_pattern(pattern, label)
    except ModelError as error:
        reason = error.reason.replace("of measure", "of the value")
        raise RequestError(reason, fix=error.fix) from None


def check_pattern(pattern: str, measure: str) -> None:
    """Raise a ModelError for a text that is no number pattern."""
    try:
        parsed = parse_pattern(pattern)
        shown = parsed.apply(Decimal("1234.5"), "en", currency="EUR")
    except (ValueError, TypeError) as error:
        raise _bad_pattern(pattern, measure, str(error)) from None
    if not any(character in pattern for character in "#0@") or not any(character.isdigit() for character in shown):
        raise _bad_pattern(pattern, measure, "it has no digits")


def _bad_pattern(pattern: str, measure: str, why: str) -> ModelError:
    return ModelError(
        f"The format {pattern!r} of measure {measure} is no number pattern: {why}.",
        fix="Patterns are those of Unicode CLDR: #,##0.00 or 0.0% or ¤#,##0.",
        place=("measure", measure, "format"),
    )


def formatter(type_: Type, pattern: str, values: list[Any], locale: str, currency: str) -> Callable[[Any], str]:
    """How to write the values of one column of a grid.

    Parameters
    ----------
    type_ : Type
        Their type.
    pattern : str
        A CLDR number pattern; empty for the usual way of the type.
    values : list
        The values, from which a float column takes how many digits it needs.
    locale, currency : str
        For separators and the currency sign.
    """
    if type_.numeric:
        number: NumberPattern = parse_pattern(pattern or _usual(type_, values))

        def written(value: Any) -> str:
            if value is None:
                return BLANK
            with localcontext() as context:
                context.prec = _DIGITS
                rounded = _half_away(number, value)
                return _signed(number.apply(rounded, locale, currency=currency, currency_digits=False))

        return written
    return plain


#: Enough digits for the greatest float, written out, and for what stands after its point.
_DIGITS = 420


def _half_away(number: NumberPattern, value: Any) -> Decimal:
    """A number as it is shown: rounded half away from zero to the digits of its pattern, and never minus zero."""
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    if number.exp_prec is None and "@" not in number.pattern:
        # A percent pattern shows a hundred times the number: it is that which is rounded.
        _, digits = number.frac_prec
        exact = exact.scaleb(number.scale).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP).scaleb(-number.scale)
    return exact or abs(exact)


def _signed(text: str) -> str:
    # A hyphen is easily lost beside a digit; a minus sign is as wide as a digit.
    return text.replace("-", "−")


def plain(value: Any) -> str:
    """A value that is no number, as text."""
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


def _usual(type_: Type, values: list[Any]) -> str:
    if type_.kind is Kind.INTEGER:
        return "#,##0"
    if type_.kind is Kind.DECIMAL:
        digits = type_.scale if type_.scale <= 2 else 2
    else:
        largest = max((abs(value) for value in values if value), default=0.0)
        digits = min(max(3 - math.floor(math.log10(largest)), 0), _MOST_DIGITS) if largest else 0
        digits = 2 if 2 < digits <= 3 and largest >= 1 else digits
    return "#,##0" + ("." + "0" * digits if digits else "")
