"""The step of a draft that relates dates to a calendar: one that is there, or one made for them."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from relatum.drafts.dates import (
    DateParts,
    calendar_range,
    date_relationships,
    dated,
    disagreeing,
    existing_calendar,
    level_relationship,
    leveled,
    parts_of_dates,
    parts_relationship,
)
from relatum.drafts.links import accepted
from relatum.drafts.measures import adds_up
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.scheme import Scheme
from relatum.model.declaration import End, Table, frozen
from relatum.model.names import column_name, quoted
from relatum.model.words import is_beginning
from relatum.wording import counted

#: A table with this part of the rows of the largest has many.
_MANY_ROWS = 0.02

Dates = Sequence[tuple[TableProfile, list[ColumnProfile]]]


class _Times(Struct, frozen=True, eq=False):
    """When things happened: dates of tables, dates in parts, and months and years where there is no date."""

    dates: Dates
    parts: Sequence[DateParts]
    levels: Sequence[ColumnProfile] = ()


def find_calendars(scheme: Scheme) -> Scheme:
    """A calendar over all dates of facts, or the one that is there."""
    facts = [table for name, table in scheme.tables.items() if scheme.kind(name) in ("fact", "alone")]
    there = next((scheme.tables[name] for name, key in scheme.keys.items() if _is_calendar(scheme, name, key)), None)
    facts = [table for table in facts if table is not there]
    scheme, times = _times(scheme, facts)
    if there is not None:
        (key,) = scheme.keys[there.name]
        dated_table = replace(scheme.declared.tables[there.name], dated=True)
        tables = frozen({**scheme.declared.tables, there.name: dated_table})
        scheme = replace(scheme, declared=replace(scheme.declared, tables=tables))
        said = f"{quoted(there.name)} is a calendar"
        scheme = scheme.adding("calendar", there.name, said, 0.97, f"a row for each date in {key}")
        return _with_dates(scheme, times, there.name, key, there)
    scheme, times = _happenings(scheme, times)
    times = replace(times, levels=_levels(scheme, facts, times))
    if not times.dates and not times.parts and not times.levels:
        return scheme
    name = next(each for each in ("calendar", "dates", "all_dates") if each not in scheme.tables)
    return _with_dates(_with_calendar(scheme, times, name), times, name, "date", None)


def _is_calendar(scheme: Scheme, name: str, key: tuple[str, ...]) -> bool:
    return existing_calendar(scheme.tables[name], key)


def _levels(scheme: Scheme, facts: Sequence[TableProfile], times: _Times) -> list[ColumnProfile]:
    """The months, quarters and years of tables that have no date."""
    targets = scheme.looked_up
    keyed = [scheme.tables[name] for name, key in scheme.keys.items() if name in targets and len(key) > 1]
    skip = {table.name for table, _ in times.dates} | {each.columns[0].table for each in times.parts}
    levels = leveled([*facts, *keyed], skip)
    if times.dates or times.parts:
        # A year of a lookup says less than a date of a fact.
        levels = [each for each in levels if each.level or each.table not in targets]
    return levels


def _with_calendar(scheme: Scheme, times: _Times, name: str) -> Scheme:
    """With a calendar of whole years around all dates of tables that matter."""
    mostly = _weighty(scheme, times.dates)
    main = max(mostly, key=lambda each: each[0].rows, default=None)
    through = column_name(main[0].name, main[1][0].name) if main else ""
    weighty = [each for _, columns in mostly for each in columns]
    span, doubt = calendar_range(weighty, times.parts, times.levels, through)
    used = [*weighty, *(each for group in times.parts for each in group.columns), *times.levels]
    evidence = "whole years around " + ", ".join(column_name(each.table, each.name) for each in used)
    statement = f"{name} from {span.first} to {span.last}" + (f", through {through}" if through else "")
    scheme = scheme.with_table(Table(name, calendar=span, key=("date",)))
    return scheme.adding("calendar", name, statement, 0.85 if doubt else 0.97, evidence, doubt)


def _happenings(scheme: Scheme, times: _Times) -> tuple[Scheme, _Times]:
    """Dates without those of births and beginnings, where others are there."""
    found = []
    for table, columns in times.dates:
        kept = [each for each in columns if not is_beginning(each.name)]
        found += [(table, kept)] if kept else []
    if not found:
        return scheme, times
    for _, columns in times.dates:
        for each in columns:
            if is_beginning(each.name):
                where = column_name(each.table, each.name)
                said = f"{where} is not related to the calendar: it is the date on which something began"
                scheme = scheme.noting(where, said, "")
    return scheme, replace(times, dates=found)


def _weighty(scheme: Scheme, dates: Dates) -> Dates:
    """The dates of tables that have amounts or many rows: the calendar spans those."""
    most = max((table.rows for table, _ in dates), default=0)
    return [
        (table, columns)
        for table, columns in dates
        if table.rows >= _MANY_ROWS * most
        or any(adds_up(table, each, scheme.keys[table.name]) for each in table.columns.values())
    ]


def _times(scheme: Scheme, facts: Sequence[TableProfile]) -> tuple[Scheme, _Times]:
    """When the rows of facts happened: by their own dates, those in parts, or those of what they point to."""
    dates, parts = dated(facts), []
    for table in facts:
        own = next((columns for each, columns in dates if each is table), [])
        found = parts_of_dates(table)
        if found is None:
            continue
        differing = disagreeing(found, own[0]) if own else 0
        if own and not differing:
            continue
        if own:
            said = f"{column_name(table.name, own[0].name)} is a different day from "
            said += f"{', '.join(each.name for each in found.columns)} on {counted(differing, 'row')}"
            advice = "the parts are used; set timezone = … if timestamps need another zone"
            scheme = scheme.noting(table.name, said, advice)
            dates = [each for each in dates if each[0] is not table]
        parts.append(found)
    timed = {table.name for table, _ in dates} | {each.columns[0].table for each in parts}
    timed |= {each.table for each in leveled(facts, timed)}
    pointed = {
        each.one.table: None
        for table in facts
        if table.name not in timed
        for each in scheme.declared.relationships
        if each.many.table == table.name and each.match == "equal" and not each.standby
    }
    beyond = dict.fromkeys(each for each in map(scheme.declared.rows_of, pointed) if each not in timed)
    return scheme, _Times([*dates, *dated([scheme.tables[name] for name in beyond], events=True)], parts)


def _with_dates(scheme: Scheme, times: _Times, calendar: str, key: str, there: TableProfile | None) -> Scheme:
    """With dates, dates in parts, months and years related to a calendar."""
    linked = {each.many for each in scheme.declared.relationships}
    for table, columns in times.dates:
        free = [each for each in columns if End(table.name, (each.name,)) not in linked]
        for proposal in date_relationships(table, free, calendar, key):
            scheme = accepted(scheme, proposal)
    for group in times.parts:
        related = parts_relationship(group, calendar, there)
        if related is not None:
            scheme = accepted(scheme, related)
    for column in times.levels:
        scheme = accepted(scheme, level_relationship(column, calendar))
    return scheme
