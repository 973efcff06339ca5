"""Moving sets of dates: years back, the year to date, trailing months.

A set of dates is a row of a boolean matrix whose columns are the calendar's dates in order.
"""

from __future__ import annotations

from typing import assert_never

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.calendar.steps import Before, Shift, Step, ToDate, Trailing, Unit, Whole
from relatum.data.columns import Array
from relatum.data.groups import true_places
from relatum.model.declaration import WEEKDAYS

Sets = NDArray[np.bool_]
_MONTHS = {"month": 1, "quarter": 3, "year": 12, "fiscal_quarter": 3, "fiscal_year": 12}


class Dates(Struct, frozen=True, eq=False):
    """A calendar's dates as days since 1970, in order and distinct, with the start of its years and weeks."""

    days: Array
    fiscal_year_starts: int = 1
    week_starts: str = "monday"

    @property
    def months(self) -> Array:
        """The month of each date, counted from January 1970."""
        return np.asarray(self.days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64))

    def units(self, unit: Unit) -> Array:
        """A number for each date's unit: the same for all dates of one unit, growing with time."""
        months = self.months
        if unit == "day":
            return self.days
        if unit == "week":
            start = WEEKDAYS.index(self.week_starts)
            return np.asarray((self.days + 3 - start) // 7)
        if unit.startswith("fiscal"):
            months = months - (self.fiscal_year_starts - 1)
        return np.asarray(months // _MONTHS[unit])


class Uneven(Struct, frozen=True):
    """A month that moves as a whole to another, where the calendar has only a part of one of the two.

    ``month`` and ``other`` are counted from January 1970, with how many days of each the calendar has.
    """

    month: int
    days: int
    other: int
    other_days: int


def uneven_months(days: Array, step: Step) -> list[Uneven]:
    """The months that a step compares with another of which a calendar has more or fewer days than there are.

    That is so at its ends alone, where it begins or ends within a month. ``days`` are its dates since 1970, in order.
    """
    if not isinstance(step, Shift) or step.unit in ("day", "week") or not len(days):
        return []
    months, span = Dates(days).months, step.number * _MONTHS[step.unit]
    first, last = int(months[0]), int(months[-1])
    day = days.astype("datetime64[D]")
    begins = day[0] == day[0].astype("datetime64[M]").astype("datetime64[D]")
    ends = (day[-1] + np.timedelta64(1, "D")).astype("datetime64[M]") != day[-1].astype("datetime64[M]")
    cut = {month for month, whole in ((first, begins), (last, ends)) if not whole}
    counts = dict(zip(*(each.tolist() for each in np.unique(months, return_counts=True)), strict=True))
    pairs = sorted({(month, month + span) for month in cut} | {(month - span, month) for month in cut})
    return [
        Uneven(one, counts[one], other, counts[other])
        for one, other in pairs
        if one in counts and other in counts and counts[one] != counts[other]
    ]


def moved(dates: Dates, sets: Sets, step: Step) -> Sets:
    """Sets of dates after one calendar change.

    Parameters
    ----------
    dates : Dates
        The calendar.
    sets : array of bool, shape (sets, dates)
        Which dates each set holds.
    step : Step
        The change.

    Returns
    -------
    array of bool, shape (sets, dates)

    Examples
    --------
    >>> january_and_february = Dates(np.arange(19723, 19723 + 60))  # of 2024
    >>> february = january_and_february.units("month") == 649
    >>> int(moved(january_and_february, february[None], Shift(-1, "month")).sum())
    31
    """
    if not sets.size:
        return sets
    match step:
        case Shift(number, unit):
            return _shifted(dates, sets, unit, number)
        case Whole(unit):
            return _whole(dates.units(unit), sets)
        case Before():
            some = np.asarray(sets.any(axis=1))[:, None]
            return np.asarray(some & (np.arange(sets.shape[1])[None] < sets.argmax(axis=1)[:, None]))
        case Trailing(number, unit):
            start = _trailing_start(dates, _last(sets), unit, number)
            return np.asarray(_up_to_last(sets) & (dates.days[None] >= start[:, None]))
        case ToDate(unit):
            if unit is None:
                return _up_to_last(sets)
            units = dates.units(unit)
            return np.asarray(_up_to_last(sets) & (units[None] == units[_last(sets)][:, None]))
        case _:
            assert_never(step)


def _last(sets: Sets) -> Array:
    """The place of each set's last date."""
    return np.asarray(sets.shape[1] - 1 - sets[:, ::-1].argmax(axis=1))


def _up_to_last(sets: Sets) -> Sets:
    last = np.where(sets.any(axis=1), _last(sets), -1).astype(np.int32)
    return np.asarray(np.arange(sets.shape[1], dtype=np.int32)[None] <= last[:, None])


def _whole(units: Array, sets: Sets) -> Sets:
    _, starts, counts = np.unique(units, return_index=True, return_counts=True)
    return np.asarray(np.repeat(np.logical_or.reduceat(sets, starts, axis=1), counts, axis=1))


def _trailing_start(dates: Dates, last: Array, unit: Unit, number: int) -> Array:
    end = dates.days[last]
    if unit in ("day", "week"):
        return np.asarray(end - number * (7 if unit == "week" else 1) + 1)
    span = number * _MONTHS[unit]
    month = end.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    whole = end == _first_days(month + 1) - 1
    clamped = np.minimum(_first_days(month - span) + (end - _first_days(month)), _first_days(month - span + 1) - 1)
    return np.where(whole, _first_days(month - span + 1), clamped + 1)


def _first_days(months: Array) -> Array:
    """The first day of each month, in days since 1970, of months counted from January 1970."""
    return np.asarray(months.astype("datetime64[M]").astype("datetime64[D]").astype(np.int64))


def _shifted(dates: Dates, sets: Sets, unit: Unit, number: int) -> Sets:
    if unit in ("day", "week"):
        return _carried(sets, _places(dates.days, dates.days + number * (7 if unit == "week" else 1)))
    span = number * _MONTHS[unit]
    months = dates.months
    start = _first_days(months)
    target_start, target_stop = _first_days(months + span), _first_days(months + span + 1)
    same_day = target_start + (dates.days - start)
    places = np.where(same_day < target_stop, _places(dates.days, same_day), -1)
    distinct, starts, counts = np.unique(months, return_index=True, return_counts=True)
    # Dates keep their day number; a month that is wholly in the set moves as a whole, its last days included.
    whole = np.logical_and.reduceat(sets, starts, axis=1)
    single = _carried(sets, places)
    if not whole.any():
        return single
    return np.asarray(single | np.repeat(_carried(whole, _places(distinct, distinct + span)), counts, axis=1))


def _places(sorted_values: Array, wanted: Array) -> Array:
    found = np.searchsorted(sorted_values, wanted).clip(max=len(sorted_values) - 1)
    return np.where(sorted_values[found] == wanted, found, -1)


def _carried(sets: Sets, places: Array) -> Sets:
    """The sets with each date at another place, or at none where that is -1. Most sets hold few dates."""
    result = np.zeros_like(sets)
    rows, columns = true_places(sets)
    goals = places[columns]
    there = goals >= 0
    result[rows[there], goals[there]] = True
    return result
