"""Calendar changes: against a date-by-date evaluator, and the cases that people get wrong."""

from __future__ import annotations

import random
from datetime import date, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oracle_dates import moved as moved_by_date
from relatum.calendar.moves import Dates, moved
from relatum.calendar.steps import Before, Shift, Step, ToDate, Trailing, Whole

EPOCH = date(1970, 1, 1)


def step(kind: str, unit: str, number: int) -> Step:
    return {"back": lambda: Shift(-number, unit), "forward": lambda: Shift(number, unit), "before": Before,
            "to_date": lambda: ToDate(unit or None), "trailing": lambda: Trailing(number, unit), "whole": lambda: Whole(unit)}[kind]()  # fmt: skip


def engine(every: list[date], held: set[date], kind: str, unit: str, number: int, **settings_: object) -> set[date]:
    dates = Dates(np.array([(day - EPOCH).days for day in every]), **settings_)
    sets = np.array([[day in held for day in every]])
    return {day for day, kept in zip(every, moved(dates, sets, step(kind, unit, number))[0], strict=True) if kept}


def days(first: date, last: date) -> list[date]:
    return [first + timedelta(days=number) for number in range((last - first).days + 1)]


CALENDAR = days(date(2022, 11, 20), date(2025, 2, 10))
KINDS = ["back", "forward", "to_date", "before", "trailing", "whole"]


@pytest.mark.outside
@settings(max_examples=80, deadline=None)
@given(
    st.integers(0, 10**9), st.sampled_from(KINDS),
    st.sampled_from(["year", "quarter", "month", "week", "day"]), st.integers(1, 14),
)  # fmt: skip
def test_every_change_moves_dates_as_one_by_one(seed: int, kind: str, unit: str, number: int) -> None:
    rnd = random.Random(seed)
    first, last = sorted(rnd.sample(CALENDAR, 2))
    every = [day for day in CALENDAR if rnd.random() < 0.97]
    held = {day for day in days(first, last) if day in every and (rnd.random() < 0.9 or last.day < 5)}
    unit = "" if kind == "to_date" and rnd.random() < 0.2 else unit
    assert engine(every, held, kind, unit, number) == moved_by_date(every, held, step(kind, unit, number))


def month(year: int, number: int) -> set[date]:
    return {day for day in CALENDAR if (day.year, day.month) == (year, number)}


CASES = [
    ("a whole short month moves to the whole long one", month(2024, 2), ("back", "month", 1), month(2024, 1)),
    ("a whole long month moves to the whole short one", month(2024, 3), ("back", "month", 1), month(2024, 2)),
    ("29 February has no day a year before", {date(2024, 2, 29)}, ("back", "year", 1), set()),
    ("the end of a month keeps its number", {date(2024, 3, 31)}, ("back", "month", 1), set()),
    ("30 March finds no day in February", {date(2024, 3, 30), date(2024, 3, 29)}, ("back", "month", 1), {date(2024, 2, 29)}),
    ("a leap February moves whole", month(2024, 2), ("back", "year", 1), month(2023, 2)),
    ("a quarter is three months", month(2024, 5), ("back", "quarter", 1), month(2024, 2)),
    ("beyond the calendar there is nothing", month(2023, 1), ("back", "year", 5), set()),
    ("trailing months end with a whole month", month(2024, 2), ("trailing", "month", 2), month(2024, 1) | month(2024, 2)),
    ("trailing from the middle of a month", {date(2024, 3, 30)}, ("trailing", "month", 1), set(days(date(2024, 3, 1), date(2024, 3, 30)))),
    ("trailing days", {date(2024, 3, 2)}, ("trailing", "day", 3), set(days(date(2024, 2, 29), date(2024, 3, 2)))),
    ("month to date", {date(2024, 3, 3)}, ("to_date", "month", 0), set(days(date(2024, 3, 1), date(2024, 3, 3)))),
    ("before", {date(2022, 11, 22)}, ("before", "", 0), set(days(date(2022, 11, 20), date(2022, 11, 21)))),
    ("whole weeks start on Monday", {date(2024, 5, 15)}, ("whole", "week", 0), set(days(date(2024, 5, 13), date(2024, 5, 19)))),
    ("nothing stays nothing", set(), ("to_date", "year", 0), set()),
]  # fmt: skip


@pytest.mark.parametrize(("name", "held", "change", "expected"), CASES, ids=[case[0] for case in CASES])
def test_a_case_that_people_get_wrong(
    name: str, held: set[date], change: tuple[str, str, int], expected: set[date]
) -> None:
    assert engine(CALENDAR, held, *change) == expected, name


def test_fiscal_years_and_weeks_follow_the_calendars_settings() -> None:
    april = engine(CALENDAR, {date(2024, 5, 10)}, "to_date", "fiscal_year", 0, fiscal_year_starts=4)
    assert april == set(days(date(2024, 4, 1), date(2024, 5, 10)))
    quarter = engine(CALENDAR, {date(2024, 5, 10)}, "whole", "fiscal_quarter", 0, fiscal_year_starts=3)
    assert quarter == set(days(date(2024, 3, 1), date(2024, 5, 31)))
    sunday = engine(CALENDAR, {date(2024, 5, 15)}, "whole", "week", 0, week_starts="sunday")
    assert sunday == set(days(date(2024, 5, 12), date(2024, 5, 18)))
