"""Filter context: the filters under which a formula is evaluated, and how brackets change them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import ClassVar, Literal, assert_never

from msgspec import field
from msgspec.structs import replace

from relatum.calendar.steps import Step
from relatum.immutable import Immutable
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    BothWays,
    Change,
    Expression,
    FilterPart,
    Ignoring,
    KeepBest,
    KeepWhere,
    LetValue,
    MoveDates,
    OfSet,
    OnColumn,
    Only,
    OnTable,
    Pin,
    PinEdge,
    PinNoMatch,
    Slot,
    Via,
    Where,
    rebuilt,
)
from relatum.language.resolve_changes import opened_by
from relatum.model.routes import Opened, Place, Route
from relatum.plan.nodes import DateSet, Hidden, Kept, Named

#: Where a filter comes from: an axis, the request's condition, a bracket, a member of a grain, the current row (and
#: what it looks up), or the dates that calendar changes left.
Origin = Literal["axis", "request", "where", "pin", "keep", "member", "row", "dates"]


class ByMember(Immutable, frozen=True):
    """The member or row that a key of cells holds; ``at`` leads from that row to the one of the filter's table."""

    key: int
    at: Route = ()


class ByCondition(Immutable, frozen=True):
    """A condition."""

    part: FilterPart


class ByKept(Immutable, frozen=True):
    """The members that a ``keep`` leaves; ``bears`` are the filters that bear on its formula."""

    kept: Kept
    bears: frozenset[Filter] = frozenset()


class ByHidden(Immutable, frozen=True):
    """The members that a grid leaves out beside the best."""

    hidden: Hidden


class ByDates(Immutable, frozen=True):
    """The dates that calendar changes left."""

    dates: DateSet


class Filter(Immutable, frozen=True):
    """One filter of a context.

    ``columns`` are the columns of ``table`` that it judges, None for whole rows. ``group`` tells the parts of one
    current row from those of another.
    """

    aside: ClassVar[tuple[str, ...]] = ("text",)

    origin: Origin
    table: str
    columns: frozenset[str] | None
    by: ByMember | ByCondition | ByKept | ByHidden | ByDates
    axis: Literal["", "rows", "columns"] = ""
    group: int = -1
    text: str = ""

    @property
    def column(self) -> str:
        """The one column that it is on; empty where it is on several or on whole rows."""
        return next(iter(self.columns)) if self.columns is not None and len(self.columns) == 1 else ""


class PinnedEdge(Immutable, frozen=True):
    """``pin first`` or ``pin last`` of a column."""

    edge: Literal["first", "last"]
    table: str
    column: str


class Context(Immutable, frozen=True):
    """Everything that bears on a formula where it is.

    ``rows`` are the tables with a current row and the key that holds it, innermost last, ``columns`` those of grains.
    ``names`` gives the plan's number of each ``let`` name in scope. ``steps`` are calendar changes, each with the
    calendars that it may move along: none stands for any.
    """

    filters: tuple[Filter, ...] = ()
    opened: Opened = field(default_factory=Opened)
    steps: tuple[tuple[tuple[str, ...], Step], ...] = ()
    edges: tuple[PinnedEdge, ...] = ()
    rows: tuple[tuple[str, int], ...] = ()
    columns: tuple[tuple[tuple[str, str], int], ...] = ()
    groups: tuple[int, ...] = ()
    names: tuple[tuple[int, int], ...] = ()

    def with_filters(self, filters: Iterable[Filter]) -> Context:
        """The context with more filters."""
        return replace(self, filters=(*self.filters, *filters))

    def with_row(self, catalog: Catalog, table: str, key: int, origin: Origin) -> Context:
        """The context with a current row: a filter on its table, and one on each table that it looks up."""
        catalog = catalog.opening(self.opened)
        filters = [
            Filter(origin if not route else "row", place.table, None, ByMember(key, route), group=key)
            for place, route in catalog.routes.lookups(Place(table)).items()
            if not place.level
        ]
        changed = self.with_filters(filters)
        return replace(changed, rows=(*self.rows, (table, key)), groups=(*self.groups, key))

    def with_member(self, table: str, column: str, key: int) -> Context:
        """The context with a member of a grain's column."""
        one = Filter("member", table, frozenset([column]), ByMember(key))
        return replace(self.with_filters([one]), columns=(*self.columns, ((table, column), key)))

    def named(self, number: int, plan_number: int) -> Context:
        """The context in which a ``let`` name has its number in the plan."""
        kept = tuple(pair for pair in self.names if pair[0] != number)
        return replace(self, names=(*kept, (number, plan_number)))


#: What a change added: filters and edges that some aggregate must take up.
Added = frozenset[Filter | PinnedEdge]
Keep = Callable[[KeepWhere | KeepBest, Context], Filter]


