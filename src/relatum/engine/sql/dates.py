"""Sets of dates as relations: the dates visible under period filters, cut at the end of the data, then moved."""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from typing import assert_never

from sqlglot import exp

from relatum.calendar.moves import uneven_months
from relatum.calendar.steps import Before, Shift, Step, ToDate, Trailing, Unit, Whole
from relatum.data.types import DATE
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import Rows
from relatum.engine.sql.seen import Entry, Seer, SetRelation
from relatum.engine.sql.sheet import KeyColumn
from relatum.engine.sql.terms import (
    Sql,
    aliased,
    all_of,
    any_of,
    at_most,
    cast,
    column,
    copied,
    equal,
    is_null,
    is_there,
    less,
    minus,
    negated,
    number,
    plus,
    remainder,
    sql_type,
    text,
    times,
)
from relatum.model.declaration import WEEKDAYS
from relatum.model.names import column_name
from relatum.model.routes import Place
from relatum.plan.engine import CutPeriod, PartPeriod, UnevenMonths
from relatum.plan.nodes import Bounds, Calendar, DateSet

_MONTHS = {"month": 1, "quarter": 3, "year": 12, "fiscal_quarter": 3, "fiscal_year": 12}
_EPOCH, _MONTHS_BEFORE = "1970-01-01", 12 * 1970
#: Days added so that weeks before 1970 get positive numbers as well: a multiple of 7.
_AHEAD = 7 * 200_000
#: What the dates of a calendar are called: the date, its day since 1970, its month since year 0, its day of the month.
_COLUMNS = ("d", "n", "m", "f")

Cells = Sequence[tuple[Entry, KeyColumn]]


