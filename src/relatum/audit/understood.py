"""How a formula was understood: its type, and for each aggregate its rows, what they look up, and what filters them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace

from relatum import markup
from relatum.data.types import NULL
from relatum.errors import ModelError
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Apply,
    BothWays,
    Change,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    FilterPart,
    Grain,
    Ignoring,
    InContext,
    KeepBest,
    KeepWhere,
    LetIn,
    LetValue,
    MoveDates,
    Narrowed,
    NoMatch,
    Only,
    Pin,
    PinEdge,
    PinNoMatch,
    Ranked,
    Slot,
    Via,
    Where,
    columns_in,
    formulas_of,
)
from relatum.language.resolve_changes import opened_by
from relatum.language.shorthand import expansion
from relatum.model.names import column_name, quoted
from relatum.model.routes import Opened, Place, Route, hops_of
from relatum.plan.compile import Wanted
from relatum.plan.describe import describe
from relatum.runtime.progress import noting_scans
from relatum.session.session import Session
from relatum.wording import visible_lines


class AggregateReading(Struct, frozen=True):
    """One aggregate: its text, the rows it is computed over, the lookups of its columns, and what filters it."""

    text: str
    over: str
    lookups: tuple[str, ...]
    filtered_by: tuple[str, ...]


class Reading(Struct, frozen=True):
    """A formula as it was understood; printing it shows everything.

    ``expansion`` is the formula with ``share``, ``growth`` and ``change`` written out, empty where it has none of them.
    ``plan`` is how an engine is asked for it in one cell without filters, and ``evaluate`` asks it.
    """

    formula: str
    type: str
    aggregates: tuple[AggregateReading, ...]
    plan: str
    evaluate: Callable[[], object]
    expansion: str = ""

    def scans(self) -> tuple[str, ...]:
        """Evaluate it once without filters, and say how each table was scanned.

        Returns
        -------
        tuple of str
            A line for each table: its rows, and whether compiled loops scanned them or, with the reason, NumPy. Empty
            where an engine other than memory answered.
        """
        with noting_scans() as found:
            self.evaluate()
        return tuple(found)

    def __str__(self) -> str:
        lines = [self.formula, *([f"  short for: {self.expansion}"] if self.expansion else []), f"  type: {self.type}"]
        for each in self.aggregates:
            lines.append(f"  {each.text}")
            lines.append(f"    over: {each.over}")
            lines += [f"    looks up: {route}" for route in each.lookups]
            lines.append(f"    filtered by: {', '.join(each.filtered_by) or 'nothing'}")
        lines += ["  plan:", *(f"    {line}" for line in self.plan.splitlines())]
        return visible_lines("\n".join(lines))

    def _repr_html_(self) -> str:
        lines: list[markup.Row] = [
            [each.text, each.over, "; ".join(each.lookups), ", ".join(each.filtered_by) or "nothing"]
            for each in self.aggregates
        ]
        heads = ["aggregate", "over", "looks up", "filtered by"]
        return markup.html(
            [
                markup.line(self.formula, bold=True),
                *([markup.line(f"short for {self.expansion}", tone="faint")] if self.expansion else []),
                markup.line(f"type: {self.type}", tone="faint"),
                *([markup.Table([heads], lines)] if lines else []),
            ]
        )


def read_formula(session: Session, text: str) -> Reading:
    """How a formula is understood.

    Raises
    ------
    FormulaError
        It cannot be understood.
    """
    expression = session.formulas.formula(text)
    found = dict.fromkeys(_reading(session, use) for use in aggregate_uses(expression))
    plan, _ = session.plan(Wanted((), (expression,), ()))
    formula, written = " ".join(text.split()), expansion(text)
    same = formula == written
    return Reading(
        formula=formula,
        type=str(expression.type),
        aggregates=tuple(found),
        plan=describe(plan),
        evaluate=lambda: session.engine.run(plan),
        expansion="" if same else written,
    )


class Use(Struct, frozen=True):
    """An aggregate where it is: the relationships opened around it, and the columns that bear on it.

    ``bearing`` are pairs of a table and its columns (None for its rows) on which brackets, ``per`` or ``among`` around
    the aggregate put a filter, ``conditions`` those that are asked of rows. ``moved`` says that a calendar change is
    carried out on it.
    """

    aggregate: Aggregate
    opened: Opened
    bearing: tuple[tuple[str, frozenset[str] | None], ...] = ()
    conditions: tuple[FilterPart, ...] = ()
    moved: bool = False


_NO_AGGREGATE = Aggregate("", (), "", NULL)


def aggregate_uses(expression: Expression) -> Iterator[Use]:
    """Every aggregate of a formula, nested ones included, with its surroundings.

    A part that is twice in the same surroundings, as measures do that name one another, is shown once.
    """
    yield from _uses(expression, Use(_NO_AGGREGATE, Opened()), set())


def _uses(expression: Expression, around: Use, seen: set[tuple[int, Use]]) -> Iterator[Use]:
    if (id(expression), around) in seen:
        return
    seen.add((id(expression), around))
    match expression:
        case Aggregate(grain=grain, arguments=arguments):
            yield replace(around, aggregate=expression)
            inner = around if grain is None else _bearing(around, grain)
            for argument in arguments:
                yield from _uses(argument, inner, seen)
        case Apply(arguments=arguments):
            for argument in arguments:
                yield from _uses(argument, around, seen)
        case InContext(formula=formula, changes=changes):
            for change in changes:
                if isinstance(change, KeepWhere | KeepBest):
                    for kept in formulas_of(change):
                        yield from _uses(kept, around, seen)
                around = _changed(around, change)
            yield from _uses(formula, around, seen)
        case Ranked(formula=formula, grain=grain, by=by):
            for part in (formula, by):
                if part is not None:
                    yield from _uses(part, _bearing(around, grain), seen)
        case LetIn(values=values, body=body):
            for value in (*values, body):
                yield from _uses(value, around, seen)
        case Constant() | Choices() | ColumnValue() | NoMatch() | Narrowed() | LetValue() | Slot():
            return
        case _:
            assert_never(expression)


def _bearing(around: Use, grain: Grain) -> Use:
    new: list[tuple[str, frozenset[str] | None]] = [(grain.table, None)] if grain.table else []
    new += [(table, frozenset([column])) for table, column in grain.columns]
    return replace(around, bearing=(*around.bearing, *new))


def _changed(around: Use, change: Change) -> Use:
    match change:
        case Where(parts):
            return _with_parts(around, parts)
        case Pin(part=part) | PinNoMatch(part=part):
            return _with_parts(around, (part,))
        case PinEdge(table=table, column=column):
            return replace(around, bearing=(*around.bearing, (table, frozenset([column]))))
        case KeepWhere(grain) | KeepBest(grain=grain):
            return _bearing(around, grain)
        case Via() | BothWays():
            return replace(around, opened=opened_by(change, around.opened))
        case MoveDates():
            return replace(around, moved=True)
        case Ignoring() | Only():
            return around
        case _:
            assert_never(change)


def _with_parts(around: Use, parts: tuple[FilterPart, ...]) -> Use:
    bearing = [(part.table, part.columns) for part in parts]
    return replace(around, bearing=(*around.bearing, *bearing), conditions=(*around.conditions, *parts))


def routes_used(session: Session, expression: Expression, home: str = "") -> tuple[list[Route], list[Route]]:
    """The routes that a formula cannot do without, and those along which its values can be filtered.

    Parameters
    ----------
    expression : Expression
        The formula, resolved.
    home : str, optional
        The table for whose rows it is worked out.
    """
    needed: list[Route | None] = []
    filters: list[Route] = []
    if home:
        needed += _lookups(session.catalog, home, expression)
    for use in aggregate_uses(expression):
        catalog = session.catalog.opening(use.opened)
        aggregate = use.aggregate
        source = aggregate.row_table or (aggregate.grain.table if aggregate.grain else "")
        for argument in aggregate.arguments if source else ():
            needed += _lookups(catalog, source, argument)
        # What brackets open by name must be there to be named.
        needed += [(hops_of(each)[0],) for each in use.opened.via | use.opened.both]
        for part in use.conditions:
            needed += _lookups(catalog, part.table, part.expression)
        if not aggregate.row_table:
            continue
        try:
            found = catalog.routes.filters(Place(source))
        except ModelError:
            continue  # what the formula opens makes a second route: asked so, it is refused
        needed += [catalog.filter(table, columns, source) for table, columns in use.bearing]
        filters += [route for route in found.values() if route]
        if use.moved:
            calendars = catalog.calendars(source)
            needed += [route for place, route in found.items() if place.table in calendars]
    return [route for route in needed if route], filters


def _lookups(catalog: Catalog, source: str, expression: Expression) -> list[Route | None]:
    return [
        catalog.lookup(source, value.table, value.column)
        for value in columns_in(expression)
        if isinstance(value, ColumnValue)
    ]


def _reading(session: Session, use: Use) -> AggregateReading:
    aggregate = use.aggregate
    catalog = session.catalog.opening(use.opened)
    if aggregate.grain is not None:
        grain = aggregate.grain
        members = quoted(grain.table) if grain.table else ", ".join(column_name(*column) for column in grain.columns)
        return AggregateReading(aggregate.text, f"members of {members}", (), ())
    source = aggregate.row_table
    lookups: dict[str, None] = {}
    for argument in aggregate.arguments:
        for value in columns_in(argument):
            if isinstance(value, ColumnValue):
                route = catalog.lookup(source, value.table, value.column)
                if route:
                    lookups[f"{column_name(value.table, value.column)} by {_written(route)}"] = None
    filters = [str(place) for place, route in catalog.routes.filters(Place(source)).items() if route]
    return AggregateReading(aggregate.text, f"rows of {quoted(source)}", tuple(lookups), (quoted(source), *filters))


def _written(route: Route) -> str:
    return " -> ".join([str(route[0].source), *(str(hop.target) for hop in route)])