def changed(
    catalog: Catalog, context: Context, changes: Iterable[Change], keep: Keep
) -> tuple[Context, list[tuple[Change, Added]]]:
    """The context after changes, left to right; ``keep`` makes the filter of a ``keep``.

    Returns
    -------
    tuple of Context and list
        The context, and what each ``where`` and ``pin`` added to it.
    """
    added: list[tuple[Change, Added]] = []
    for change in changes:
        match change:
            case Where(parts):
                filters = [_condition("where", part, context) for part in parts]
                context = context.with_filters(filters)
                added.append((change, frozenset(filters)))
            case Pin(table, column, part):
                one = _condition("pin", part, context)
                context = _without_column(context, table, column).with_filters([one])
                added.append((change, frozenset([one])))
            case PinNoMatch(table, column, part):
                one = _condition("pin", part, context)
                context = _without_no_match(context, table, column).with_filters([one])
                added.append((change, frozenset([one])))
            case PinEdge(edge, table, column):
                pinned = PinnedEdge(edge, table, column)
                context = replace(context, edges=(*context.edges, pinned))
                added.append((change, frozenset([pinned])))
            case Ignoring(targets):
                for target in targets:
                    context = _ignoring(catalog, context, target)
            case Only(targets):
                context = _only(catalog, context, targets)
            case Via() | BothWays():
                context = replace(context, opened=opened_by(change, context.opened))
            case KeepWhere() | KeepBest():
                context = context.with_filters([keep(change, context)])
            case MoveDates(step, calendar):
                context = replace(context, steps=(*context.steps, ((calendar,) if calendar else (), step)))
            case _:
                assert_never(change)
    return context, added


def request_filters(parts: Iterable[FilterPart]) -> list[Filter]:
    """The filters of a request's condition."""
    return [_condition("request", part, Context()) for part in parts]


def _condition(origin: Origin, part: FilterPart, context: Context) -> Filter:
    # A let name is settled where the condition is: deeper in, its number may stand for another name.
    settled = replace(part, expression=with_names(part.expression, context))
    return Filter(origin, part.table, part.columns, ByCondition(settled), text=part.text)


def with_names(expression: Expression, context: Context) -> Expression:
    """An expression whose ``let`` names have become those of the plan."""
    names = dict(context.names)
    if not names:
        return expression

    def settled(part: Expression) -> Expression:
        if isinstance(part, LetValue) and part.number in names:
            return Slot(Named(names[part.number], part.type), part.type)
        return rebuilt(part, settled)

    return settled(expression)


def _without(context: Context, dropped: Callable[[Filter], bool]) -> Context:
    return replace(context, filters=tuple(each for each in context.filters if not dropped(each)))


def _without_column(context: Context, table: str, column: str) -> Context:
    return _without(context, lambda each: each.table == table and each.column == column)


def _without_no_match(context: Context, table: str, column: str | None) -> Context:
    if column is None:
        return _without(context, lambda each: each.table == table and each.columns is not None)
    return _without_column(context, table, column)


def _ignoring(catalog: Catalog, context: Context, target: OnTable | OnColumn | OfSet) -> Context:
    match target:
        case OnColumn(table, column):
            edges = tuple(each for each in context.edges if (each.table, each.column) != (table, column))
            return replace(_without_column(context, table, column), edges=edges)
        case OnTable(table):
            upstream = _upstream(catalog, context, table)
            edges = tuple(each for each in context.edges if each.table not in upstream)
            context = replace(_without(context, lambda each: each.table in upstream), edges=edges)
            return _drop_steps(context, lambda other: other in upstream, catalog)
        case OfSet("all"):
            return replace(context, filters=(), steps=(), edges=())
        case OfSet("axes"):
            return _without(context, lambda each: each.origin == "axis")
        case OfSet("rows" | "columns" as axis):
            return _without(context, lambda each: each.origin == "axis" and each.axis == axis)
        case OfSet("row"):
            last = context.groups[-1] if context.groups else None
            return replace(_without(context, lambda each: each.group == last), groups=context.groups[:-1])
        case OfSet("innermost"):
            inner = [each for each in context.filters if each.origin == "axis" and each.axis == "rows"]
            return _without(context, lambda each: bool(inner) and each == inner[-1])
        case _:
            raise AssertionError(f"nothing ignores {target}")


def _only(catalog: Catalog, context: Context, targets: tuple[OnTable | OnColumn, ...]) -> Context:
    tables: set[str] = set()
    columns: set[tuple[str, str]] = set()
    for target in targets:
        match target:
            case OnTable(table):
                tables |= _upstream(catalog, context, table)
            case OnColumn(table, column):
                columns.add((table, column))
            case _:
                assert_never(target)
    kept = _without(context, lambda each: each.table not in tables and (each.table, each.column) not in columns)
    edges = tuple(each for each in kept.edges if each.table in tables or (each.table, each.column) in columns)
    touched = tables | {table for table, _ in columns}
    return _drop_steps(replace(kept, edges=edges), lambda other: other not in touched, catalog)


def _upstream(catalog: Catalog, context: Context, table: str) -> set[str]:
    found = catalog.opening(context.opened).routes.lookups(Place(table))
    return {place.table for place in found if not place.level}


def _drop_steps(context: Context, dropped: Callable[[str], bool], catalog: Catalog) -> Context:
    """Calendar changes go with the filters of their calendar; one that names none stays for the calendars left."""
    every = tuple(name for name in catalog.declaration.tables if catalog.is_calendar(name))
    steps = []
    for calendars, step in context.steps:
        left = tuple(name for name in calendars or every if not dropped(name))
        if len(left) == len(calendars or every):
            steps.append((calendars, step))
        elif left:
            steps.append((left, step))
    return replace(context, steps=tuple(steps))
