"""How a formula was understood: its type, and for each aggregate its rows, what they look up, and what filters them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from relatum.language.expression import (
    Aggregate,
    Apply,
    ColumnValue,
    Expression,
    InContext,
    LetIn,
    Ranked,
    columns_in,
)
from relatum.language.resolve_changes import opened_by
from relatum.model.names import column_name, quoted
from relatum.model.routes import Opened, Place, Route
from relatum.session.session import Session


@dataclass(frozen=True, slots=True)
class AggregateReading:
    """One aggregate: the text, the rows it is worked out over, the lookups of its columns, and who filters it."""

    text: str
    over: str
    lookups: tuple[str, ...]
    filtered_by: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Reading:
    """A formula as it was understood; printing it shows everything."""

    formula: str
    type: str
    aggregates: tuple[AggregateReading, ...]

    def __str__(self) -> str:
        lines = [self.formula, f"  type: {self.type}"]
        for each in self.aggregates:
            lines.append(f"  {each.text}")
            lines.append(f"    over: {each.over}")
            lines += [f"    looks up: {route}" for route in each.lookups]
            lines.append(f"    filtered by: {', '.join(each.filtered_by) or 'nothing'}")
        return "\n".join(lines)


def read_formula(session: Session, text: str) -> Reading:
    """How a formula is understood.

    Raises
    ------
    FormulaError
        It cannot be understood.
    """
    expression = session.formulas.formula(text)
    found = dict.fromkeys(_aggregates(session, expression, Opened()))
    return Reading(" ".join(text.split()), str(expression.type), tuple(found))


def _aggregates(session: Session, expression: Expression, opened: Opened) -> Iterator[AggregateReading]:
    match expression:
        case Aggregate():
            yield _reading(session, expression, opened)
            for argument in expression.arguments:
                yield from _aggregates(session, argument, opened)
        case Apply(arguments=arguments):
            for argument in arguments:
                yield from _aggregates(session, argument, opened)
        case InContext(formula=formula, changes=changes):
            for change in changes:
                if change.relationship is not None:
                    opened = opened_by(change, opened)
                if change.formula is not None:
                    yield from _aggregates(session, change.formula, opened)
            yield from _aggregates(session, formula, opened)
        case Ranked(formula=formula):
            yield from _aggregates(session, formula, opened)
        case LetIn(values=values, body=body):
            for value in (*values, body):
                yield from _aggregates(session, value, opened)


def _reading(session: Session, aggregate: Aggregate, opened: Opened) -> AggregateReading:
    catalog = session.catalog.opening(opened)
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
