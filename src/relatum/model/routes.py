"""The graph of relationships: along which hops a row finds its lookups, and filters find their facts."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from relatum.errors import ModelError
from relatum.model.declaration import Declaration, Relationship
from relatum.model.names import quoted


@dataclass(frozen=True, slots=True)
class Place:
    """Somewhere rows stand: a table, or the table of distinct values that a level of it implies."""

    table: str
    level: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{quoted(self.table)}({', '.join(map(quoted, self.level))})" if self.level else quoted(self.table)


@dataclass(frozen=True, slots=True)
class Hop:
    """One step from the many side to the one side.

    ``relationship`` is None for the step from a lookup to a level of its own.
    """

    source: Place
    target: Place
    relationship: Relationship | None = None

    @property
    def stops(self) -> bool:
        """Whether nothing passes on beyond this hop, and no filter comes back along it."""
        return self.relationship is not None and self.relationship.direction == "off"


Route = tuple[Hop, ...]
#: Whether a level determines a column of its table: checked in the data.
Determines = Callable[[Place, str], bool]


class RouteMap:
    """All routes of a declaration: at most one between two places.

    Raises
    ------
    ModelError
        Relationships lead round in a circle, or two routes lead from one table to another.
    """

    def __init__(self, declaration: Declaration) -> None:
        self._hops: dict[Place, list[Hop]] = {}
        for relationship in declaration.relationships:
            many, one = Place(relationship.many.table), Place(relationship.one.table)
            target = Place(one.table, relationship.one.columns) if relationship.level else one
            self._add(Hop(many, target, relationship))
            if relationship.level and not any(hop.target == target for hop in self._hops.get(one, ())):
                self._add(Hop(one, target))
        self._routes: dict[Place, dict[Place, Route]] = {
            Place(table): self._routes_from(Place(table)) for table in declaration.tables
        }

    def _add(self, hop: Hop) -> None:
        self._hops.setdefault(hop.source, []).append(hop)

    def _routes_from(self, start: Place) -> dict[Place, Route]:
        found: dict[Place, Route] = {start: ()}
        pending: list[Route] = [()]
        while pending:
            route = pending.pop(0)
            here = route[-1].target if route else start
            for hop in self._hops.get(here, ()):
                longer = (*route, hop)
                if hop.target == start or any(hop.target == passed.source for passed in route):
                    raise ModelError(
                        f"Relationships lead round in a circle: {_written(longer)}.",
                        fix='Take one of them out, or give it direction = "off".',
                    )
                if hop.target in found:
                    raise _two_routes(start, found[hop.target], longer)
                found[hop.target] = longer
                if not hop.stops:
                    pending.append(longer)
        return found

    def lookups(self, start: Place) -> Mapping[Place, Route]:
        """Every place whose one row a row of ``start`` finds, with the route there. Includes ``start`` itself."""
        return self._routes[start]

    def hops(self) -> list[Hop]:
        """Every step of the graph."""
        return [hop for hops in self._hops.values() for hop in hops]

    def lookup(self, start: str, table: str, column: str, determines: Determines) -> Route | None:
        """The route by which a row of ``start`` finds its value of ``table.column``; None where there is none."""
        for place, route in self._candidates(start, table):
            if not place.level or determines(place, column):
                return route
        return None

    def filter(self, table: str, columns: frozenset[str], start: str, determines: Determines) -> Route | None:
        """The route along which a filter on columns of ``table`` reaches the rows of ``start``, many side first."""
        for place, route in self._candidates(start, table):
            if not any(hop.stops for hop in route) and (
                not place.level or all(determines(place, column) for column in columns)
            ):
                return route
        return None

    def _candidates(self, start: str, table: str) -> Iterator[tuple[Place, Route]]:
        # The table itself comes before its levels: a row that finds a date finds all of the calendar's columns.
        routes = self._routes.get(Place(start), {})
        yield from sorted(
            ((place, route) for place, route in routes.items() if place.table == table), key=lambda item: item[0].level
        )


def _written(route: Route) -> str:
    names = [str(route[0].source), *(str(hop.target) for hop in route)]
    return " -> ".join(names)


def _two_routes(start: Place, first: Route, second: Route) -> ModelError:
    closing = second[-1].relationship or first[-1].relationship
    target = second[-1].target
    return ModelError(
        f"Two routes lead from {start} to {target}:\n"
        f"    1. {_written(first)}\n"
        f"    2. {_written(second)}\n"
        "Filters and lookups need exactly one.",
        fix=f'Either give one of the relationships direction = "off" (for instance {closing}), or add a table with '
        f'role_of = "{target.table}" and let one route end there.',
    )
