"""Relationships on the data: keys that find nothing, rows that nobody points to, what filters both ways do."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pyarrow.compute as pc

from relatum.audit.finding import Finding, Money, folded, nulls_of, sampled
from relatum.data import vectors as v
from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column
from relatum.data.days import day_of
from relatum.data.joins import JoinIndex
from relatum.data.keys import keys_found
from relatum.data.types import Kind
from relatum.drafts.words import words
from relatum.errors import DataError
from relatum.model.declaration import Relationship
from relatum.model.names import column_name, quoted
from relatum.model.routes import Hop, Place, hops_of
from relatum.session.session import Session
from relatum.wording import counted, listed, percent

_UNTIL = frozenset("to until end ends thru through expires expiry".split())


def relationship_findings(session: Session, relationship: Relationship, money: Money) -> Iterator[Finding]:
    """What is to be said of one relationship."""
    hop = hops_of(relationship)[0]
    try:
        if hop.reach:
            yield _pairs(session, hop, relationship)
            return
        index = session.store.index(hop)
    except DataError as error:
        yield Finding("problem", str(relationship), error.reason, error.fix, "Nothing can be asked along it.")
        return
    if index.orphans:
        yield from _orphans(session, relationship, index, money)
    if index.null_keys:
        yield _null_keys(session, relationship, index, money)
    unused = index.size - len(np.unique(index.positions[index.positions != index.size]))
    counts = relationship.direction != "off" and not relationship.standby
    if unused and counts and not session.catalog.is_calendar(relationship.one.table):
        yield Finding(
            "remark",
            str(relationship),
            f"{quoted(relationship.many.table)} never points to {unused:,} of {counted(index.size, 'row')} of "
            f"{quoted(relationship.one.table)}.",
            "",
            "They show up only where empty members are asked for.",
            unused,
        )
    if relationship.direction == "both":
        yield _both_ways(session, relationship)
    if relationship.match == "as_of":
        yield from _intervals(session, relationship)


def _pairs(session: Session, hop: Hop, relationship: Relationship) -> Finding:
    partners = session.store.key_links(hop).partners
    alone, several = int((partners == 0).sum()), int((partners > 1).sum())
    many, one = quoted(relationship.many.table), quoted(relationship.one.table)
    return Finding(
        "remark",
        str(relationship),
        f"{counted(int(partners.sum()), 'pair')} of rows. Of {many}, {counted(alone, 'row')} without "
        f"a partner, {counted(several, 'row')} with several (up to {int(partners.max(initial=0)):,}).",
        "",
        f"By members of {one}, a row of {many} counts once for each it matches: they add up to more than the total."
        if several
        else "",
        several,
    )


def _condition(relationship: Relationship, nulls: bool) -> str:
    columns = [column_name(relationship.many.table, column) for column in relationship.many.columns]
    null = " or ".join(f"{column} is null" for column in columns)
    if nulls:
        return f"({null})"
    return f"{quoted(relationship.one.table)} is no match and not ({null})"


def _orphans(session: Session, relationship: Relationship, index: JoinIndex, money: Money) -> Iterator[Finding]:
    many_table = relationship.many.table
    many, one = quoted(many_table), quoted(relationship.one.table)
    columns = [session.store.column(many_table, name) for name in relationship.many.columns]
    known = ~np.logical_or.reduce([nulls_of(column) for column in columns])
    lost = (index.positions == index.size) & known
    rows = int(lost.sum())
    share = percent(rows, len(index.positions), 2)
    value, worth = (None, "") if relationship.standby else money.behind(many_table, _condition(relationship, False))
    effect = "They stand under (no match)" + (f": {worth}." if worth else ".")
    targets = [session.store.column(relationship.one.table, name) for name in relationship.one.columns]
    if relationship.match == "as_of":
        early = lost & keys_found(columns[:-1], targets[:-1])
        if early.any():
            count = int(early.sum())
            if count < rows:
                # What the measure is worth is known of both kinds of rows together, and so of neither.
                value, effect = None, "They stand under (no match)."
            yield Finding(
                "problem",
                str(relationship),
                f"{counted(count, 'row')} of {many} ({percent(count, len(lost), 2)}) dated before the first row of "
                f"{one} with their key, for instance {sampled(columns, np.flatnonzero(early))}.",
                f"Add rows to {one} that hold from earlier on, or correct the dates.",
                effect.replace("They stand under (no match)", f"They find no row of {one} and are left out"),
                count,
                value,
            )
            lost &= ~early
            if not lost.any():
                return
            rows, share = int(lost.sum()), percent(int(lost.sum()), len(lost), 2)
    if session.catalog.is_calendar(relationship.one.table) and columns[-1].type.kind in (Kind.DATE, Kind.TIMESTAMP):
        outside = _outside(columns[-1], targets[-1], lost)
        if outside:
            fix = f"Let {one} reach so far, or correct the dates."
            text = f"{counted(rows, 'row')} of {many} ({share}) dated outside {one}: {outside}."
            yield Finding("problem", str(relationship), text, fix, effect, rows, value)
            return
    fix = f"Add the missing rows to {one}, or correct the keys."
    alike = _alike(columns, targets, lost)
    if alike:
        fix = f"{counted(alike, 'row')} would be found if case and blanks did not count: correct those keys."
    yield Finding(
        "problem",
        str(relationship),
        f"{counted(rows, 'row')} of {many} ({share}) {'finds' if rows == 1 else 'find'} nothing in {one}, "
        f"for instance {sampled(columns, np.flatnonzero(lost))}.",
        fix,
        effect,
        rows,
        value,
    )


def _outside(dates: Column, calendar: Column, lost: Array) -> str:
    days = v.days_of(dates)[lost]
    early, late = int((days < calendar.lower).sum()), int((days > calendar.upper).sum())
    said = []
    for count, word, limit, extreme in (
        (early, "before", calendar.lower, days.min()),
        (late, "after", calendar.upper, days.max()),
    ):
        if count:
            said.append(f"{count:,} {word} {day_of(limit)} (as {day_of(extreme)})")
    return " and ".join(said) if early + late == len(days) else ""


def _alike(columns: list[Column], targets: list[Column], lost: Array) -> int:
    """How many of the lost rows would be found if case and blanks did not count."""
    if len(columns) > 1 or columns[0].type.kind is not Kind.TEXT or targets[0].type.kind is not Kind.TEXT:
        return 0
    found = array_values(pc.is_in(folded(columns[0].dictionary), value_set=folded(targets[0].dictionary)))
    return int(found[columns[0].values[lost]].sum()) if len(found) else 0


def _null_keys(session: Session, relationship: Relationship, index: JoinIndex, money: Money) -> Finding:
    many = relationship.many.table
    value, worth = (None, "") if relationship.standby else money.behind(many, _condition(relationship, True))
    effect = "They stand under (no match)" + (f": {worth}." if worth else ".")
    share = percent(index.null_keys, len(index.positions), 2)
    return Finding(
        "remark",
        str(relationship),
        f"{counted(index.null_keys, 'row')} of {quoted(many)} ({share}) without a key.",
        "",
        effect,
        index.null_keys,
        value,
    )


def _both_ways(session: Session, relationship: Relationship) -> Finding:
    """Which tables a filter reaches only because it travels back along a relationship."""
    many, one = relationship.many.table, relationship.one.table
    reached = [
        start
        for start in session.declaration.tables
        if start != many
        and any(
            hop.relationship == relationship and hop.reach
            for place, route in session.catalog.routes.filters(Place(start)).items()
            if place.table == many
            for hop in route
        )
    ]
    return Finding(
        "remark",
        str(relationship),
        f"lets filters travel both ways: a filter on {quoted(many)} reaches {listed(list(map(quoted, reached)))}.",
        f"Unless {quoted(one)} must be narrowed by {quoted(many)}, down is enough; a formula can say both ways.",
        f"Numbers over {listed(list(map(quoted, reached)))} change with what is chosen of {quoted(many)}, and members "
        f"of {quoted(many)} may share rows of {quoted(one)}: their numbers add up to more than the total.",
    )


def _intervals(session: Session, relationship: Relationship) -> Iterator[Finding]:
    """Rows that say until when they hold, and go on past the next one, or end before it."""
    table = relationship.one.table
    *exact, start = relationship.one.columns
    types = session.catalog.columns(table)
    ends = [
        name for name, type_ in types.items()
        if type_ == types[start] and name not in relationship.one.columns and set(words(name)) & _UNTIL
    ]  # fmt: skip
    if not ends:
        return
    keys = np.zeros(session.data[table].rows, np.int64)
    for name in exact:
        members = session.store.members(table, name)
        keys = np.unique(keys * members.size + members.codes, return_inverse=True)[1]
    begin, end = session.store.column(table, start), session.store.column(table, ends[0])
    order = np.lexsort((begin.values, keys))
    same = keys[order][1:] == keys[order][:-1]
    known = ~nulls_of(end)[order][:-1]
    step = end.values.astype(np.int64)[order][:-1] - begin.values.astype(np.int64)[order][1:]
    over = same & known & (step > 0)
    gaps = same & known & (step < -1)
    for rows, what, effect in (
        (over, "is after the next", "The later row is taken, which the data does not say."),
        (gaps, "is well before the next", "In between, the earlier row is taken all the same."),
    ):
        count = int(rows.sum())
        if count:
            columns = [session.store.column(table, name) for name in relationship.one.columns]
            shown = sampled(columns, order[:-1][rows])
            yield Finding(
                "problem" if rows is over else "remark",
                str(relationship),
                f"{counted(count, 'row')} of {quoted(table)}: {ends[0]} {what} {start}, for instance {shown}.",
                f"Correct {ends[0]}; only {start} decides which row is found.",
                effect,
                count,
            )
