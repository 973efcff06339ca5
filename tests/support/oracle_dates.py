"""The oracle's calendar: sets of dates moved one date at a time."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

from relatum.calendar.steps import Before, Shift, Step, ToDate, Trailing, Whole

MONTHS = {"month": 1, "quarter": 3, "year": 12}


def unit_of(day: date, unit: str) -> Any:
    return {"day": day, "week": day - timedelta(days=day.weekday()), "month": (day.year, day.month),
            "quarter": (day.year, (day.month - 1) // 3), "year": day.year}[unit]  # fmt: skip


def moved(every: list[date], held: set[date], step: Step) -> set[date]:
    """A set of dates after one calendar change, date by date."""
    if isinstance(step, Shift):
        return shifted(every, held, step)
    if not held:
        return set()
    last = max(held)
    match step:
        case Whole(unit):
            units = {unit_of(day, unit) for day in held}
            return {day for day in every if unit_of(day, unit) in units}
        case Before():
            return {day for day in every if day < min(held)}
        case ToDate(unit):
            return {day for day in every if day <= last and (not unit or unit_of(day, unit) == unit_of(last, unit))}
        case Trailing(number, unit):
            first = trailing_start(last, number, unit)
            return {day for day in every if first <= day <= last}
    raise AssertionError(step)


def shifted(every: list[date], held: set[date], step: Shift) -> set[date]:
    if step.unit in ("day", "week"):
        shift = timedelta(days=step.number * (7 if step.unit == "week" else 1))
        return {day + shift for day in held} & set(every)
    result = set()
    for day in held:
        month = [other for other in every if (other.year, other.month) == (day.year, day.month)]
        year, index = divmod(day.year * 12 + day.month - 1 + step.number * MONTHS[step.unit], 12)
        target = [other for other in every if (other.year, other.month) == (year, index + 1)]
        result.update(target if held.issuperset(month) else [other for other in target if other.day == day.day])
    return result


def trailing_start(last: date, number: int, unit: str) -> date:
    if unit in ("day", "week"):
        return last - timedelta(days=number * (7 if unit == "week" else 1) - 1)
    span = number * MONTHS[unit]
    if (last + timedelta(days=1)).day == 1:
        year, index = divmod(last.year * 12 + last.month - span, 12)
        return date(year, index + 1, 1)
    year, index = divmod(last.year * 12 + last.month - 1 - span, 12)
    length = (date(year + index // 11, (index + 1) % 12 + 1, 1) - timedelta(days=1)).day
    return date(year, index + 1, min(last.day, length)) + timedelta(days=1)
