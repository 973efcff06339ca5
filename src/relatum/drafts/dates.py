"""The calendar that a draft needs, and which dates point to it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import date

import numpy as np
from msgspec import Struct

from relatum.data import vectors as v
from relatum.data.columns import Array
from relatum.data.days import day_of
from relatum.data.types import INTEGER, Kind
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import Proposal
from relatum.model.declaration import CalendarRange, End, Relationship
from relatum.model.words import holds_from, is_beginning, words
from relatum.wording import counted

#: Dates this many years away from nearly all others mean that there is no date, as 1900-01-01 does.
_ALONE_YEARS = 20
_NEARLY_ALL = 0.005
#: What a generated calendar calls the parts of a date.
_GENERATED = {"year": "year", "month": "month_of_year", "day": "day"}


class DateParts(Struct, frozen=True):
    """Columns of whole numbers that together say a date: year and month, and the day where there is one."""

    columns: tuple[ColumnProfile, ...]

    @property
    def whole(self) -> bool:
        """Whether they say a day."""
        return len(self.columns) == 3

    def days(self) -> Array:
        """The days that they say, since 1970; the first of the month where they say no day."""
        year, month = (each.column.values.astype(np.int64) for each in self.columns[:2])
        first = ((year - 1970) * 12 + month - 1).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64)
        return np.asarray(first + self.columns[2].column.values - 1 if self.whole else first)


def existing_calendar(table: TableProfile, key: tuple[str, ...]) -> bool:
    """Whether a table has a row for each date of a stretch."""
    if len(key) != 1:
        return False
    column = table.columns[key[0]]
    if column.type.kind is not Kind.DATE or column.rows < 28:
        return False
    return column.column.upper - column.column.lower < 1.05 * column.rows


def dated(tables: Iterable[TableProfile], *, events: bool = False) -> list[tuple[TableProfile, list[ColumnProfile]]]:
    """The dates and moments of each table, the one it is counted by first.

    With ``events`` just those on which something happened: no birth of a person, no building of a house.
    """
    found = []
    for table in tables:
        columns = [
            each
            for each in table.columns.values()
            # From when a row of a list holds is not a date that anything happened on.
            if each.is_time and each.distinct and not holds_from(each.name)
            if not (events and is_beginning(each.name))
        ]
        columns = [each for each in columns if not any(_same_days(each, other) for other in columns)]
        if columns:
            found.append((table, sorted(columns, key=lambda each, table=table: date_rank(table, each))))  # type: ignore[misc]
    return found


def _same_days(moments: ColumnProfile, dates: ColumnProfile) -> bool:
    """Whether a column of moments says the days that a column of dates says: one of them is enough."""
    if moments.type.kind is not Kind.TIMESTAMP or dates.type.kind is not Kind.DATE or moments.nulls != dates.nulls:
        return False
    known = np.broadcast_to(v.known(dates.column), dates.rows)
    return bool(np.all(v.days_of(moments.column)[known] == v.days_of(dates.column)[known]))


def parts_of_dates(table: TableProfile) -> DateParts | None:
    """The columns of a table that say a date in parts: ``year``, ``month`` and ``day``, or the first two."""
    found: dict[tuple[str, ...], dict[str, ColumnProfile]] = {}
    limits = {"year": (1000, 2200), "month": (1, 12), "day": (1, 31)}
    for column in table.columns.values():
        parts = words(column.name)
        part = parts[-1] if parts else ""
        if part in limits and column.type == INTEGER and column.distinct and not column.nulls:
            low, high = limits[part]
            if low <= column.column.lower and column.column.upper <= high:
                found.setdefault(parts[:-1], {})[part] = column
    for group in found.values():
        if "year" in group and "month" in group:
            return DateParts(tuple(group[part] for part in limits if part in group))
    return None


def disagreeing(parts: DateParts, moments: ColumnProfile) -> int:
    """On how many rows a date in parts is another than the date of a column."""
    known = np.broadcast_to(v.known(moments.column), moments.rows)
    return int((known & (v.days_of(moments.column) != parts.days())).sum()) if parts.whole else 0


def leveled(tables: Iterable[TableProfile], skip: set[str]) -> list[ColumnProfile]:
    """The months, quarters and years of tables that have no date, those of the smaller tables first."""
    return [
        column
        for table in sorted(tables, key=lambda each: each.rows)
        if table.name not in skip
        for column in table.columns.values()
        if column.level or (column.is_year and not is_beginning(column.name))
    ]


def calendar_range(
    dates: Sequence[ColumnProfile], parts: Sequence[DateParts], levels: Sequence[ColumnProfile], through: str
) -> tuple[CalendarRange, str]:
    """Whole years around all dates and levels, and what speaks against it."""
    days = [_days(each) for each in dates]
    days += [each.days() for each in parts]
    years = [_years(each) for each in days]
    years += [_level_years(each) for each in levels]
    first, last = int(min(each.min() for each in years)), int(max(each.max() for each in years))
    usual = [np.quantile(each, [_NEARLY_ALL, 1 - _NEARLY_ALL]) for each in years]
    low, high = int(min(each[0] for each in usual)), int(max(each[1] for each in usual))
    doubt = ""
    if low - first > _ALONE_YEARS or last - high > _ALONE_YEARS:
        every = np.concatenate(days) if days else np.asarray([], np.int64)
        shown = f"{day_of(int(every.min()))} to {day_of(int(every.max()))}" if len(every) else f"{first} to {last}"
        doubt = f"dates from {shown}: some of them mean no date"
        first = low if low - first > _ALONE_YEARS else first
        last = high if last - high > _ALONE_YEARS else last
    return CalendarRange(date(first, 1, 1), date(last, 12, 31), through=through), doubt


def _days(column: ColumnProfile) -> Array:
    known = np.broadcast_to(v.known(column.column), column.rows)
    return np.asarray(v.days_of(column.column)[known])


def _years(days: Array) -> Array:
    return np.asarray(days.astype("datetime64[D]").astype("datetime64[Y]").astype(np.int64) + 1970)


def _level_years(column: ColumnProfile) -> Array:
    if column.is_year:
        return np.asarray(column.column.values[np.broadcast_to(v.known(column.column), column.rows)].astype(np.int64))
    return np.asarray([int(each[:4]) for each in column.texts])


def date_relationships(
    table: TableProfile, columns: list[ColumnProfile], calendar: str, key: str
) -> Iterator[Proposal]:
    """A fact's dates to the calendar: the first one active, the rest standing by."""
    for number, column in enumerate(columns):
        related = Relationship(End(table.name, (column.name,)), End(calendar, (key,)), standby=number > 0)
        noun = "moment" if column.type.kind is Kind.TIMESTAMP else "date"
        evidence = f"{counted(column.rows - column.nulls, noun)}"
        if noun == "moment":
            evidence += ", of which only the date is used"
        if number:
            evidence += f"; on standby behind {columns[0].name}: a formula uses it with via"
        yield Proposal(
            kind="relationship",
            subject=str(related),
            statement=str(related),
            confidence=0.97 if not number else 0.9,
            evidence=evidence,
            doubt="",
            content=related,
        )


