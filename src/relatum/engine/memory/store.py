"""What the engine works on: loaded columns, join indexes, and members kept at the grain of a fact table."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from contextlib import suppress
from contextvars import copy_context
from functools import partial

import numpy as np
from msgspec import Struct

from relatum.data.columns import Array, Column, Members, members_of, narrow_codes
from relatum.data.groups import Links, marked
from relatum.data.joins import (
    JoinIndex,
    KeyLinks,
    LevelRows,
    build_join_index,
    build_level,
    composed,
    matching_keys,
)
from relatum.data.vectors import by_blocks, days_of, there, with_nulls_after
from relatum.engine.memory.bands import edge_number
from relatum.engine.store import Attribute, Store
from relatum.errors import ModelError, RelatumError
from relatum.language.expression import MemberOrder
from relatum.model.declaration import End
from relatum.model.names import ColumnKey, column_name
from relatum.model.routes import Hop, Place, Route, joined_by
from relatum.plan.reads import reads_of
from relatum.runtime.progress import report_step, unheard
from relatum.runtime.threads import pool
from relatum.wording import listed

#: Codes kept at fact grain may take this much memory in all; past it they are looked up again in each scan.
CACHE_BYTES = 2 << 30
#: Columns of fewer rows are not worth handing to another thread.
_LARGE_ROWS = 200_000


class RowCodes(Struct, frozen=True, eq=False):
    """A code for each row of some table (a column's member, a lookup's row): at hand, or found through a join index."""

    codes: Array
    positions: Array | None

    def slice(self, start: int, stop: int, rows: Array | None) -> Array:
        """The codes of a stretch of rows, or of the given ones in it."""
        part = (self.codes if self.positions is None else self.positions)[start:stop]
        if rows is not None:
            part = part.take(rows)
        return part if self.positions is None else self.codes.take(part)


class MemoryStore(Store):
    """Tables in memory: their columns, join indexes, and members kept at the grain of a fact table."""

    def rows(self, place: Place) -> int:
        """How many rows a table or level has."""
        return self.level(place).index.size if place.level else self.tables.data[place.table].rows

    def column(self, table: str, name: str) -> Column:
        """A column of a table, derived ones included."""
        data = self.tables.data[table]
        if name in data.types:
            return data.column(name)
        for key in self._needed(self.tables.rows_of[table], name):
            # In order, so that however long a chain is, none waits for another inside.
            derivation = self.derivations[key]
            self.work.keep(("column", *key), (self._stamps[key],), partial(self._work_out, self, derivation))
        result: Column = self.work.known(("column", self.tables.rows_of[table], name))  # type: ignore[assignment]
        return result

    def read_ahead(self, columns: Iterable[ColumnKey], texts: Collection[ColumnKey] = ()) -> None:
        """Read the columns of large files that hold each by itself, side by side; of some just the texts.

        One that cannot be read is left to whoever needs it, who may not.
        """
        wanted = {}
        for table, name in columns:
            data = self.tables.data[table]
            if data.by_column and name in data.types and name not in data.loaded() and data.rows >= _LARGE_ROWS:
                wanted[id(data), name] = data.texts if (table, name) in texts else data.column
        if len(wanted) > 1:
            report_step(f"reading {listed([name for _, name in wanted])}")
            reading = [pool().submit(copy_context().run, unheard, read, name) for (_, name), read in wanted.items()]
            for each in reading:
                with suppress(RelatumError):
                    each.result()

    def _needed(self, table: str, name: str) -> list[ColumnKey]:
        """A derived column and those that it reads and that are not computed yet, each after those it reads."""
        needed: dict[ColumnKey, None] = {}
        pending = [(table, name)]
        while pending:
            key = pending.pop()
            if key in needed or self.work.known(("column", *key)) is not None:
                continue
            if key not in self.derivations:
                raise ModelError(
                    f"The derived column {column_name(*key)} depends on itself: relationships and derived "
                    "columns refer to each other in a circle.",
                    fix="Relate the tables by source columns, or compute the column at the source.",
                )
            needed[key] = None
            reads = reads_of(self.derivations[key]).columns
            inner = [(self.tables.rows_of[owner], column) for owner, column in reads]
            pending += [each for each in inner if each in self.derivations]
        return [key for key in self.derivations if key in needed]

    def texts(self, table: str, name: str) -> Column | None:
        """The texts of a column as its source has them, in any order; None where its members are found as soon."""
        data = self.tables.data[table]
        return data.texts(name) if name in data.types else None

    def column_at(self, place: Place, name: str) -> Column:
        """A column of a table, or of the distinct values of a level."""
        column = self.column(place.table, name)
        return column.take(self.level(place).first_rows) if place.level else column

    def extended(self, place: Place, name: str) -> Column:
        """A column with the virtual row of no match after its real ones."""
        stamps = (self.stamp(place.table, name), *(self.stamp(place.table, each) for each in place.level))
        return self.work.keep_lately(
            ("extended", place, name), stamps, lambda: with_nulls_after(self.column_at(place, name), 1)
        )

    def members(self, table: str, name: str) -> Members:
        """The members of a column."""
        owner = self.tables.rows_of[table]
        key = ("members", owner, name)
        return self.work.keep(key, (self.stamp(owner, name),), lambda: members_of(self.column(owner, name)))

    def _order(self, owner: str, name: str, order: MemberOrder) -> Array:
        members = self.members(owner, name)
        size = len(members.values)
        rank = np.arange(members.size)
        if order.by:
            # A member that has several values in the other column goes by the first of them.
            inner = self.order(owner, order.by, order.inner or MemberOrder())
            least = np.full(members.size, len(inner), np.int64)
            np.minimum.at(least, members.codes, inner[self.members(owner, order.by).codes])
            keys = least[:size]
        elif order.listed:
            places = {text: place for place, text in enumerate(order.listed)}
            keys = np.array([places[text] for text in members.values.dictionary.to_pylist()], np.int64)
        elif order.banded:
            keys = np.array([edge_number(text) for text in members.values.dictionary.to_pylist()], np.float64)
        else:
            return rank
        rank[np.lexsort((np.arange(size), keys))] = np.arange(size)
        return rank

    def attribute(self, table: str, name: str, route: Route, other: str, other_name: str) -> Attribute:
        """For each member of a column the member of another one that its first row has or looks up."""
        members, found = self.members(table, name), self.members(other, other_name)

        def make() -> Attribute:
            codes = self.row_codes(route, other, other_name).slice(0, self.rows(Place(table)), None).astype(np.int64)
            own = members.codes.astype(np.int64)
            attribute = np.full(members.size, found.no_match, np.int64)
            attribute[own[::-1]] = codes[::-1]
            return Attribute(attribute, bool((attribute[own] == codes).all()))

        stamps = (self.stamp(table, name), self.stamp(other, other_name), *self.route_stamps(route))
        return self.work.keep(("attribute", table, name, route, other, other_name), stamps, make)

    def unique(self, table: str, name: str) -> bool:
        """Whether a column has another value on each row, and null on none."""
        return len(self.members(table, name).values) == self.rows(Place(table))

    def level(self, place: Place) -> LevelRows:
        """The distinct values of a level."""

        def make() -> LevelRows:
            return build_level([self.column(place.table, name) for name in place.level])

        return self.work.keep(("level", place), self._level_stamps(place), make)

    def determines(self, place: Place, name: str) -> bool:
        """Whether every row of a level's member has the same value in another column of the table."""
        if name in place.level:
            return True

        def make() -> bool:
            level = self.level(place)
            codes = np.append(self.members(place.table, name).codes.astype(np.int64), 0)
            expected = np.append(codes[level.first_rows], -1)[level.index.positions]
            matched = level.index.positions != level.index.size
            return bool(np.all(codes[:-1][matched] == expected[matched]))

        stamps = (*self._level_stamps(place), self.stamp(place.table, name))
        return self.work.keep(("determines", place, name), stamps, make)

    def index(self, hop: Hop) -> JoinIndex:
        """The join index of one hop."""
        assert not hop.reach, "a hop that reaches many rows has links, not an index"

        def make() -> JoinIndex:
            if hop.relationship is None:
                return self.level(hop.target).index
            ends = (hop.relationship.many, hop.relationship.one)
            source, target = reversed(ends) if hop.turned else ends
            return self._joined(hop, source, target)

        # What a relationship lets through does not depend on which rows match.
        related = hop.relationship
        key = (hop.source, hop.target, related and (related.many, related.one, related.match, related.kind), hop.turned)
        return self.work.keep(("index", key), self._hop_stamps(hop), make)

    def _joined(self, hop: Hop, source: End, target: End) -> JoinIndex:
        relationship = hop.relationship
        assert relationship is not None

        def make() -> JoinIndex:
            self.read_ahead(joined_by((hop,)))
            report_step(f"joining {relationship}")
            many = [self.column(hop.source.table, name) for name in source.columns]
            one = [self.column_at(hop.target, name) for name in target.columns]
            return build_join_index(relationship, many, one, turned=hop.turned)

        sides = [(self.tables.data[end.table], end.columns) for end in (source, target)]
        stored = all(table.identity and set(columns) <= set(table.types) for table, columns in sides)
        if self.joins is None or not stored:
            return make()
        names = [f"{table.identity} {columns}" for table, columns in sides]
        key = " ".join([*names, relationship.match, f"level={relationship.level}", f"turned={hop.turned}"])
        return self.joins.join(key, sides[0][0].rows, make)

    def verify(self, hop: Hop) -> None:
        """Check a relationship on the data: that its ends can match, and that its one side is unique."""
        if hop.reach:
            self.key_links(hop)
        else:
            self.index(hop)

    def key_links(self, hop: Hop) -> KeyLinks:
        """For each row of the hop's source the number of its key, and for each key the rows that it reaches.

        Many rows of both sides may have one key: rows are led to keys and keys to rows, never each row to each.
        """
        relationship = hop.relationship
        assert relationship is not None

        def make() -> KeyLinks:
            if relationship.kind == "many_to_many":
                ends = (relationship.many, relationship.one)
                source, target = reversed(ends) if hop.turned else ends
                own = [self.column(hop.source.table, name) for name in source.columns]
                other = [self.column(hop.target.table, name) for name in target.columns]
                return matching_keys(relationship, own, other)
            index = self.index(Hop(hop.target, hop.source, relationship))
            targets = np.flatnonzero(index.positions != index.size)
            keys = index.positions[targets].astype(np.int64)
            own_numbers = narrow_codes(np.arange(index.size), index.size + 1)
            return KeyLinks(own_numbers, index.size, Links.of(keys, targets, index.size + 1))

        return self.work.keep(("links", hop), self._hop_stamps(hop), make)

    def positions(self, route: Route, codes: Array) -> Array:
        """The rows that rows find along a route; the virtual row finds the virtual one."""
        if not route:
            return codes
        index = self.route_index(route)
        virtual = codes == len(index.positions)
        if not len(index.positions):
            return np.full(len(codes), index.size)
        return np.where(virtual, index.size, index.positions.take(np.where(virtual, 0, codes)).astype(np.int64))

    def latest(self, calendar: str, route: Route) -> int | None:
        """The last date, in days since 1970, that any row at the start of a route to a calendar finds."""

        def make() -> int | None:
            days = self.column(calendar, self.date_column(calendar)).values[self.found_rows(route)]
            return int(days.max()) if len(days) else None

        stamps = (*self.route_stamps(route), self.stamp(calendar, self.date_column(calendar)))
        return self.work.keep(("latest", route), stamps, make)

    def last_day(self, table: str, name: str) -> int | None:
        """The last day, counted from 1970, of a column of dates or timestamps; None where it has no value."""

        def make() -> int | None:
            column = self.column(table, name)
            days = days_of(column)[there(column)]
            return int(days.max()) if len(days) else None

        owner = self.tables.rows_of[table]
        return self.work.keep(("last day", owner, name), (self.stamp(owner, name),), make)

    def found_rows(self, route: Route) -> Array:
        """Which rows at the end of a route any row at its start finds."""
        index = self.route_index(route)
        return marked(index.positions, index.size + 1)[:-1]

    def route_index(self, route: Route) -> JoinIndex:
        """The join index along a route of at least one hop."""
        if len(route) == 1:
            return self.index(route[0])

        def make() -> JoinIndex:
            index = self.index(route[0])
            for hop in route[1:]:
                index = composed(index, self.index(hop))
            return index

        return self.work.keep(("route", route), self.route_stamps(route), make)

    def row_codes(self, route: Route, table: str, name: str) -> RowCodes:
        """Member codes of ``table.name`` for the rows at the start of a route; kept while memory allows."""
        members = self.members(table, name)
        if not route:
            return RowCodes(members.codes, None)
        key = ("codes", route, table, name)
        known = self.work.known(key)
        if isinstance(known, RowCodes):
            return known
        place = route[-1].target
        codes = members.codes[self.level(place).first_rows] if place.level else members.codes
        codes = narrow_codes(np.append(codes, members.no_match), members.size)
        index = self.route_index(route)
        if self._code_bytes() + len(index.positions) * codes.itemsize > CACHE_BYTES:
            return RowCodes(codes, index.positions)
        stamps = (*self.route_stamps(route), self.stamp(table, name))

        def make() -> RowCodes:
            rows = index.positions
            return RowCodes(by_blocks(len(rows), codes.dtype, lambda part: codes.take(rows[part])), None)

        return self.work.keep(key, stamps, make)

    def _code_bytes(self) -> int:
        """The bytes of codes kept at fact grain."""
        return sum(each.codes.nbytes for _, each in list(self.work.entries.values()) if isinstance(each, RowCodes))
