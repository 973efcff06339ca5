"""The oracle's calendar: sets of dates moved one date at a time."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any


def moved(every: list[date], held: set[date], kind: str, unit: str, number: int) -> set[date]:
    """A set of dates after one calendar change, date by date."""
    months = {"month": 1, "quarter": 3, "year": 12}

    def unit_of(day: date) -> Any:
        return {"day": day, "week": day - timedelta(days=day.weekday()), "month": (day.year, day.month),
                "quarter": (day.year, (day.month - 1) // 3), "year": day.year}[unit]  # fmt: skip

    if kind in ("back", "forward"):
        sign = -1 if kind == "back" else 1
        if unit in ("day", "week"):
            shift = timedelta(days=sign * number * (7 if unit == "week" else 1))
            return {day + shift for day in held} & set(every)
        result = set()
        for day in held:
            month = [other for other in every if (other.year, other.month) == (day.year, day.month)]
            year, index = divmod(day.year * 12 + day.month - 1 + sign * number * months[unit], 12)
            target = [other for other in every if (other.year, other.month) == (year, index + 1)]
            result.update(target if held.issuperset(month) else [other for other in target if other.day == day.day])
        return result
    if not held:
        return set()
    last = max(held)
    if kind == "whole":
        units = {unit_of(day) for day in held}
        return {day for day in every if unit_of(day) in units}
    if kind == "before":
        return {day for day in every if day < min(held)}
    if kind == "to_date":
        return {day for day in every if day <= last and (not unit or unit_of(day) == unit_of(last))}
    if unit in ("day", "week"):
        first = last - timedelta(days=number * (7 if unit == "week" else 1) - 1)
    else:
        span = number * months[unit]
        if (last + timedelta(days=1)).day == 1:
            year, index = divmod(last.year * 12 + last.month - span, 12)
            first = date(year, index + 1, 1)
        else:
            year, index = divmod(last.year * 12 + last.month - 1 - span, 12)
            length = (date(year + index // 11, (index + 1) % 12 + 1, 1) - timedelta(days=1)).day
            first = date(year, index + 1, min(last.day, length)) + timedelta(days=1)
    return {day for day in every if first <= day <= last}
