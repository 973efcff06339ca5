"""Relationships on the data: keys that find nothing, rows that nobody points to, what filters both ways do."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from relatum.audit.finding import Finding, Money, listed_keys, nulls_of, sampled
from relatum.data.columns import members_of
from relatum.data.days import day_of
from relatum.data.joins import JoinIndex
from relatum.errors import DataError
from relatum.model.declaration import End, Relationship
from relatum.model.names import column_name, quoted
from relatum.model.routes import Hop, Place, hops_of
from relatum.model.words import words
from relatum.plan.audit_facts import Lost
from relatum.session.session import Session
from relatum.wording import agreeing, counted, listed, percent

_UNTIL = frozenset("to until end ends thru through expires expiry".split())


def relationship_findings(session: Session, relationship: Relationship, money: Money) -> Iterator[Finding]:
    """The findings about one relationship."""
    hop = hops_of(relationship)[0]
    try:
        if hop.reach:
            yield _pairs(session, hop, relationship)
            return
        index = session.store.index(hop)
    except DataError as error:
        yield Finding("problem", str(relationship), error.reason, error.fix, "No question can use it.")
        return
    if index.orphans:
        yield from _orphans(session, relationship, money)
    if index.null_keys:
        yield _null_keys(session, relationship, index, money)
    unused = session.facts.unused(hop)
    counts = relationship.direction != "off" and not relationship.standby
    if unused and counts and not session.catalog.is_calendar(relationship.one.table):
        yield Finding(
            "remark",
            str(relationship),
            f"{unused:,} of {counted(index.size, 'row')} of {quoted(relationship.one.table)} "
            f"{agreeing(unused, 'has', 'have')} no row in {quoted(relationship.many.table)}.",
            "",
            f"{agreeing(unused, 'It appears', 'They appear')} only if empty members are asked for.",
            unused,
        )
    if relationship.direction == "both":
        yield _both_ways(session, relationship)
    if relationship.match == "as_of":
        yield from _intervals(session, relationship)


def _pairs(session: Session, hop: Hop, relationship: Relationship) -> Finding:
    partners = session.facts.partners(hop)
    alone, several = partners.alone, partners.several
    many, one = quoted(relationship.many.table), quoted(relationship.one.table)
    return Finding(
        "remark",
        str(relationship),
        f"{counted(partners.pairs, 'pair')} of rows. In {many}, {counted(alone, 'row')} "
        f"{agreeing(alone, 'has', 'have')} no "
        f"partner and {counted(several, 'row')} {agreeing(several, 'has', 'have')} several (up to {partners.most:,}).",
        "",
        f"A row of {many} counts once for each member of {one} it matches, so the members add up to more than the "
        "total."
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


def _orphans(session: Session, relationship: Relationship, money: Money) -> Iterator[Finding]:
    many_table = relationship.many.table
    many, one = quoted(many_table), quoted(relationship.one.table)
    lost = session.facts.lost(relationship)
    rows = lost.rows
    share = percent(rows, lost.of, 2)
    value, worth = (None, "") if relationship.standby else money.behind(many_table, _condition(relationship, False))
    effect = _shown_as_no_match(rows, worth)
    if relationship.match == "as_of":
        count = lost.early
        if count:
            if count < rows:
                # What the measure is worth is known of both kinds of rows together, and so of neither.
                value, worth = None, ""
                effect = _shown_as_no_match(rows - count, "")
            yield Finding(
                severity="problem",
                subject=str(relationship),
                text=f"{counted(count, 'row')} of {many} ({percent(count, lost.of, 2)}) {agreeing(count, 'is', 'are')} "
                "dated before "
                f"the first row of {one} with the same key, for instance {listed_keys(list(lost.early_samples))}.",
                fix=f"Add earlier rows to {one}, or correct the dates.",
                effect=_with_worth(
                    f"{agreeing(count, 'It matches', 'They match')} no row of {one} and "
                    f"{agreeing(count, 'is', 'are')} left "
                    "out",
                    count,
                    worth,
                ),
                rows=count,
                value=value,
            )
            rows -= count
            if not rows:
                return
            share = percent(rows, lost.of, 2)
    if session.catalog.is_calendar(relationship.one.table):
        outside = _outside(session, relationship.one, lost, rows)
        if outside:
            fix = f"Extend {one} to those dates, or correct them."
            dated = f"{agreeing(rows, 'is', 'are')} dated outside {one}: {outside}."
            text = f"{counted(rows, 'row')} of {many} ({share}) {dated}"
            yield Finding(
                severity="problem", subject=str(relationship), text=text, fix=fix, effect=effect, rows=rows, value=value
            )
            return
    fix = f"Add the missing rows to {one}, or correct the keys."
    if lost.alike:
        fix = f"{counted(lost.alike, 'row')} would match if case and blanks were ignored: correct their keys."
    yield Finding(
        severity="problem",
        subject=str(relationship),
        text=f"{counted(rows, 'row')} of {many} ({share}) {agreeing(rows, 'has', 'have')} no match in {one}, "
        f"for instance {listed_keys(list(lost.samples))}.",
        fix=fix,
        effect=effect,
        rows=rows,
        value=value,
    )


def _shown_as_no_match(count: int, worth: str) -> str:
    return _with_worth(agreeing(count, "It is shown as (no match)", "They are shown as (no match)"), count, worth)


def _with_worth(text: str, count: int, worth: str) -> str:
    return f"{text}; {agreeing(count, 'it holds', 'they hold')} {worth}." if worth else f"{text}."


def _outside(session: Session, calendar: End, lost: Lost, rows: int) -> str:
    """Where rows are dated, if all of them are before or after a calendar."""
    days = session.store.column(calendar.table, calendar.columns[-1])
    said = []
    for (count, extreme), word, limit in zip(lost.days, ("before", "after"), (days.lower, days.upper), strict=True):
        if count and extreme is not None:
            said.append(f"{count:,} {word} {day_of(limit)} (for instance {day_of(extreme)})")
    return " and ".join(said) if sum(count for count, _ in lost.days) == rows else ""


def _null_keys(session: Session, relationship: Relationship, index: JoinIndex, money: Money) -> Finding:
    many = relationship.many.table
    value, worth = (None, "") if relationship.standby else money.behind(many, _condition(relationship, True))
    effect = _shown_as_no_match(index.null_keys, worth)
    share = percent(index.null_keys, session.store.rows(Place(many)), 2)
    return Finding(
        severity="remark",
        subject=str(relationship),
        text=f"{counted(index.null_keys, 'row')} of {quoted(many)} ({share}) "
        f"{agreeing(index.null_keys, 'has', 'have')} no key.",
        fix="",
        effect=effect,
        rows=index.null_keys,
        value=value,
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
        f"lets filters travel both ways, so a filter on {quoted(many)} reaches {listed(list(map(quoted, reached)))}.",
        f"Use down unless {quoted(many)} has to filter {quoted(one)}; a formula can ask for both ways where needed.",
        f"Numbers over {listed(list(map(quoted, reached)))} depend on what is chosen of {quoted(many)}. Members of "
        f"{quoted(many)} may share rows of {quoted(one)}, so they can add up to more than the total.",
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
        members = members_of(session.store.column(table, name))
        keys = np.unique(keys * members.size + members.codes, return_inverse=True)[1]
    begin, end = session.store.column(table, start), session.store.column(table, ends[0])
    order = np.lexsort((begin.values, keys))
    same = keys[order][1:] == keys[order][:-1]
    known = ~nulls_of(end)[order][:-1]
    step = end.values.astype(np.int64)[order][:-1] - begin.values.astype(np.int64)[order][1:]
    over = same & known & (step > 0)
    gaps = same & known & (step < -1)
    for rows, what, effect in (
        (over, "after the next", "The later row is used, although the data does not say so."),
        (gaps, "well before the next", "Between the two, the earlier row is still used."),
    ):
        count = int(rows.sum())
        if count:
            columns = [session.store.column(table, name) for name in relationship.one.columns]
            shown = sampled(columns, order[:-1][rows])
            yield Finding(
                "problem" if rows is over else "remark",
                str(relationship),
                f"{counted(count, 'row')} of {quoted(table)} {agreeing(count, 'has', 'have')} {ends[0]} {what} "
                f"{start}, for "
                f"instance {shown}.",
                f"Correct {ends[0]}; only {start} decides which row matches.",
                effect,
                count,
            )
