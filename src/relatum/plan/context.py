"""Filter context: the filters under which a formula is worked out, and how brackets change them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace

from relatum.language.catalog import Catalog
from relatum.language.expression import ContextChange, FilterPart
from relatum.language.resolve_changes import opened_by
from relatum.model.routes import Opened, Place, Route
from relatum.plan.nodes import DateSet, Kept, Step

CALENDAR_CHANGES = frozenset({"back", "forward", "to_date", "before", "trailing", "whole"})


@dataclass(frozen=True, slots=True)
class Filter:
    """One filter of a context.

    ``kind`` is where it comes from: ``axis``, ``request``, ``where``, ``pin``, ``keep``, ``member`` (of a grain) or
    ``row`` (the current row, and what it looks up). ``columns`` are the columns of ``table`` that it judges, None for
    whole rows. It is the member that ``key`` holds, a condition ``part``, the members of ``kept``, or the ``dates``
    that calendar changes left. ``group`` tells the parts of one current row from those of another.
    """

    kind: str
    table: str
    columns: frozenset[str] | None
    key: int = -1
    at: Route = ()
    part: FilterPart | None = None
    kept: Kept | None = None
    dates: DateSet | None = None
    axis: str = ""
    group: int = -1
    #: Filters that bear on the formula of ``kept``, and through it on whatever it filters.
    bears: frozenset[Filter] = frozenset()
    text: str = field(default="", compare=False)

    @property
    def column(self) -> str:
        """The one column that it is on; empty where it is on several or on whole rows."""
        return next(iter(self.columns)) if self.columns is not None and len(self.columns) == 1 else ""


@dataclass(frozen=True, slots=True)
class Context:
    """Everything that bears on a formula where it stands."""

    filters: tuple[Filter, ...] = ()
    opened: Opened = field(default_factory=Opened)
    steps: tuple[tuple[str, Step], ...] = ()
    pinned: tuple[tuple[str, str, str], ...] = ()
    #: Tables with a current row and the key that holds it, innermost last; and grains' columns with theirs.
    rows: tuple[tuple[str, int], ...] = ()
    columns: tuple[tuple[tuple[str, str], int], ...] = ()
    groups: tuple[int, ...] = ()

    def with_filters(self, filters: Iterable[Filter]) -> Context:
        """The context with more filters."""
        return replace(self, filters=(*self.filters, *filters))

    def with_row(self, catalog: Catalog, table: str, key: int, kind: str) -> Context:
        """The context with a current row: a filter on its table, and one on each table that it looks up."""
        catalog = catalog.opening(self.opened)
        filters = [
            Filter(kind if not route else "row", place.table, None, key, route, group=key)
            for place, route in catalog.routes.lookups(Place(table)).items()
            if not place.level
        ]
        changed = self.with_filters(filters)
        return replace(changed, rows=(*self.rows, (table, key)), groups=(*self.groups, key))

    def with_member(self, table: str, column: str, key: int) -> Context:
        """The context with a member of a grain's column."""
        one = Filter("member", table, frozenset([column]), key)
        return replace(self.with_filters([one]), columns=(*self.columns, ((table, column), key)))


Keep = Callable[[ContextChange, Context], Filter]


def changed(catalog: Catalog, context: Context, changes: Iterable[ContextChange], keep: Keep) -> Context:
    """The context after changes, left to right; ``keep`` makes the filter of a ``keep``."""
    for change in changes:
        context = _changed(catalog, context, change, keep)
    return context


def _changed(catalog: Catalog, context: Context, change: ContextChange, keep: Keep) -> Context:
    match change.kind:
        case "where":
            return context.with_filters(conditions(change))
        case "pin":
            return _pinned(context, change)
        case "ignoring":
            for target in change.targets:
                context = _ignoring(catalog, context, *target)
            return context
        case "only":
            return _only(catalog, context, change.targets)
        case "via" | "both_ways":
            return replace(context, opened=opened_by(change, context.opened))
        case "keep":
            return context.with_filters([keep(change, context)])
    ((calendar, _),) = change.targets or (("", ""),)
    return replace(context, steps=(*context.steps, (calendar, Step(change.kind, change.word, change.number))))


def _condition(kind: str, part: FilterPart) -> Filter:
    return Filter(kind, part.table, part.columns, part=part, text=part.text)


def conditions(change: ContextChange) -> list[Filter]:
    """The filters that a ``where`` or ``pin`` adds."""
    return [_condition(change.kind, part) for part in change.parts]


def request_filters(parts: Iterable[FilterPart]) -> list[Filter]:
    """The filters of a request's condition."""
    return [_condition("request", part) for part in parts]


def _pinned(context: Context, change: ContextChange) -> Context:
    ((table, column),) = change.targets
    if change.word in ("first", "last"):
        return replace(context, pinned=(*context.pinned, (change.word, table, column)))
    if column:
        context = _without(context, lambda each: each.table == table and each.column == column)
    else:
        context = _without(context, lambda each: each.table == table and each.columns is not None)
    return context.with_filters(conditions(change))


def _without(context: Context, dropped: Callable[[Filter], bool]) -> Context:
    return replace(context, filters=tuple(each for each in context.filters if not dropped(each)))


def _ignoring(catalog: Catalog, context: Context, table: str, word: str) -> Context:
    if table and word:
        kept = tuple(each for each in context.pinned if each[1:] != (table, word))
        return replace(_without(context, lambda each: each.table == table and each.column == word), pinned=kept)
    if table:
        upstream = _upstream(catalog, context, table)
        context = _without(context, lambda each: each.table in upstream)
        return _drop_steps(context, lambda other: other in upstream, catalog)
    match word:
        case "all":
            return replace(context, filters=(), steps=(), pinned=())
        case "axes":
            return _without(context, lambda each: each.kind == "axis")
        case "rows" | "columns":
            return _without(context, lambda each: each.kind == "axis" and each.axis == word)
        case "row":
            last = context.groups[-1] if context.groups else None
            return replace(_without(context, lambda each: each.group == last), groups=context.groups[:-1])
    inner = [each for each in context.filters if each.kind == "axis" and each.axis == "rows"]
    return _without(context, lambda each: bool(inner) and each == inner[-1])


def _only(catalog: Catalog, context: Context, targets: tuple[tuple[str, str], ...]) -> Context:
    tables: set[str] = set()
    for table, column in targets:
        tables |= set() if column else _upstream(catalog, context, table)
    columns = {target for target in targets if target[1]}
    kept = _without(context, lambda each: each.table not in tables and (each.table, each.column) not in columns)
    pinned = tuple(each for each in kept.pinned if each[1] in tables or each[1:] in columns)
    touched = tables | {table for table, _ in columns}
    return _drop_steps(replace(kept, pinned=pinned), lambda other: other not in touched, catalog)


def _upstream(catalog: Catalog, context: Context, table: str) -> set[str]:
    found = catalog.opening(context.opened).routes.lookups(Place(table))
    return {place.table for place in found if not place.level}


def _drop_steps(context: Context, dropped: Callable[[str], bool], catalog: Catalog) -> Context:
    """Calendar changes go with the filters of their calendar."""
    calendars = [name for name in catalog.declaration.tables if catalog.is_calendar(name)]
    steps = tuple(
        (calendar, step)
        for calendar, step in context.steps
        if not (dropped(calendar) if calendar else calendars and all(dropped(each) for each in calendars))
    )
    return replace(context, steps=steps)
