"""The graph of relationships: along which hops a row finds its lookups, and filters find their facts."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from relatum.errors import ModelError
from relatum.model.declaration import Declaration, Relationship
from relatum.model.names import ColumnKey, quoted


class Place(Struct, frozen=True):
    """Somewhere rows are: a table, or the table of distinct values that a level of it implies."""

    table: str
    level: tuple[str, ...] = ()

    def __str__(self) -> str:
        return f"{quoted(self.table)}({', '.join(map(quoted, self.level))})" if self.level else quoted(self.table)


class Hop(Struct, frozen=True):
    """One step away from a row's own table.

    A plain step goes to the one row that it looks up; ``relationship`` is None for the step from a lookup to a level of
    its own. With ``reach`` the step goes to any number of related rows: from the one side to the many side, or along
    a many-to-many relationship. ``turned`` says that it goes from the right end to the left one.
    """

    source: Place
    target: Place
    relationship: Relationship | None = None
    reach: bool = False
    turned: bool = False

    @property
    def stops(self) -> bool:
        """Whether no filter comes back along this hop and nothing passes on beyond it."""
        return self.relationship is not None and self.relationship.direction == "off" and not self.reach


#: What the name of a key ends with beside the name of the thing.
_KEY_ENDING = re.compile(r"_(id|no|nr|key|code)\Z")
Route = tuple[Hop, ...]
#: Whether a level determines a column of its table: checked in the data.
Determines = Callable[[Place, str], bool]


def reach_of(route: Route) -> int:
    """The position of the first hop of a route that reaches many rows; -1 where each row finds one."""
    return next((at for at, hop in enumerate(route) if hop.reach), -1)


class Opened(Struct, frozen=True):
    """What a formula opens: standby relationships that replace active ones, and relationships that filter both ways."""

    via: frozenset[Relationship] = frozenset()
    both: frozenset[Relationship] = frozenset()


class RouteMap:
    """All routes of a declaration: at most one between two places for lookups, and one for filters.

    Raises
    ------
    ModelError
        Relationships lead round in a circle, or two routes lead from one table to another.
    """

    def __init__(self, declaration: Declaration, opened: Opened | None = None, *, advises: bool = True) -> None:
        self.declaration = declaration
        self.opened = opened or Opened()
        self._advises = advises
        self._lookup_hops: dict[Place, list[Hop]] = {}
        self._filter_hops: dict[Place, list[Hop]] = {}
        self._lookups: dict[Place, dict[Place, Route]] = {}
        self._filters: dict[Place, dict[Place, Route]] = {}
        self._variants: dict[Opened, RouteMap] = {}
        for relationship in declaration.relationships:
            if relationship in self.opened.both:
                self._add(replace(relationship, direction="both"))
            elif self._in_use(relationship):
                self._add(relationship)
        if opened is None:
            for table in declaration.tables:
                self.lookups(Place(table))
                self.filters(Place(table))

    def opening(self, opened: Opened) -> RouteMap:
        """The routes with more relationships opened; only routes that are asked for are checked."""
        if opened == self.opened:
            return self
        if opened not in self._variants:
            self._variants[opened] = RouteMap(self.declaration, opened)
        return self._variants[opened]

    def _in_use(self, relationship: Relationship) -> bool:
        if relationship.standby:
            return relationship in self.opened.via
        ends = {relationship.many.table, relationship.one.table}
        return not any({each.many.table, each.one.table} == ends for each in self.opened.via)

    def _add(self, relationship: Relationship) -> None:
        many, one = Place(relationship.many.table), Place(relationship.one.table)
        target = Place(one.table, relationship.one.columns) if relationship.level else one
        both = relationship.direction == "both"
        if relationship.kind == "many_to_many":
            if both or relationship.direction == "left":
                self._filter_hops.setdefault(many, []).append(Hop(many, one, relationship, reach=True))
            if both or relationship.direction == "right":
                self._filter_hops.setdefault(one, []).append(Hop(one, many, relationship, reach=True, turned=True))
            return
        self._look_up(Hop(many, target, relationship))
        if relationship.kind == "one_to_one":
            self._look_up(Hop(one, many, relationship, turned=True))
        elif both:
            self._filter_hops.setdefault(target, []).append(Hop(target, many, relationship, reach=True, turned=True))
        if relationship.level and not any(hop.target == target for hop in self._lookup_hops.get(one, ())):
            self._look_up(Hop(one, target))

    def _look_up(self, hop: Hop) -> None:
        self._lookup_hops.setdefault(hop.source, []).append(hop)
        if not hop.stops:
            self._filter_hops.setdefault(hop.source, []).append(hop)

    def lookups(self, start: Place) -> Mapping[Place, Route]:
        """Every place whose one row a row of ``start`` finds, with the route there. Includes ``start`` itself."""
        if start not in self._lookups:
            self._lookups[start] = self._search(start, self._lookup_hops, refuse_circles=True)
        return self._lookups[start]

    def filters(self, start: Place) -> Mapping[Place, Route]:
        """Every place from which a filter travels to the rows of ``start``, with the route to it."""
        if start not in self._filters:
            self._filters[start] = self._search(start, self._filter_hops, refuse_circles=False)
        return self._filters[start]

    def lookup(self, start: str, table: str, column: str, determines: Determines) -> Route | None:
        """The route by which a row of ``start`` finds its value of ``table.column``; None where there is none."""
        for place, route in _candidates(self.lookups(Place(start)), table):
            if not place.level or determines(place, column):
                return route
        return None

    def filter(self, table: str, columns: frozenset[str] | None, start: str, determines: Determines) -> Route | None:
        """The route along which a filter reaches the rows of ``start``.

        ``columns`` are the filter's columns of ``table``, or None for one on whole rows, which no level can judge.
        """
        for place, route in _candidates(self.filters(Place(start)), table):
            if not place.level or (columns is not None and all(determines(place, column) for column in columns)):
                return route
        return None

    def _search(self, start: Place, hops: Mapping[Place, list[Hop]], refuse_circles: bool) -> dict[Place, Route]:
        try:
            return _search(start, hops, refuse_circles)
        except _TwoRoutes as found:
            raise self._two_routes(start, found.first, found.second) from None

    def _two_routes(self, start: Place, first: Route, second: Route) -> ModelError:
        target = second[-1].target
        return ModelError(
            f"Two routes lead from {start} to {target}:\n"
            f"    1. {_written(first)}\n"
            f"    2. {_written(second)}\n"
            "Filters and lookups need exactly one route.",
            fix=self._ways_out(first, second) if self._advises else "",
        )

    def _ways_out(self, first: Route, second: Route) -> str:
        """What makes two routes one; only what was tried on this model is advised."""
        opening = [
            each.relationship for each in (*second, *first) if each.relationship in self.opened.both | self.opened.via
        ]
        if opening:
            return f"The formula opens {opening[0]}: remove that from its brackets."
        passed = [[hop.relationship for hop in route if hop.relationship is not None] for route in (first, second)]
        # The last relationship of the shorter route first: it says again what the longer one says.
        passed.sort(key=len)
        if len(passed[0]) == len(passed[1]):
            passed.reverse()
        apart = [each for way in passed for each in reversed(way) if not all(each in one for one in passed)]
        ways = []
        for setting, change in (("standby = true", {"standby": True}), ('direction = "off"', {"direction": "off"})):
            holds = next((each for each in apart if self._is_one_route(each, change)), None)
            if holds is not None:
                ways.append(f"give {holds} {setting}")
        closing, other = apart[0], second[-1].target.table
        column = _KEY_ENDING.sub("", closing.many.columns[-1])
        name = column if column not in self.declaration.tables else f"{other}_2"
        ways.append(
            f'add a table {quoted(name)} with role_of = "{other}" and let one route end there, with {closing.many} -> '
            + str(replace(closing.one, table=name))
        )
        text = ", or ".join(ways)
        return f"{text[0].upper()}{text[1:]}."

    def _is_one_route(self, relationship: Relationship, change: Mapping[str, Any]) -> bool:
        """Whether a model with one relationship set so has one route everywhere."""
        changed = tuple(
            replace(each, **change) if each is relationship else each for each in self.declaration.relationships
        )
        try:
            RouteMap(replace(self.declaration, relationships=changed), advises=False)
        except ModelError:
            return False
        return True


def hops_of(relationship: Relationship) -> list[Hop]:
    """The steps that a relationship answers by itself, active or not: both of a one-to-one pair."""
    many, one = Place(relationship.many.table), Place(relationship.one.table)
    if relationship.kind == "many_to_many":
        return [Hop(many, one, relationship, reach=True)]
    target = Place(one.table, relationship.one.columns) if relationship.level else one
    hops = [Hop(many, target, relationship)]
    return [*hops, Hop(one, many, relationship, turned=True)] if relationship.kind == "one_to_one" else hops


def joined_by(route: Route) -> list[ColumnKey]:
    """The columns that the hops of a route join by: those of levels, and both ends of relationships."""
    found: list[ColumnKey] = []
    for hop in route:
        found += [(place.table, name) for place in (hop.source, hop.target) for name in place.level]
        if hop.relationship is not None:
            for end in (hop.relationship.many, hop.relationship.one):
                found += [(end.table, name) for name in end.columns]
    return found


def _candidates(routes: Mapping[Place, Route], table: str) -> Iterator[tuple[Place, Route]]:
    # The table itself comes before its levels: a row that finds a date finds all of the calendar's columns.
    found = ((place, route) for place, route in routes.items() if place.table == table)
    yield from sorted(found, key=lambda item: item[0].level)


class _TwoRoutes(Exception):
    """Two routes that lead to the same place."""

    def __init__(self, first: Route, second: Route) -> None:
        super().__init__()
        self.first, self.second = first, second


def _search(start: Place, hops: Mapping[Place, list[Hop]], refuse_circles: bool) -> dict[Place, Route]:
    found: dict[Place, Route] = {start: ()}
    pending: list[Route] = [()]
    while pending:
        route = pending.pop(0)
        here = route[-1].target if route else start
        for hop in hops.get(here, ()):
            longer = (*route, hop)
            if hop.target == start or any(hop.target == passed.source for passed in route):
                # A filter never comes back to where it has been; a lookup that does would go on for ever.
                back = bool(route) and hop.relationship == route[-1].relationship
                if refuse_circles and not back:
                    raise ModelError(
                        f"Relationships form a circle: {' -> '.join(map(str, _places(longer)))}.",
                        fix="Remove one of them, or set standby = true.",
                    )
                continue
            if hop.target in found:
                raise _TwoRoutes(found[hop.target], longer)
            found[hop.target] = longer
            if not hop.stops:
                pending.append(longer)
    return found


def _places(route: Route) -> list[Place]:
    return [route[0].source, *(hop.target for hop in route)]


def _written(route: Route) -> str:
    """A route by the columns that it goes along."""
    return ", ".join(str(hop.relationship) for hop in route if hop.relationship is not None)