def parts_relationship(parts: DateParts, calendar: str, there: TableProfile | None) -> Proposal | None:
    """A date in parts to the calendar's columns of the same parts; None where a calendar that is there lacks them."""
    table = parts.columns[0].table
    named = dict(zip(("year", "month", "day"), parts.columns, strict=False))
    targets = []
    for part in named:
        target = _GENERATED[part] if there is None else _own_part(there, part)
        if target is None:
            return None
        targets.append(target)
    many = End(table, tuple(each.name for each in parts.columns))
    related = Relationship(many, End(calendar, tuple(targets)), level=not parts.whole)
    evidence = f"{counted(parts.columns[0].rows, 'date')} in {len(named)} columns"
    return Proposal(
        kind="relationship",
        subject=str(related),
        statement=str(related),
        confidence=0.95,
        evidence=evidence,
        doubt="",
        content=related,
    )


def _own_part(calendar: TableProfile, part: str) -> str | None:
    for name, column in calendar.columns.items():
        if words(name)[-1:] == (part,) and column.type == INTEGER:
            return name
    return None


def level_relationship(column: ColumnProfile, calendar: str) -> Proposal:
    """A month, quarter or year to that level of the calendar."""
    level = column.level or "year"
    related = Relationship(End(column.table, (column.name,)), End(calendar, (level,)), level=True)
    evidence = f"{counted(column.distinct, level)}: {column.sample()}, …"
    return Proposal(
        kind="relationship",
        subject=str(related),
        statement=str(related),
        confidence=0.95 if column.level else 0.85,
        evidence=evidence,
        doubt="",
        content=related,
    )


def date_rank(table: TableProfile, column: ColumnProfile) -> tuple[int, int, int]:
    """Which of a fact's dates is the one it is counted by: the lower the better."""
    parts = set(words(column.name))
    late = set(
        "ship shipped due delivered delivery commit received paid updated created end required closed cancelled "
        "returned birth modified".split()
    )
    place = list(table.columns).index(column.name)
    is_late = bool(parts & late) or any(word.startswith(("ship", "due", "commit")) for word in parts)
    return int(is_late), column.nulls, place
