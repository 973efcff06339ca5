"""The calendar that a draft needs, and which dates point to it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from relatum.data.days import day_of
from relatum.data.types import Kind
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import Proposal
from relatum.drafts.relationships import date_rank
from relatum.drafts.words import holds_from
from relatum.model.declaration import CalendarRange, End, Relationship
from relatum.wording import counted

#: A calendar over more years than this comes from a placeholder such as 1900-01-01 rather than from business.
_MOST_YEARS = 60


def existing_calendar(table: TableProfile, key: tuple[str, ...]) -> bool:
    """Whether a table has a row for each date of a stretch."""
    if len(key) != 1:
        return False
    column = table.columns[key[0]]
    if column.type.kind is not Kind.DATE or column.rows < 28:
        return False
    return column.column.upper - column.column.lower < 1.05 * column.rows


def dated(facts: list[TableProfile]) -> list[tuple[TableProfile, list[ColumnProfile]]]:
    """The date columns of each fact, the one it is counted by first."""
    found = []
    for table in facts:
        columns = [
            each
            for each in table.columns.values()
            # From when a row of a list holds is no date that anything happened on.
            if each.type.kind is Kind.DATE and each.distinct and not holds_from(each.name)
        ]
        if columns:
            found.append((table, sorted(columns, key=lambda each, table=table: date_rank(table, each))))  # type: ignore[misc]
    return found


def leveled(tables: list[TableProfile], skip: set[str]) -> list[ColumnProfile]:
    """The months, quarters and years of tables that have no date, those of the smaller tables first."""
    return [
        column
        for table in sorted(tables, key=lambda each: each.rows)
        if table.name not in skip
        for column in table.columns.values()
        if column.level or column.is_year
    ]


def calendar_range(dates: list[ColumnProfile], levels: list[ColumnProfile], through: str) -> tuple[CalendarRange, str]:
    """Whole years around all dates and levels, and what speaks against it."""
    firsts = [day_of(each.column.lower) for each in dates]
    lasts = [day_of(each.column.upper) for each in dates]
    years = [each.year for each in (*firsts, *lasts)]
    for column in levels:
        years += (
            [column.column.lower, column.column.upper] if column.is_year else [int(each[:4]) for each in column.texts]
        )
    first, last = min(years), max(years)
    doubt = ""
    if last - first > _MOST_YEARS:
        doubt = f"dates from {min(firsts)} to {max(lasts)}: some of them stand for none"
        usual = sorted(years)[len(years) // 2]
        first, last = max(first, usual - _MOST_YEARS), min(last, usual + _MOST_YEARS)
    return CalendarRange(date(first, 1, 1), date(last, 12, 31), through=through), doubt


def date_relationships(
    table: TableProfile, columns: list[ColumnProfile], calendar: str, key: str
) -> Iterator[Proposal]:
    """A fact's dates to the calendar: the first one active, the others standing by."""
    for number, column in enumerate(columns):
        related = Relationship(End(table.name, (column.name,)), End(calendar, (key,)), standby=number > 0)
        evidence = f"{counted(column.rows - column.nulls, 'date')}"
        if number:
            evidence += f"; stands by for {columns[0].name}: a formula takes it with via"
        yield Proposal("relationship", str(related), str(related), 0.97 if not number else 0.9, evidence, "", related)


def level_relationship(column: ColumnProfile, calendar: str) -> Proposal:
    """A month, quarter or year to that level of the calendar."""
    level = column.level or "year"
    related = Relationship(End(column.table, (column.name,)), End(calendar, (level,)), level=True)
    evidence = f"{counted(column.distinct, level)}: {column.sample()}, …"
    return Proposal("relationship", str(related), str(related), 0.95 if column.level else 0.85, evidence, "", related)