class Dates:
    """Makes relations of sets of dates.

    Parameters
    ----------
    parts : Parts
        What selects are made of.
    seer : Seer
        Makes the rows of a calendar that cells see.
    """

    def __init__(self, parts: Parts, seer: Seer) -> None:
        self.parts = parts
        self.seer = seer
        self._calendars: dict[str, str] = {}

    def relation(self, dates: DateSet, place: Place) -> SetRelation:
        """The relation of a set of dates: the dates, or the members of a level that contain them."""
        name, cells = self._visible(dates)
        calendar = self._calendar(dates.calendar)
        for step in dates.steps:
            name = self._moved(dates.calendar, calendar, name, cells, step)
        if not place.level:
            return SetRelation(name, tuple(cells), ("d",))
        rows, start = Rows.of(self.parts, dates.calendar.table)
        alias = self.parts.alias("dates")
        day = rows.column(start, dates.calendar.date_column).sql
        rows.join(self.parts.sheet.table(name, alias), [equal(column(alias, "d"), day)], left=False)
        own = [aliased(rows.column(start, each).sql, f"l{at}") for at, each in enumerate(place.level)]
        rows.where += [is_there(rows.column(start, each).sql) for each in place.level]
        select = rows.select(*_copied(alias, cells), *own, distinct=True)
        known = self.parts.sheet.add("periods", select)
        self._note_parts(dates, place, name, cells)
        return SetRelation(known, tuple(cells), tuple(f"l{at}" for at in range(len(place.level))))

    def _note_parts(self, dates: DateSet, place: Place, name: str, cells: Cells) -> None:
        """Have it noted where sets cover a period of a coarse fact only in part."""
        rows, start = Rows.of(self.parts, dates.calendar.table)
        alias = self.parts.alias("dates")
        day = rows.column(start, dates.calendar.date_column).sql
        rows.join(self.parts.sheet.table(name, alias), [equal(column(alias, "d"), day)], left=False)
        own = [aliased(rows.column(start, each).sql, f"l{at}") for at, each in enumerate(place.level)]
        keys = [*_copied(alias, cells), *own]
        covered = rows.select(*keys, aliased(exp.Count(this=exp.Star()), "days"), grouped=len(keys))
        rows, start = Rows.of(self.parts, dates.calendar.table)
        own = [aliased(rows.column(start, each).sql, f"l{at}") for at, each in enumerate(place.level)]
        whole = rows.select(*own, aliased(exp.Count(this=exp.Star()), "days"), grouped=len(own))
        outer = self._from(self.parts.sheet.add("days_covered", covered), "s")
        on = [equal(column("s", f"l{at}"), column("w", f"l{at}")) for at in range(len(own))]
        outer.join(self.parts.sheet.table(self.parts.sheet.add("days_of_periods", whole), "w"), on, left=False)
        outer.where.append(less(column("s", "days"), column("w", "days")))
        names = " and ".join(column_name(place.table, each) for each in place.level)
        self.parts.remark(PartPeriod(names), outer.select(_count()))

    def _visible(self, dates: DateSet) -> tuple[str, Cells]:
        """The dates that cells see before any change, up to the end of the data."""
        calendar = dates.calendar
        bounds = Bounds(calendar.table, dates.matches, dates.restrictions, dates.within, dates.kept)
        seen = self.seer.see(bounds)
        rows = seen.rows
        columns: list[Sql] = []
        cells: list[tuple[Entry, KeyColumn]] = []
        for at, (entry, key) in enumerate(seen.entries):
            columns.append(aliased(key.value, f"c{at}"))
            if key.state is not None:
                columns.append(aliased(key.state, f"c{at}s"))
            cells.append((entry, KeyColumn(f"c{at}", None if key.state is None else f"c{at}s")))
        day = rows.column(seen.start, calendar.date_column).sql
        end = self.parts.tables.last_date(calendar, dates.ends)
        if end is not None:
            limit = cast(text(end.isoformat()), sql_type(DATE))
            if not all(isinstance(step, Shift) and step.number > 0 for step in dates.steps):
                later = copy(rows)
                later.where = [*(each.copy() for each in rows.where), less(limit.copy(), day.copy())]
                later.source, later.joins = rows.source.copy(), [each.copy() for each in rows.joins]
                self.parts.remark(CutPeriod(calendar.table, end), later.select(_count()))
            rows.where.append(at_most(day.copy(), limit))
        return self.parts.sheet.add("dates_seen", rows.select(*columns, *self._numbers(day))), cells

    def _numbers(self, day: Sql) -> list[Sql]:
        dialect = self.parts.dialect
        months = minus(
            plus(times(dialect.part("YEAR", day.copy()), number(12)), dialect.part("MONTH", day.copy())), number(1)
        )
        count = dialect.days_between(day.copy(), cast(text(_EPOCH), sql_type(DATE)))
        numbers = (day, count, months, dialect.part("DAY", day.copy()))
        return [aliased(each, name) for each, name in zip(numbers, _COLUMNS, strict=True)]

    def _calendar(self, calendar: Calendar) -> str:
        """All dates of a calendar, with the numbers that changes count by."""
        if calendar.table not in self._calendars:
            rows, start = Rows.of(self.parts, calendar.table)
            day = rows.column(start, calendar.date_column).sql
            rows.where.append(is_there(day.copy()))
            name = self.parts.sheet.add(f"days_of_{calendar.table}", rows.select(*self._numbers(day)))
            self._calendars[calendar.table] = name
        return self._calendars[calendar.table]

    # -- changes ------------------------------------------------------------------------------------------------------

    def _moved(self, settings: Calendar, calendar: str, name: str, cells: Cells, step: Step) -> str:
        match step:
            case Shift(count, "day" | "week" as unit):
                days = count * (7 if unit == "week" else 1)
                on = equal(column("c", "n"), plus(column("s", "n"), number(days)))
                return self._joined("dates_moved", name, cells, calendar, [on])
            case Shift(count, unit):
                return self._shifted(settings, calendar, name, cells, step, count * _MONTHS[unit])
            case Whole(unit):
                on = equal(_unit(settings, "c", unit), _unit(settings, "s", unit))
                return self._joined("dates_whole", name, cells, calendar, [on], distinct=True)
            case Before():
                first = self._edge(name, cells, last=False)
                return self._joined("dates_before", first, cells, calendar, [less(column("c", "n"), column("s", "n"))])
            case ToDate(unit):
                last = self._edge(name, cells, last=True)
                so_far = [at_most(column("c", "n"), column("s", "n"))]
                if unit is not None:
                    so_far.append(equal(_unit(settings, "c", unit), _unit(settings, "s", unit)))
                return self._joined("dates_so_far", last, cells, calendar, so_far)
            case Trailing(count, unit):
                last = self._edge(name, cells, last=True)
                within = [at_most(column("c", "n"), column("s", "n")), self._trailing(unit, count)]
                return self._joined("dates_trailing", last, cells, calendar, within)
            case _:
                assert_never(step)

    def _trailing(self, unit: Unit, count: int) -> Sql:
        if unit in ("day", "week"):
            days = count * (7 if unit == "week" else 1)
            return less(minus(column("s", "n"), number(days)), column("c", "n"))
        start = minus(column("s", "m"), number(count * _MONTHS[unit]))
        tomorrow = self.parts.dialect.moved(column("s", "d"), number(1))
        ends_month = equal(self.parts.dialect.part("DAY", tomorrow), number(1))
        later = less(column("s", "f"), column("c", "f"))
        # A month that is not whole gives the days after the same day: none where that month is shorter.
        partly = all_of([negated(ends_month), equal(column("c", "m"), start.copy()), later])
        return any_of([less(start, column("c", "m")), partly])

    def _edge(self, name: str, cells: Cells, *, last: bool) -> str:
        """The first or last date of each cell's set."""
        rows = self._from(name, "s")
        keys = _copied("s", cells)
        chosen = [(exp.Max if last else exp.Min)(this=column("s", "n"))]
        edges = rows.select(*keys, aliased(chosen[0], "n"), grouped=len(keys))
        found = self.parts.sheet.add("edges", edges)
        whole = self._from(found, "e")
        on = [equal(column("s", "n"), column("e", "n")), *_same_cells("s", "e", cells)]
        whole.join(self.parts.sheet.table(name, "s"), on, left=False)
        columns = [aliased(column("s", each), each) for each in _COLUMNS]
        return self.parts.sheet.add(
            "last_dates" if last else "first_dates", whole.select(*_copied("s", cells), *columns)
        )

    def _shifted(self, settings: Calendar, calendar: str, name: str, cells: Cells, step: Step, span: int) -> str:
        """Sets moved by months: months that are wholly there as a whole, other dates by their day number."""
        keys = _copied("s", cells)
        days = aliased(exp.Count(this=exp.Star()), "days")
        held = self._from(name, "s").select(*keys, aliased(column("s", "m"), "m"), days, grouped=len(keys) + 1)
        full = self._from(calendar, "c").select(aliased(column("c", "m"), "m"), days.copy(), grouped=1)
        held_name, full_name = self.parts.sheet.add("months_seen", held), self.parts.sheet.add("months", full)
        rows = self._from(held_name, "s")
        on = [equal(column("s", "m"), column("f", "m")), equal(column("s", "days"), column("f", "days"))]
        rows.join(self.parts.sheet.table(full_name, "f"), on, left=False)
        whole_name = self.parts.sheet.add(
            "whole_months", rows.select(*_copied("s", cells), aliased(column("s", "m"), "m"))
        )
        for each in uneven_months(self.parts.tables.calendar_days(settings), step):
            there = self._from(whole_name, "s")
            there.where.append(equal(column("s", "m"), number(each.month + _MONTHS_BEFORE)))
            self.parts.remark(UnevenMonths(settings.table, each), there.select(_count()))
        whole = self._from(whole_name, "s")
        goal = equal(column("c", "m"), plus(column("s", "m"), number(span)))
        whole.join(self.parts.sheet.table(calendar, "c"), [goal], left=False)
        one = whole.select(*_copied("s", cells), *_dated("c"))
        rest = self._from(name, "s")
        on = [equal(column("w", "m"), column("s", "m")), *_same_cells("w", "s", cells)]
        rest.join(self.parts.sheet.table(whole_name, "w"), on, left=True)
        on = [goal.copy(), equal(column("c", "f"), column("s", "f"))]
        rest.join(self.parts.sheet.table(calendar, "c"), on, left=False)
        rest.where.append(is_null(column("w", "m")))
        other = rest.select(*_copied("s", cells), *_dated("c"))
        return self.parts.sheet.add("dates_moved", exp.Union(this=one, expression=other, distinct=True))

    def _joined(
        self, hint: str, name: str, cells: Cells, calendar: str, on: list[Sql], *, distinct: bool = False
    ) -> str:
        """The dates of the calendar that go with those of each set."""
        rows = self._from(name, "s")
        rows.join(self.parts.sheet.table(calendar, "c"), on, left=False)
        return self.parts.sheet.add(hint, rows.select(*_copied("s", cells), *_dated("c"), distinct=distinct))

    def _from(self, name: str, alias: str) -> Rows:
        return Rows(self.parts, alias, self.parts.sheet.table(name, alias))


def _count() -> Sql:
    return aliased(exp.Count(this=exp.Star()), "n")


def _dated(alias: str) -> list[Sql]:
    return copied(alias, _COLUMNS)


def _copied(alias: str, cells: Cells) -> list[Sql]:
    """The keys of cells, as they are called."""
    return copied(alias, [name for _, key in cells for name in key.names])


def _same_cells(one: str, other: str, cells: Cells) -> list[Sql]:
    return [equal(column(one, name), column(other, name)) for _, key in cells for name in key.names]


def _unit(settings: Calendar, alias: str, unit: Unit) -> Sql:
    """A number that the dates of one unit share."""
    if unit == "day":
        return column(alias, "n")
    if unit == "week":
        day = plus(column(alias, "n"), number(_AHEAD + 3 - WEEKDAYS.index(settings.week_starts)))
        return minus(day, remainder(day.copy(), number(7)))
    month = column(alias, "m")
    if unit.startswith("fiscal"):
        month = minus(month, number(settings.fiscal_year_starts - 1))
    return minus(month, remainder(month.copy(), number(_MONTHS[unit])))
