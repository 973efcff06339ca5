"""Tables: rows, keys, members that differ by what nobody sees, calendars with gaps."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from relatum.audit.finding import Finding, listed_keys, nulls_of
from relatum.data import compute as pc
from relatum.data.buffers import array_values
from relatum.data.days import day_of
from relatum.data.keys import folded
from relatum.model.names import column_name, quoted, split_name
from relatum.session.session import Session
from relatum.wording import counted

#: Columns with more texts than this are descriptions or keys of a fact: nobody groups by them.
_MOST_TEXTS = 200_000


def table_findings(session: Session, name: str) -> Iterator[Finding]:
    """The findings about one table by itself."""
    declaration = session.declaration
    table = declaration.tables[name]
    if table.role_of:
        return
    data = session.data[name]
    if not data.rows:
        yield Finding("problem", quoted(name), "has no rows.", "Check its source.", "Every aggregate over it is null.")
    for column, reason in data.left_out.items():
        yield Finding("remark", column_name(name, column), f"is left out: {reason}.")
    for remark in data.remarks:
        yield Finding("remark", quoted(name), f"was read in part: {remark}.")
    related = any(name in (each.many.table, each.one.table) for each in declaration.relationships)
    roles = any(each.role_of == name for each in declaration.tables.values())
    if not related and not roles and len(declaration.tables) > 1 and not table.per:
        yield Finding(
            "problem", quoted(name), "is not related to any other table.", "Relate it, or leave it out of the model.",
            "It cannot be combined with other tables in one question.",
        )  # fmt: skip
    yield from _key(session, name)
    if session.catalog.is_calendar(name) and table.dated:
        yield from _gaps(session, name)
    if _is_lookup(session, name):
        yield from _like_members(session, name)


def _is_lookup(session: Session, name: str) -> bool:
    return any(each.one.table == name for each in session.declaration.relationships)


def _key(session: Session, name: str) -> Iterator[Finding]:
    table = session.declaration.tables[name]
    if not table.key or table.calendar is not None:
        return
    shown = ", ".join(table.key)
    keys, rows, samples = session.facts.repeated(name, table.key)
    if keys:
        yield Finding(
            "problem",
            quoted(name),
            f"key {shown} is not unique: {counted(keys, 'value')} on {counted(rows, 'row')}, "
            f"for instance {listed_keys(samples)}.",
            "Remove the duplicates, or name the columns that make a row unique.",
            "A row that matches several would be counted several times, so this lookup is refused.",
            rows,
        )
    nulls = session.facts.without(name, table.key)
    if nulls:
        yield Finding(
            "problem",
            quoted(name),
            f"key {shown} is null on {counted(nulls, 'row')}.",
            "Give these rows a key, or remove them at the source.",
            "A row without a key can never be looked up.",
            nulls,
        )


def _gaps(session: Session, name: str) -> Iterator[Finding]:
    column = session.store.column(name, session.store.date_column(name))
    days = np.unique(column.values[~nulls_of(column)].astype(np.int64))
    missing = np.setdiff1d(np.arange(days[0], days[-1] + 1), days) if len(days) else days
    if len(missing):
        shown = ", ".join(str(day_of(day)) for day in missing[:3])
        yield Finding(
            "problem",
            quoted(name),
            f"lacks {counted(len(missing), 'date')} between its first and last, for instance {shown}.",
            "Add the missing dates.",
            "Rows on those dates are shown as (no match), and calendar changes skip them.",
            len(missing),
        )


def _like_members(session: Session, name: str) -> Iterator[Finding]:
    for column_of in session.catalog.columns(name):
        found = session.facts.texts(name, column_of, _MOST_TEXTS)
        if found is None or len(found[0]) < 2:
            continue
        texts, rows_of = found
        encoded = folded(texts).dictionary_encode()
        groups = array_values(encoded.indices).astype(np.int64)
        counts = np.bincount(groups)
        if len(counts) == len(groups):
            continue
        alike = np.flatnonzero(counts > 1)
        codes = np.flatnonzero(groups == alike[0])[:3]
        shown = " and ".join(f"'{texts[int(code)].as_py()}'" for code in codes)
        by_case = pc.count_distinct(pc.utf8_lower(texts)).as_py() == len(counts)
        rows = int(rows_of[np.isin(groups, alike)].sum())
        yield Finding(
            # Names that differ by case may be those of different people; a blank is nobody's name.
            "remark" if by_case else "problem",
            column_name(name, column_of),
            f"has {counted(len(alike), 'member')} written in more than one way "
            f"({'case' if by_case else 'case or blanks'}), for instance {shown}.",
            "Use one spelling at the source, or group by a derived column: upper(trim(…)).",
            f"They are counted as different members, in {counted(rows, 'row')}.",
            rows,
        )


def hierarchy_findings(session: Session) -> Iterator[Finding]:
    """Members of a finer level that are under several coarser ones."""
    for name, hierarchy in session.declaration.hierarchies.items():
        for coarse, fine in zip(hierarchy.levels, hierarchy.levels[1:], strict=False):
            yield from _level(session, name, coarse, fine)


def _level(session: Session, name: str, coarse: str, fine: str) -> Iterator[Finding]:

    (coarse_table, coarse_column), (fine_table, fine_column) = split_name(coarse), split_name(fine)
    route = session.catalog.lookup(fine_table, coarse_table, coarse_column)
    if route is None:
        yield Finding(
            "problem", f"hierarchy {quoted(name)}", f"a row of {quoted(fine_table)} has no single {coarse}.",
            "Order the levels from coarse to fine, along lookups.", "The levels are combined in every way, not only "
            "as they belong together.",
        )  # fmt: skip
        return
    several, samples = session.facts.under_several(route, (fine_table, fine_column), (coarse_table, coarse_column))
    if several:
        shown = listed_keys([(value,) for value in samples])
        yield Finding(
            "problem",
            f"hierarchy {quoted(name)}",
            f"{counted(several, 'member')} of {fine} under more than one {coarse}, for instance {shown}.",
            "Make the finer column unique within its parent, or leave it out of the hierarchy.",
            "When opened, such a member shows part of its number under each.",
            several,
        )
