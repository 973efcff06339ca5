"""Dates as whole numbers of days, and moments as microseconds, since 1970."""

from __future__ import annotations

from datetime import date, datetime, timedelta

EPOCH = date(1970, 1, 1)
EPOCH_MOMENT = datetime(1970, 1, 1)
MICROSECONDS_A_DAY = 86_400_000_000
#: The days of the first and the last date that there is: years 1 to 9999.
FIRST_DAY, LAST_DAY = (date.min - EPOCH).days, (date.max - EPOCH).days


def day_number(day: date) -> int:
    """Days since 1970 of a date."""
    return (day - EPOCH).days


def day_of(number: int) -> date:
    """The date a number of days after 1 January 1970."""
    return EPOCH + timedelta(days=int(number))


def moment_number(moment: datetime) -> int:
    """Microseconds since 1970 of a moment without a zone."""
    return (moment - EPOCH_MOMENT) // timedelta(microseconds=1)


def moment_of(number: int) -> datetime:
    """The moment a number of microseconds after the beginning of 1970."""
    return EPOCH_MOMENT + timedelta(microseconds=int(number))
