"""Patterns of numbers and dates, and locales, as a model states them: checked before anything is written by them.

The library of locales is loaded for what is out of the ordinary alone.
"""

from __future__ import annotations

import re
from datetime import datetime
from decimal import Decimal

from relatum.errors import ModelError, RequestError
from relatum.model.declaration import Declaration

#: No number has more digits that mean something.
MOST_DIGITS = 40
#: What is right as it is: a trial would load the data of a locale.
_LANGUAGE_AND_COUNTRY = re.compile("[a-z]{2,3}(?:_[A-Z]{2})?")
_NUMBER_PATTERN = re.compile(r"(?:¤ ?)?(?:#,##)?0(?:\.0{1,9}#{0,9})?(?: ?[¤%])?")
_DATE_PATTERN = re.compile(r"(?:d{1,2}|M{1,4}|y|yy|yyyy)(?:[-./ ](?:d{1,2}|M{1,4}|y|yy|yyyy)){0,2}")
_TIME = re.compile(r"(?:d+|h+|m+|s+|[^\w']|'[^']*')*?(?:d+|h+|m+|s+)(?:d+|h+|m+|s+|[^\w']|'[^']*')*")


def is_time_pattern(pattern: str) -> bool:
    """Whether a text says how a duration is written, by its letters d, h, m and s."""
    return _TIME.fullmatch(pattern) is not None


def check_locale(locale: str) -> None:
    """Raise a ModelError for a locale that CLDR does not know."""
    from babel import Locale, UnknownLocaleError, localedata  # noqa: PLC0415 - see above

    if _LANGUAGE_AND_COUNTRY.fullmatch(locale) and localedata.exists(locale):
        return
    try:
        Locale.parse(locale)
    except (UnknownLocaleError, ValueError):
        raise ModelError(
            f"Unknown locale {locale}.", fix="Use a language and a country, such as en_GB.", place=("locale",)
        ) from None


def check_patterns(declaration: Declaration) -> None:
    """Raise a ModelError for a measure's or column's format that is not a pattern."""
    for measure in declaration.measures.values():
        if measure.format:
            check_pattern(measure.format, measure.name, bool(measure.writing.duration))
    for table in declaration.tables.values():
        for name, column in table.columns.items():
            if column.format:
                check_column_pattern(column.format, table.name, name)


def check_column_pattern(pattern: str, table: str, column: str) -> None:
    """Raise a ModelError for the format of a column's members that is not a pattern."""
    try:
        check_pattern(pattern, column)
    except ModelError as error:
        reason = error.reason.replace("of measure", "of the column").replace("number pattern", "pattern")
        place = ("table", table, "column", column, "format")
        raise ModelError(reason, fix=error.fix, place=place) from None


def check_format(pattern: str, label: str, duration: bool = False) -> None:
    """Raise a RequestError for the format of a requested value that is not a pattern."""
    try:
        check_pattern(pattern, label, duration)
    except ModelError as error:
        reason = error.reason.replace("of measure", "of the value")
        raise RequestError(reason, fix=error.fix) from None


def check_pattern(pattern: str, measure: str, duration: bool = False) -> None:
    """Raise a ModelError for a text that is neither a number pattern nor a date pattern."""
    if duration:
        if not is_time_pattern(pattern):
            raise _bad_pattern(pattern, measure, "a duration uses d, h, mm and ss, for example h:mm")
        return
    if not any(character in pattern for character in "#0@"):
        if _is_date_pattern(pattern):
            return
        raise _bad_pattern(pattern, measure, "it has no digits")
    if _NUMBER_PATTERN.fullmatch(pattern):
        return
    from babel.numbers import parse_pattern  # noqa: PLC0415 - see above

    try:
        parsed = parse_pattern(pattern)
        shown = parsed.apply(Decimal("1234.5"), "en", currency="EUR")
    except (ValueError, TypeError) as error:
        raise _bad_pattern(pattern, measure, str(error)) from None
    if not any(character.isdigit() for character in shown):
        raise _bad_pattern(pattern, measure, "it has no digits")
    if parsed.frac_prec[1] > MOST_DIGITS or parsed.int_prec[0] > MOST_DIGITS:
        raise _bad_pattern(pattern, measure, f"it has more than {MOST_DIGITS} digits before or after the point")


def _is_date_pattern(pattern: str) -> bool:
    if _DATE_PATTERN.fullmatch(pattern):
        return True
    bare = re.sub(r"'[^']*'", "", pattern)
    if not re.search(r"[yMLdEQqwW]", bare) or re.search(r"[^\W\dyMLdEcQqwWDHhKkmsaz]", bare):
        return False
    from babel.dates import format_datetime  # noqa: PLC0415 - see above

    try:
        return bool(format_datetime(datetime(2024, 5, 17), pattern, locale="en"))
    except (ValueError, KeyError, AttributeError):
        return False


def _bad_pattern(pattern: str, measure: str, why: str) -> ModelError:
    return ModelError(
        f"The format {pattern!r} of measure {measure} is not a number pattern: {why}.",
        fix="Use a Unicode CLDR pattern such as #,##0.00, 0.0% or ¤#,##0; for dates, d MMM y.",
        place=("measure", measure, "format"),
    )
