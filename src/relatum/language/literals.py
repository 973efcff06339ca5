"""Constants as formulas write them."""

from __future__ import annotations

import math
import re
from datetime import date, datetime

from relatum.data.days import day_number, moment_number
from relatum.data.types import FLOAT, INTEGER, MAX_SCALE, NANOSECONDS, TIMESTAMP, decimal
from relatum.errors import FormulaError, Span
from relatum.language.tree import Literal


def piece_error(reason: str, span: Span, fix: str = "") -> FormulaError:
    """An error in a piece of a text that whoever reads the whole puts in."""
    return FormulaError(reason, text="", span=span, fix=fix)


def number_literal(text: str, span: Span) -> Literal:
    """A number: whole, decimal, or a float where it has an exponent."""
    shown = text if len(text) <= 40 else f"{text[:39]}…"
    if "e" in text.lower():
        number = float(text)
        if math.isinf(number):
            raise piece_error(f"The number {shown} is larger than any float.", span, "The largest is 1.79e308.")
        return Literal(number, FLOAT, span)
    whole, _, digits = text.partition(".")
    value = int(whole + digits) if len(text) < 400 else 1 << 63
    if value >= 1 << 63 or len(digits) > MAX_SCALE:
        fix = f"Write it as a float: {shown}e0." if len(text) < 300 else ""
        raise piece_error(f"The number {shown} does not fit in 64 bits.", span, fix)
    return Literal(value, decimal(len(digits)) if digits else INTEGER, span)


def day_literal(text: str, span: Span) -> int:
    """A date as its number of days since 1970."""
    try:
        return day_number(date.fromisoformat(text))
    except ValueError:
        raise piece_error(f"'{text}' is not a date.", span, "Write year, month and day: date '2024-05-31'.") from None


def moment_literal(text: str, span: Span) -> Literal:
    """A moment on the clocks of the model's time zone."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise piece_error(f"'{text}' is not a timestamp.", span, "Write timestamp '2024-05-31 17:30:00'.") from None
    if moment.tzinfo is not None:
        raise piece_error(
            f"'{text}' includes a time zone.", span, "Timestamps here are in the model's time zone: leave the zone out."
        )
    # Python keeps six digits of a second; the seventh to ninth are those of nanoseconds.
    digits = re.search(r"[.,](\d+)", text)
    finer = digits[1][6:9].ljust(3, "0") if digits and len(digits[1]) > 6 else ""
    number = moment_number(moment)
    if not int(finer or 0):
        return Literal(number, TIMESTAMP, span)
    return Literal(number * 1000 + int(finer), NANOSECONDS, span)
