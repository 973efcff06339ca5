"""What the engine works on: loaded columns, join indexes, and members kept at the grain of a fact table."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from relatum.data.columns import Array, Column, Members, members_of, narrow_codes
from relatum.data.table import TableData
from relatum.data.vectors import with_nulls_after
from relatum.engine.memory.frames import Links
from relatum.engine.memory.joins import JoinIndex, LevelRows, build_join_index, build_level, composed, matching_pairs
from relatum.model.declaration import End
from relatum.model.routes import Hop, Place, Route
from relatum.progress import tell_step

#: Codes kept at fact grain may take this much memory in all; past it they are looked up anew in each scan.
CACHE_BYTES = 2 << 30


@dataclass(frozen=True, slots=True, eq=False)
class RowCodes:
    """A code for each row of some table (a column's member, a lookup's row): at hand, or found through a join index."""

    codes: Array
    positions: Array | None

    def slice(self, start: int, stop: int, rows: Array | None) -> Array:
        """The codes of a stretch of rows, or of the given ones in it."""
        part = (self.codes if self.positions is None else self.positions)[start:stop]
        if rows is not None:
            part = part.take(rows)
        return part if self.positions is None else self.codes.take(part)


class JoinKeeper(Protocol):
    """Keeps join indexes by the columns that they were made of."""

    def join(self, key: str, rows: int, make: Callable[[], JoinIndex]) -> JoinIndex:
        """One made before from the same columns, or made now and kept."""
        ...


class Store:
    """Tables, and everything computed from them once.

    Parameters
    ----------
    tables : mapping of str to TableData
        Each table's own data; a role's is that of the table it is a role of.
    derive : callable
        Computes a derived column of a table; None where the table has no such derived column.
    date_columns : mapping of str to str, optional
        The column that holds the dates of each calendar.
    joins : JoinKeeper, optional
        Keeps join indexes from one run to the next.
    """

    def __init__(
        self,
        tables: Mapping[str, TableData],
        derive: Callable[[str, str], Column | None],
        date_columns: Mapping[str, str] | None = None,
        joins: JoinKeeper | None = None,
    ) -> None:
        self.tables = tables
        self._joins = joins
        self._date_columns = date_columns or {}
        self._derive = derive
        self._columns: dict[tuple[int, str], Column] = {}
        self._members: dict[tuple[int, str], Members] = {}
        self._indexes: dict[Hop, JoinIndex] = {}
        self._routes: dict[Route, JoinIndex] = {}
        self._levels: dict[Place, LevelRows] = {}
        self._row_codes: dict[tuple[Route, str, str], RowCodes] = {}
        self._determined: dict[tuple[Place, str], bool] = {}
        self._cached_bytes = 0
        self._links: dict[Hop, Links] = {}
        self._periods: dict[tuple[int, str], bool] = {}
        self._latest: dict[Route, int | None] = {}

    def rows(self, place: Place) -> int:
        """How many rows a table or level has."""
        return self.level(place).index.size if place.level else self.tables[place.table].rows

    def column(self, table: str, name: str) -> Column:
        """A column of a table, derived ones included."""
        # Roles share the data of one table, and so its derived columns and members: the data is the key.
        key = (id(self.tables[table]), name)
        if key not in self._columns:
            if name in self.tables[table].types:
                return self.tables[table].column(name)
            derived = self._derive(table, name)
            assert derived is not None, f"{table}.{name} was resolved and is not there"
            self._columns[key] = derived
        return self._columns[key]

    def column_at(self, place: Place, name: str) -> Column:
        """A column of a table, or of the distinct values of a level."""
        column = self.column(place.table, name)
        return column.take(self.level(place).first_rows) if place.level else column

    def extended(self, place: Place, name: str) -> Column:
        """A column with the virtual row of no match after its real ones."""
        return with_nulls_after(self.column_at(place, name), 1)

    def members(self, table: str, name: str) -> Members:
        """The members of a column."""
        key = (id(self.tables[table]), name)
        if key not in self._members:
            self._members[key] = members_of(self.column(table, name))
        return self._members[key]

    def level(self, place: Place) -> LevelRows:
        """The distinct values of a level."""
        if place not in self._levels:
            self._levels[place] = build_level([self.column(place.table, name) for name in place.level])
        return self._levels[place]

    def determines(self, place: Place, name: str) -> bool:
        """Whether every row of a level's member has the same value in another column of the table."""
        key = (place, name)
        if key not in self._determined:
            if name in place.level:
                self._determined[key] = True
            else:
                level = self.level(place)
                codes = np.append(self.members(place.table, name).codes.astype(np.int64), 0)
                expected = np.append(codes[level.first_rows], -1)[level.index.positions]
                matched = level.index.positions != level.index.size
                self._determined[key] = bool(np.all(codes[:-1][matched] == expected[matched]))
        return self._determined[key]

    def index(self, hop: Hop) -> JoinIndex:
        """The join index of one hop."""
        assert not hop.reach, "a hop that reaches many rows has links, not an index"
        if hop not in self._indexes:
            if hop.relationship is None:
                self._indexes[hop] = self.level(hop.target).index
            else:
                ends = (hop.relationship.many, hop.relationship.one)
                source, target = reversed(ends) if hop.turned else ends
                self._indexes[hop] = self._joined(hop, source, target)
        return self._indexes[hop]

    def _joined(self, hop: Hop, source: End, target: End) -> JoinIndex:
        relationship = hop.relationship
        assert relationship is not None

        def make() -> JoinIndex:
            tell_step(f"joining {relationship}")
            many = [self.column(hop.source.table, name) for name in source.columns]
            one = [self.column_at(hop.target, name) for name in target.columns]
            return build_join_index(relationship, many, one, turned=hop.turned)

        sides = [(self.tables[end.table], end.columns) for end in (source, target)]
        stored = all(table.identity and set(columns) <= set(table.types) for table, columns in sides)
        if self._joins is None or not stored:
            return make()
        names = [f"{table.identity} {columns}" for table, columns in sides]
        key = " ".join([*names, relationship.match, f"level={relationship.level}", f"turned={hop.turned}"])
        return self._joins.join(key, sides[0][0].rows, make)

    def links(self, hop: Hop) -> Links:
        """For each row of the hop's source the rows that it reaches; none for the virtual row."""
        if hop not in self._links:
            size = self.rows(hop.source) + 1
            relationship = hop.relationship
            assert relationship is not None
            if relationship.kind == "many_to_many":
                ends = (relationship.many, relationship.one)
                source, target = reversed(ends) if hop.turned else ends
                own = [self.column(hop.source.table, name) for name in source.columns]
                other = [self.column(hop.target.table, name) for name in target.columns]
                codes, targets = matching_pairs(relationship, own, other)
            else:
                index = self.index(Hop(hop.target, hop.source, relationship))
                targets = np.flatnonzero(index.positions != index.size)
                codes = index.positions[targets].astype(np.int64)
            self._links[hop] = Links.of(codes, targets, size)
        return self._links[hop]

    def positions(self, route: Route, codes: Array) -> Array:
        """The rows that rows find along a route; the virtual row finds the virtual one."""
        if not route:
            return codes
        index = self.route_index(route)
        return np.append(index.positions.astype(np.int64), index.size)[codes]

    def is_period(self, table: str, name: str) -> bool:
        """Whether a calendar's column follows from the month, or cuts the dates into unbroken runs."""
        key = (id(self.tables[table]), name)
        if key not in self._periods:
            days = self.column(table, self.date_column(table)).values.astype(np.int64)
            order = np.argsort(days)
            codes = self.members(table, name).codes[order].astype(np.int64)
            months = days[order].astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
            breaks = codes[1:] != codes[:-1]
            follows = not bool(np.any(breaks & (months[1:] == months[:-1])))
            runs = int(breaks.sum()) + 1 == len(np.unique(codes))
            self._periods[key] = follows or runs
        return self._periods[key]

    def latest(self, calendar: str, route: Route) -> int | None:
        """The last date, in days since 1970, that any row at the start of a route to a calendar finds."""
        if route not in self._latest:
            index = self.route_index(route)
            found = np.zeros(index.size + 1, np.bool_)
            found[index.positions] = True
            days = self.column(calendar, self.date_column(calendar)).values[found[:-1]]
            self._latest[route] = int(days.max()) if len(days) else None
        return self._latest[route]

    def date_column(self, table: str) -> str:
        """The column that holds a calendar's dates."""
        return self._date_columns[table]

    def route_index(self, route: Route) -> JoinIndex:
        """The join index along a route of at least one hop."""
        if route not in self._routes:
            index = self.index(route[0])
            for hop in route[1:]:
                index = composed(index, self.index(hop))
            self._routes[route] = index
        return self._routes[route]

    def row_codes(self, route: Route, table: str, name: str) -> RowCodes:
        """Member codes of ``table.name`` for the rows at the start of a route; kept while memory allows."""
        key = (route, table, name)
        if key in self._row_codes:
            return self._row_codes[key]
        members = self.members(table, name)
        if not route:
            return RowCodes(members.codes, None)
        place = route[-1].target
        codes = members.codes[self.level(place).first_rows] if place.level else members.codes
        codes = narrow_codes(np.append(codes, members.no_match), members.size)
        index = self.route_index(route)
        if self._cached_bytes + len(index.positions) * codes.itemsize > CACHE_BYTES:
            return RowCodes(codes, index.positions)
        result = RowCodes(codes.take(index.positions), None)
        self._cached_bytes += result.codes.nbytes
        self._row_codes[key] = result
        return result
