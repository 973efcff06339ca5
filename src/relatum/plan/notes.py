"""Notes: facts about a result that its reader should know, found while planning or reported by an engine."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal, assert_never, get_args

from msgspec.structs import replace

from relatum.calendar.moves import Uneven
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    BothWays,
    Change,
    Ignoring,
    KeepBest,
    KeepWhere,
    MoveDates,
    OnColumn,
    Only,
    Pin,
    PinEdge,
    PinNoMatch,
    Ranked,
    Via,
    Where,
)
from relatum.model.names import column_name, quoted
from relatum.model.routes import Place
from relatum.plan.context import ByCondition, Context, Filter
from relatum.plan.engine import (
    CutPeriod,
    LeftOutMember,
    Loss,
    LostCast,
    LostCondition,
    LostLookup,
    NullWinner,
    PartPeriod,
    UnevenMonths,
)
from relatum.plan.nodes import Bounds
from relatum.wording import agreeing, counted

#: The kinds of notes, the worst first: what may be a mistake in the request, values that are not there, rows that are
#: left out, what a total is not, and what holds of the axes.
NoteKind = Literal[
    "absent", "unrelated", "share", "hidden", "period", "uneven", "among", "finer", "condition", "lookup", "cast",
    "member", "null", "overlap", "partly", "recurring", "style",
]  # fmt: skip
_WORST_FIRST = {kind: at for at, kind in enumerate(get_args(NoteKind))}


def worst_first(notes: Iterable[Note]) -> tuple[Note, ...]:
    """Each note once, the worst first."""
    return tuple(sorted(dict.fromkeys(notes), key=lambda note: _WORST_FIRST[note.kind]))


@dataclass(frozen=True, slots=True)
class Note:
    """Something true about a result that the reader should know.

    ``at_grain`` says that it is true of one grain: noted where it is true of the finest, and no fault of a total.
    """

    kind: NoteKind
    text: str
    at_grain: bool = field(default=False, compare=False)


def no_period(aggregate: Aggregate, calendar: str) -> Note:
    """That dates are to be moved and no period of the calendar is chosen."""
    return Note(
        "period",
        f"{aggregate.text} has no value: no period of {quoted(calendar)} is chosen. "
        "Put a period on an axis or in a condition.",
        at_grain=True,
    )


def no_current_member(ranked: Ranked) -> Note:
    """That a ranking is where its grain has no current member."""
    grain = ranked.grain.table or column_name(*ranked.grain.columns[0])
    return Note("among", f"{ranked.text} has no value where there is no current member of {grain}.", at_grain=True)


def unrelated(catalog: Catalog, aggregate: Aggregate, each: Filter) -> Note:
    """That an aggregate is blank because no filter travels from there to its rows."""
    start = aggregate.row_table or (aggregate.grain.table if aggregate.grain else "")
    source = quoted(start) if start else "its rows"
    found = catalog.routes.lookups(Place(start)) if start else {}
    coarse = any(place.table == each.table and place.level for place in found)
    if isinstance(each.by, ByCondition):
        where = f"where {each.text}"
    else:
        where = f"by {column_name(each.table, each.column)}" if each.column else f"by {quoted(each.table)}"
    reason = (
        f"{source} is related to {quoted(each.table)} only at a coarser level"
        if coarse
        else f"no relationship leads from {source} to {quoted(each.table)}"
    )
    repeat = 'set unrelated = "repeat" on the measure to repeat its value'
    return Note(
        "unrelated",
        f"{aggregate.text} has no value {where}: {reason}. {_way_in(catalog, start, each.table) or 'Relate them'}, "
        f"or {repeat}.",
    )


def _way_in(catalog: Catalog, start: str, table: str) -> str:
    """What a formula would have to say for a filter on a table to reach rows: a relationship is there, and is quiet."""
    if not start:
        return ""
    for related in catalog.declaration.relationships:
        if not related.standby:
            continue
        found = {place.table for place in catalog.routes.lookups(Place(start))} | {start}
        beyond = {place.table for place in catalog.routes.lookups(Place(related.one.table))} | {related.one.table}
        if related.many.table in found and table in beyond:
            return f"A standby relationship exists: use it with [via {related.many}]"
    for fact in catalog.declaration.tables:
        found_there = {place.table: route for place, route in catalog.routes.lookups(Place(fact)).items()}
        if found_there.get(start) and (fact == table or table in found_there):
            sides = [f"both ways {hop.relationship.many}" for hop in found_there[start] if hop.relationship is not None]
            return f"Rows of {quoted(fact)} have both: let filters travel back with [{', '.join(sides)}]"
    return ""


def finer_axes(catalog: Catalog, changes: Iterable[Change], context: Context) -> list[Note]:
    """A note for a calendar column set aside while a finer one stays on an axis, which still says which."""
    notes = []
    for change in changes:
        match change:
            case Pin(table, column):
                targets = [(table, column)]
            case Ignoring(targets=ignored):
                targets = [(each.table, each.column) for each in ignored if isinstance(each, OnColumn)]
            case (
                Where()
                | PinNoMatch()
                | PinEdge()
                | Only()
                | Via()
                | BothWays()
                | KeepWhere()
                | KeepBest()
                | MoveDates()
            ):
                continue
            case _:
                assert_never(change)
        for table, column in targets:
            for axis in context.filters if catalog.is_calendar(table) else ():
                finer = axis.origin == "axis" and axis.table == table and axis.column not in ("", column)
                if finer and catalog.determines(Place(table, (axis.column,)), column):
                    notes.append(
                        Note(
                            "finer",
                            f"{change.source.text} has no effect: {column_name(table, axis.column)} is on an axis, and "
                            f"it determines {column_name(table, column)}.",
                        )
                    )
    return notes


def overlapping(bounds: Bounds, axes: Iterable[Filter], keys: Iterable[int]) -> list[Note]:
    """A note for each axis whose members share rows, because filters travel along a many-to-many relationship."""
    on_axes = dict(zip(keys, axes, strict=True))
    notes = []
    for match in bounds.matches:
        shared = [hop for hop in match.route if hop.relationship and hop.relationship.kind == "many_to_many"]
        if match.key in on_axes and shared:
            notes.append(
                Note(
                    "overlap",
                    f"Members of {column_name(match.table, match.column)} share rows of {quoted(bounds.source)} "
                    f"({shared[0].relationship} is many to many): they add up to more than the total.",
                )
            )
    return notes


def loss_notes(losses: Iterable[Loss]) -> list[Note]:
    """What an engine left out, as notes: one for a lookup, however many of its columns were wanted.

    A condition that left out other numbers of rows in other parts of the request is noted once, with the most of them.
    """
    together: dict[Loss, list[str]] = {}
    most: dict[Loss, int] = {}
    for loss in losses:
        if isinstance(loss, LostLookup):
            together.setdefault(replace(loss, column=""), []).append(loss.column)
        elif isinstance(loss, LostCondition):
            alike = replace(loss, rows=0)
            together.setdefault(alike, [])
            most[alike] = max(loss.rows, most.get(alike, 0))
        else:
            together.setdefault(loss, [])
    return [
        _loss_note(replace(loss, rows=most[loss]) if isinstance(loss, LostCondition) else loss, sorted(set(columns)))
        for loss, columns in together.items()
    ]


def _loss_note(loss: Loss, columns: list[str]) -> Note:
    match loss:
        case LostLookup(source, lookup, _, rows):
            return Note(
                "lookup",
                f"{counted(rows, 'row')} of {quoted(source)} {agreeing(rows, 'has', 'have')} no matching "
                f"{quoted(lookup)} ({', '.join(columns)}) and {agreeing(rows, 'is', 'are')} left out.",
            )
        case LostCondition(source, lookup, condition, rows):
            return Note(
                "condition",
                f"{counted(rows, 'row')} of {quoted(source)} {agreeing(rows, 'has', 'have')} no matching "
                f"{quoted(lookup)}. The "
                f"condition {condition} is null for {agreeing(rows, 'it, so it is', 'them, so they are')} left out.",
            )
        case LostCast(source, value, type_, rows):
            return Note(
                "cast",
                f"{value} is not a valid {type_} in {counted(rows, 'row')} of {quoted(source)}: it is null there.",
            )
        case CutPeriod(calendar, last):
            return Note("period", f"The data ends on {last}, so later dates of {quoted(calendar)} are left out.")
        case PartPeriod(names):
            return Note(
                "partly",
                f"The dates of a calendar change cover only part of some {names}: facts at that level count in full.",
            )
        case UnevenMonths(calendar, Uneven(month, days, other, other_days)):
            one, two = (f"{1970 + each // 12}-{each % 12 + 1:02}" for each in (month, other))
            return Note(
                "uneven",
                f"The calendar {quoted(calendar)} has {counted(days, 'day')} of {one} and {counted(other_days, 'day')} "
                f"of {two}: a calendar change compares the two.",
            )
        case LeftOutMember(formula, table):
            return Note("member", f"{formula} leaves out the (no match) member of {quoted(table)}, which has a value.")
        case NullWinner(formula, name):
            return Note("null", f"{formula} keeps rows whose {name} is null.")
        case _:
            assert_never(loss)
