"""The columns of a generated calendar."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from relatum.data.buffers import texts_array
from relatum.data.columns import Array, Column, exact_column, text_column
from relatum.data.days import day_number
from relatum.data.table import TableData
from relatum.data.types import DATE, INTEGER, TEXT, Type
from relatum.model.declaration import WEEKDAYS, CalendarRange

COLUMNS: dict[str, Type] = {
    "date": DATE,
    "year": INTEGER,
    "quarter": TEXT,
    "month": TEXT,
    "week": DATE,
    "day": INTEGER,
    "month_of_year": INTEGER,
    "quarter_of_year": INTEGER,
    "weekday": TEXT,
    "fiscal_year": INTEGER,
    "fiscal_quarter": TEXT,
}


def generate_calendar(span: CalendarRange) -> TableData:
    """One row for each date of a range.

    A fiscal year is named after the year in which it ends; ``week`` is the date of the week's first day.

    Parameters
    ----------
    span : CalendarRange
        First and last date, the month in which the fiscal year starts, the day on which the week does.

    Examples
    --------
    >>> from datetime import date
    >>> year = CalendarRange(date(2024, 1, 1), date(2024, 12, 31), fiscal_year_starts=4)
    >>> generate_calendar(year).rows
    366
    """
    days = np.arange(day_number(span.first), day_number(span.last) + 1, dtype=np.int64)
    dates = days.astype("datetime64[D]")
    months = dates.astype("datetime64[M]")
    month_number = months.astype(np.int64)
    year, month = month_number // 12 + 1970, month_number % 12 + 1
    start = WEEKDAYS.index(span.week_starts)
    weekday = (days + 3) % 7  # 1 January 1970 was a Thursday
    # The fiscal year is the calendar year of the month that is as far past its start as January past none.
    fiscal_month = month_number + (13 - span.fiscal_year_starts) % 12
    fiscal_year = fiscal_month // 12 + 1970
    names = [name.capitalize() for name in WEEKDAYS]
    # Each column is made when it is first asked for: few questions read more than two of them.
    columns: dict[str, Callable[[], Column]] = {
        "date": lambda: exact_column(DATE, days),
        "year": lambda: exact_column(INTEGER, year),
        "quarter": lambda: _labelled(year, (month - 1) // 3 + 1, "Q", 1),
        "month": lambda: _labelled(year, month, "", 2),
        "week": lambda: exact_column(DATE, days - (weekday - start) % 7),
        "day": lambda: exact_column(INTEGER, (dates - months.astype("datetime64[D]")).astype(np.int64) + 1),
        "month_of_year": lambda: exact_column(INTEGER, month),
        "quarter_of_year": lambda: exact_column(INTEGER, (month - 1) // 3 + 1),
        "weekday": lambda: text_column(TEXT, weekday, texts_array(names)),
        "fiscal_year": lambda: exact_column(INTEGER, fiscal_year),
        "fiscal_quarter": lambda: _labelled(fiscal_year, fiscal_month % 12 // 3 + 1, "Q", 1),
    }
    orders = {"weekday": names[start:] + names[:start]}
    return TableData(COLUMNS, len(days), lambda name: columns[name](), orders=orders)


def _labelled(year: Array, part: Array, letter: str, digits: int) -> Column:
    pairs, codes = np.unique(year * 100 + part, return_inverse=True)
    texts = [f"{pair // 100:04d}-{letter}{pair % 100:0{digits}d}" for pair in pairs.tolist()]
    return text_column(TEXT, codes, texts_array(texts))
