"""Moments: the range that is allowed, and the wall clock of a time zone."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

import numpy as np

from relatum.data.columns import Array
from relatum.data.days import FIRST_DAY, LAST_DAY
from relatum.errors import ModelError, SourceError

SECONDS_A_DAY = 86_400
#: How many of an Arrow unit a second has.
PER_SECOND = {"s": 1, "ms": 10**3, "us": 10**6, "ns": 10**9}
#: For how many days nanoseconds since 1970 fit 64 bits.
MOST_NANO_DAYS = 106_751
#: The first second of the year 1, and the first after the year 9999.
_FIRST, _END = FIRST_DAY * SECONDS_A_DAY, (LAST_DAY + 1) * SECONDS_A_DAY

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo


def check_zone(name: str) -> None:
    """Raise a ModelError unless there is a time zone of this name."""
    if name == "UTC":
        return
    from zoneinfo import ZoneInfo  # noqa: PLC0415 - most models name none

    try:
        ZoneInfo(name)
    except (KeyError, ValueError, OSError):  # not there, no name at all, a folder of names
        raise ModelError(
            f"Unknown time zone {name!r}.",
            fix="Use a name from the IANA database: Europe/Berlin, America/New_York, UTC.",
            place=("timezone",),
        ) from None


def wall_clock(moments: Array, per_second: int, zone: str) -> Array:
    """Moments of UTC as the clocks of a zone showed them.

    Parameters
    ----------
    moments : array of int64
        Since the beginning of 1970, in UTC.
    per_second : int
        How many units a second has: 1,000,000 for microseconds.
    zone : str
        A name of the IANA database.

    Returns
    -------
    array of int64
        In the same unit. When clocks are put back, an hour occurs twice.

    Examples
    --------
    >>> import numpy as np
    >>> wall_clock(np.array([0, 1_593_561_600]), 1, "Europe/Paris").tolist()
    [3600, 1593568800]
    """
    if zone == "UTC" or not len(moments):
        return moments
    seconds = np.floor_divide(moments, per_second)
    days = np.floor_divide(seconds, SECONDS_A_DAY)
    first, last = int(days.min()), int(days.max())
    if last - first < len(days):
        known, places = np.arange(first, last + 1), days - first
    else:
        known, places = np.unique(days, return_inverse=True)
    from zoneinfo import ZoneInfo  # noqa: PLC0415 - as above

    place = ZoneInfo(zone)
    before = [_offset(place, int(day) * SECONDS_A_DAY) for day in known]
    after = [_offset(place, int(day + 1) * SECONDS_A_DAY) for day in known]
    # Clocks change at most once a day: the second at which they do is between two offsets that differ.
    turns = [
        _turn(place, int(day) * SECONDS_A_DAY, one) if one != other else int(day + 1) * SECONDS_A_DAY
        for day, one, other in zip(known, before, after, strict=True)
    ]
    turned = seconds >= np.asarray(turns, np.int64)[places]
    offsets = np.where(turned, np.asarray(after, np.int64)[places], np.asarray(before, np.int64)[places])
    return np.asarray(moments + offsets * per_second)


def _offset(place: ZoneInfo, second: int) -> int:
    """By how many seconds a zone's clocks are ahead of UTC."""
    try:
        offset = datetime.fromtimestamp(second, UTC).astimezone(place).utcoffset()
    except (OverflowError, ValueError):  # at the very ends of the years 1 to 9999
        return 0
    return 0 if offset is None else round(offset.total_seconds())


def _turn(place: ZoneInfo, start: int, before: int) -> int:
    """The first second of a day at which the offset is another."""
    low, high = start, start + SECONDS_A_DAY
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (middle, high) if _offset(place, middle) == before else (low, middle)
    return high


def refuse_far_moments(moments: Array, per_second: int, nulls: Array | None) -> None:
    """Raise a SourceError for a moment outside the years 1 to 9999."""
    far = (moments < _FIRST * per_second) | (moments >= _END * per_second)
    _refuse(far, nulls, lambda row: f"{moments[row] / per_second:,.0f} seconds from 1970")


def refuse_far_days(days: Array, nulls: Array | None) -> None:
    """Raise a SourceError for a date outside the years 1 to 9999."""
    far = (days < FIRST_DAY) | (days > LAST_DAY)
    _refuse(far, nulls, lambda row: str(np.datetime64(int(days[row]), "D")))


def _refuse(far: Array, nulls: Array | None, written: Callable[[int], str]) -> None:
    if nulls is not None:
        far = far & ~nulls
    if np.any(far):
        row = int(np.flatnonzero(far)[0])
        raise SourceError(
            f"holds a date outside the years 1 to 9999 in row {row + 1:,}: {written(row)}",
            fix='If it means no date, list it in the column\'s null setting: null = ["…"]. Otherwise correct it.',
        )
