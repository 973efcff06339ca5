"""Which rows of a table a context leaves visible: filters become matches, restrictions, dates and kept members."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace

from relatum.calendar.steps import Shift, Step
from relatum.errors import ModelError
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    FilterPart,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
    is_plain,
    rebuilt,
)
from relatum.model.names import quoted, split_name
from relatum.model.routes import Place, Route, RouteMap
from relatum.plan.context import ByCondition, ByDates, ByHidden, ByKept, ByMember, Context, Filter
from relatum.plan.nodes import Bounds, Calendar, DateSet, Field, Hidden, Kept, Match, Pinned, Restriction


class Bounded(Struct, frozen=True):
    """A table's bounds under a context.

    ``reached`` are the filters that bear on its rows, ``keyed`` conditions that use ``let`` values. ``empty`` is the
    calendar of which no period is chosen that could be moved.
    """

    bounds: Bounds
    reached: frozenset[Filter]
    keyed: tuple[FilterPart, ...]
    empty: str = ""


def attached(expression: Expression, source: str, catalog: Catalog) -> Expression:
    """A row expression whose columns know how a row of ``source`` looks them up."""
    match expression:
        case ColumnValue(table=table, column=column):
            route = catalog.lookup(source, table, column)
            assert route is not None, f"{source} looks up {table}.{column}"
            return replace(expression, route=route)
        case NoMatch(table=table):
            return replace(expression, route=row_route(catalog, source, table))
        case Apply():
            return rebuilt(expression, lambda part: attached(part, source, catalog))
        case Constant() | Choices() | Aggregate() | Ranked() | Narrowed() | InContext() | LetIn() | LetValue() | Slot():
            return expression  # it has rows of its own, or none
        case _:
            assert_never(expression)


def row_route(catalog: Catalog, source: str, table: str) -> Route:
    """How a row of ``source`` finds its row of ``table``, or of a level of it."""
    found = catalog.routes.lookups(Place(source))
    return next(route for place, route in sorted(found.items(), key=lambda item: item[0].level) if place.table == table)


def calendar_of(catalog: Catalog, table: str) -> Calendar:
    """A calendar with its settings; of a role, those of the table that it is a role of."""
    described = catalog.declaration.tables[catalog.declaration.rows_of(table)]
    span = described.calendar
    if span is None:
        return Calendar(table, described.key[0])
    through: date | tuple[str, str] | None = None
    if isinstance(span.through, date):
        through = span.through
    elif span.through:
        name, column = split_name(span.through)
        through = name, column
    return Calendar(table, "date", span.fiscal_year_starts, span.week_starts, through)


def field_of(catalog: Catalog, table: str, column: str = "") -> Field:
    """A key of cells: a column's members, or a table's rows.

    Parameters
    ----------
    catalog : Catalog
        The types of columns, and the keys of tables.
    table : str
        The table.
    column : str
        Its column; the rows of the table unless given.

    Returns
    -------
    Field
        With the column's type, or with the key columns that name a row.
    """
    types = catalog.columns(table)
    if column:
        return Field(table, column, types[column])
    key = catalog.declaration.tables[catalog.declaration.rows_of(table)].key
    return Field(table, key=tuple((name, types[name]) for name in key))


class Bounder:
    """Works out bounds in one context.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    context : Context
        The filters.
    ends : iterable of str
        The tables whose last date ends the data where the bounded table itself has no dates.
    """

    def __init__(self, catalog: Catalog, context: Context, ends: Iterable[str] = ()) -> None:
        self.catalog = catalog.opening(context.opened)
        self.context = context
        self.ends = tuple(ends)

    @property
    def _routes(self) -> RouteMap:
        return self.catalog.routes

    def bounded(self, source: str) -> Bounded:
        """The bounds of a table."""
        moved, consumed, empty = self._moved(source)
        matches: list[tuple[Filter, Match]] = []
        restrictions: list[Restriction] = []
        kept: list[Kept | Hidden] = []
        reached: set[Filter] = set(consumed)
        keyed: list[FilterPart] = []
        for each in self.context.filters:
            if each in consumed:
                continue
            route = self._route(each, source)
            if route is None:
                continue
            reached |= {each, *(each.by.bears if isinstance(each.by, ByKept) else ())}
            match each.by:
                case ByCondition(part) if not is_plain(part.expression):
                    keyed.append(part)
                case ByCondition(part):
                    restrictions.append(Restriction(self._judged(part), route))
                case ByKept(Kept() as one) | ByHidden(one):
                    kept.append(replace(one, match=replace(one.match, route=route)))
                case ByDates(dates):
                    moved.append(replace(dates, route=route))
                case ByMember(key, at):
                    matches.append((each, Match(key, at, route, each.table, each.column)))
                case _:
                    assert_never(each.by)
        own = {match for each, match in matches if not _implied(each, match, matches)}
        # The same filters in another order leave the same rows: with one order they are computed once.
        bounds = Bounds(
            source,
            tuple(sorted(own, key=lambda match: (match.key, match.table, match.column, str(match.route)))),
            tuple(sorted(dict.fromkeys(restrictions), key=lambda one: (one.part.table, one.part.text))),
            tuple(dict.fromkeys(moved)),
            tuple(sorted(dict.fromkeys(kept), key=_kept_order)),
            self._pinned(source),
        )
        return Bounded(bounds, frozenset(reached), tuple(keyed), empty)

    def _judged(self, part: FilterPart) -> FilterPart:
        return replace(part, expression=attached(part.expression, part.table, self.catalog))

    def _route(self, each: Filter, source: str) -> Route | None:
        route = self.catalog.filter(each.table, each.columns, source)
        if route is None and isinstance(each.by, ByDates):
            return self._calendar_route(each.table, source)
        return route

    def _calendar_route(self, calendar: str, source: str) -> Route | None:
        found = self._routes.filters(Place(source))
        places = sorted((place for place in found if place.table == calendar), key=lambda place: place.level)
        return found[places[0]] if places else None

    def _pinned(self, source: str) -> tuple[Pinned, ...]:
        pinned = []
        for each in self.context.edges:
            route = self.catalog.filter(each.table, frozenset([each.column]), source)
            if route is not None:
                pinned.append(Pinned(each.edge, each.table, each.column, route))
        return tuple(pinned)

    # -- calendar changes ---------------------------------------------------------------------------------------------

    def calendars(self, source: str) -> dict[str, list[Step]]:
        """The calendars whose changes a table carries out, with the changes in order.

        Raises
        ------
        ModelError
            Several calendars reach the table, and a change does not say which it means.
        """
        reaching = self.catalog.calendars(source)
        steps: dict[str, list[Step]] = {}
        for calendars, step in self.context.steps:
            found = [name for name in reaching if not calendars or name in calendars]
            if len(found) > 1:
                raise ModelError(
                    f"{' and '.join(map(quoted, found))} both reach {quoted(source)}.",
                    fix=f"Name the calendar to move along: … on {quoted(found[0])}.",
                )
            for name in found:
                steps.setdefault(name, []).append(step)
        return steps

    def _moved(self, source: str) -> tuple[list[DateSet], set[Filter], str]:
        sets, consumed, empty = [], set(), ""
        for calendar, steps in self.calendars(source).items():
            periods = [each for each in self.context.filters if self.is_period(each, calendar)]
            consumed.update(periods)
            route = self._calendar_route(calendar, source)
            assert route is not None
            dates = self._date_set(calendar, steps, periods, source, route)
            if _moves_nothing(dates):
                empty = calendar
            sets.append(dates)
        return sets, consumed, empty

    def is_period(self, each: Filter, calendar: str) -> bool:
        """Whether a filter chooses a period of a calendar, which changes of it replace."""
        if each.table != calendar:
            return False
        match each.by:
            case ByKept() if each.origin != "request":
                return False
            case ByKept() if each.columns is None:
                return True
            case ByCondition(part) if each.columns is None or not is_plain(part.expression):
                return False
            case ByMember() | ByDates() if each.columns is None:
                return True
            case ByMember() | ByDates() | ByCondition() | ByKept() | ByHidden():
                columns = each.columns or frozenset()
                return bool(columns) and all(self.catalog.is_period(calendar, column) for column in columns)
            case _:
                assert_never(each.by)

    def _date_set(self, calendar: str, steps: list[Step], periods: list[Filter], source: str, route: Route) -> DateSet:
        matches: dict[Match, None] = {}
        restrictions, within = [], []
        kept: list[Kept | Hidden] = []
        for each in periods:
            match each.by:
                case ByMember(key, at):
                    matches[Match(key, at, (), calendar, each.column)] = None
                case ByCondition(part):
                    restrictions.append(Restriction(self._judged(part), ()))
                case ByDates(dates):
                    within.append(dates)
                case ByKept(Kept() as one) | ByHidden(one):
                    kept.append(replace(one, match=replace(one.match, route=())))
                case _:
                    assert_never(each.by)
        ends = self._ends(calendar, source)
        known = calendar_of(self.catalog, calendar)
        chosen = tuple(sorted(dict.fromkeys(kept), key=_kept_order))
        return DateSet(
            calendar=known,
            matches=tuple(matches),
            restrictions=tuple(restrictions),
            within=tuple(within),
            kept=chosen,
            steps=tuple(steps),
            ends=ends,
            route=route,
        )

    def _ends(self, calendar: str, source: str) -> tuple[tuple[str, Route], ...]:
        ends = []
        for table in dict.fromkeys((source, *self.ends)):
            route = self._routes.lookups(Place(table)).get(Place(calendar))
            if route:
                ends.append((table, route))
                if table == source:
                    break
        return tuple(ends)

    def carried_out(self, sources: Iterable[str]) -> tuple[Context, set[Filter]]:
        """The context inside an aggregate whose own tables carry out calendar changes."""
        context = self.context
        consumed: set[Filter] = set()
        for source in sources:
            for calendar, steps in self.calendars(source).items():
                periods = [each for each in context.filters if self.is_period(each, calendar)]
                consumed.update(periods)
                dates = self._date_set(calendar, steps, periods, source, ())
                kept = tuple(each for each in context.filters if each not in periods)
                moved = Filter("dates", calendar, None, ByDates(dates))
                rest = tuple(pair for pair in context.steps if pair[0] and calendar not in pair[0])
                context = replace(context, filters=(*kept, moved), steps=rest)
        return context, consumed


def _kept_order(one: Kept | Hidden) -> tuple[str, int]:
    return (one.text, one.match.key) if isinstance(one, Kept) else ("", one.key)


def _moves_nothing(dates: DateSet) -> bool:
    """Whether some step moves dates of which no period is chosen: not by a filter, nor by a step before it."""
    for at, step in enumerate(dates.steps):
        if isinstance(step, Shift) and not replace(dates, steps=dates.steps[:at]).chosen:
            return True
    return False


def _implied(each: Filter, match: Match, matches: list[tuple[Filter, Match]]) -> bool:
    # The row of a product settles its category: rows matched by the one need not be matched by the other.
    return each.group >= 0 and any(
        other.group == each.group
        and len(nearer.route) < len(match.route)
        and match.route[: len(nearer.route)] == nearer.route
        and match.at == nearer.at + match.route[len(nearer.route) :]
        for other, nearer in matches
    )
