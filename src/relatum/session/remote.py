"""Facts about data that an engine holds: found out by small queries, kept as long as the data stays the same."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date
from typing import Any

import numpy as np
import pyarrow as pa
from sqlglot import exp

from relatum.data.arrow import column_from_arrow, column_to_arrow, type_of
from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column, Members, members_of
from relatum.data.days import day_number, day_of
from relatum.data.joins import JoinIndex
from relatum.data.keys import common_types, refuse_repeated
from relatum.data.table import TableData
from relatum.data.types import DATE, FLOAT, INTEGER, TEXT, Kind, Type
from relatum.engine.memory.store import Attribute, Store
from relatum.engine.sql.orders import Orders
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import Key, Rows, key_columns
from relatum.engine.sql.run import Worker, member_codes
from relatum.engine.sql.sheet import Sheet
from relatum.engine.sql.tables import StoredColumn, StoredTable
from relatum.engine.sql.terms import (
    Sql,
    aliased,
    all_of,
    bigint,
    cast,
    column,
    equal,
    is_there,
    negated,
    number,
    sql_type,
)
from relatum.engine.sql.terms import call as called
from relatum.engine.sql.terms import text as sql_text
from relatum.errors import LimitError, ModelError
from relatum.language.expression import MemberOrder
from relatum.limits import limit
from relatum.model.names import column_name, quoted
from relatum.model.routes import Hop, Place, Route
from relatum.plan.nodes import Calendar, Derivation, Field, Match, Plan
from relatum.session.warehouse import Warehouse
from relatum.sources.engines.base import Connection, Relation
from relatum.sources.remote import RemoteTable

#: Whole numbers of fewer digits fit a decimal that engines keep in 64 bits.
_DIGITS = 18


class RemoteStore(Store):
    """The tables of a model on an engine, derived columns as formulas, and facts found out once.

    A table that is not where the engine is, is sent there when it is first needed.
    """

    #: Where the data is; set when the store is made.
    warehouse: Warehouse

    @classmethod
    def on(cls, connection: Connection, *arguments: Any) -> RemoteStore:
        """A store over tables on an engine; the other arguments are those of a store."""
        store = cls(*arguments)
        store.warehouse = Warehouse(connection)
        return store

    @property
    def connection(self) -> Connection:
        """The connection to the engine."""
        return self.warehouse.connection

    # -- where tables are ---------------------------------------------------------------------------------------------

    def rows_of(self, table: str) -> str:
        """The table whose rows a table has."""
        return self.tables.rows_of.get(table, table)

    def key_of(self, table: str) -> tuple[str, ...]:
        """What a table states as its key."""
        return self.tables.keys.get(table, ())

    def names(self) -> frozenset[str]:
        """What tables are called here and on the engine."""
        there = {data.relation.shown for data in self.tables.data.values() if isinstance(data, RemoteTable)}
        return frozenset({*self.tables.data, *there})

    def derivation(self, table: str, name: str) -> Derivation | None:
        """A derived column."""
        return self.derivations.get((table, name))

    def derived_table(self, table: str) -> tuple[Plan, Mapping[str, Type]] | None:
        """The plan of a derived table, with the types of its columns."""
        data = self.tables.data[table]
        return (data.made_by, data.types) if isinstance(data.made_by, Plan) else None

    def stored(self, table: str) -> StoredTable:
        """The table that holds the rows of a table."""
        data = self.tables.data[table]
        key = ("stored", table, self.connection.opened)
        return self.work.keep(key, (data,), lambda: self._stored(table, data))

    def _stored(self, table: str, data: TableData) -> StoredTable:
        relation = data.relation if isinstance(data, RemoteTable) else self._sent(table, data)
        headings = data.headings if isinstance(data, RemoteTable) else {}
        columns = {
            name: self._column(table, name, headings.get(name, name), type_, relation, data)
            for name, type_ in data.types.items()
        }
        row = relation.row or self._by_key(table, columns)
        key = self._telling(table, data)
        if key:
            own = columns[key]
            return StoredTable(
                table,
                relation.source,
                columns,
                lambda alias: own.read(column(alias, own.name)),
                own.type,
                row if relation.row else lambda alias: own.read(column(alias, own.name)),
                key,
            )
        numbered = relation.row is not None and not relation.row_is_text
        return StoredTable(table, relation.source, columns, row, INTEGER if numbered else TEXT, row)

    def _telling(self, table: str, data: TableData) -> str:
        """The column that tells the rows of a table apart: its key, if that is one column and does so in the data."""
        keys = self.tables.keys.get(table, ())
        if len(keys) != 1 or keys[0] not in data.types or data.types[keys[0]].kind is Kind.FLOAT:
            return ""
        if not isinstance(data, RemoteTable):
            return keys[0] if super().unique(table, keys[0]) else ""
        relation, there = data.relation, data.headings.get(keys[0], keys[0])
        counted = [exp.Count(this=exp.Star()), exp.Count(this=exp.Distinct(expressions=[column("t", there)]))]
        select = exp.Select(expressions=[aliased(each, f"n{at}") for at, each in enumerate(counted)])
        select.set("from_", exp.From(this=relation.source("t")))
        found = self.one(self.parts(), select)
        return keys[0] if found["n0"] == found["n1"] else ""

    def _by_key(self, table: str, columns: Mapping[str, StoredColumn]) -> Callable[[str], Sql]:
        """Rows told apart by a table's key, as text."""

        def row(alias: str) -> Sql:
            keys = self.tables.keys.get(table, ())
            if not keys:
                raise ModelError(
                    f"The rows of {quoted(table)} are told apart by nothing: it is a view or query, and has no key.",
                    fix=f"State the key of {quoted(table)} in the model.",
                    place=("table", table),
                )
            parts: list[Sql] = []
            for name in keys:
                parts += [sql_text("\x1f"), cast(columns[name].read(column(alias, columns[name].name)), sql_type(TEXT))]
            return called("CONCAT", *parts[1:])

        return row

    def _sent(self, table: str, data: TableData) -> Relation:
        """A table that is sent to the engine."""
        limit_rows = limit("sent")
        if data.rows > limit_rows:
            raise LimitError(
                f"{quoted(table)} is not where the engine is, and has {data.rows:,} rows to send there; "
                f"the limit is {limit_rows:,} {'rows'}.",
                fix="Put the table where the engine is, or raise it: sent under [limits], --limit-sent.",
            )
        arrays = {name: _narrow(column_to_arrow(data.column(name)), data.column(name)) for name in data.types}
        rows = pa.table(arrays) if arrays else pa.table({"relatum_no_column": pa.nulls(data.rows, pa.int8())})
        return self.connection.send(table, rows)

    def _column(
        self, table: str, name: str, there: str, type_: Type, relation: Relation, data: TableData
    ) -> StoredColumn:
        arrow = relation.schema.field(there).type
        markers = data.markers.get(name, ()) if isinstance(data, RemoteTable) else ()

        def read(sql: Sql) -> Sql:
            value = self._as(sql, arrow, type_, data)
            if type_.kind is Kind.FLOAT and isinstance(data, RemoteTable) and not self._fact(table, name).finite:
                value = self.warehouse.dialect.finite(value)
            for marker in markers:
                value = exp.Nullif(this=value, expression=sql_text(marker))
            return value

        def nullable() -> bool:
            if not isinstance(data, RemoteTable):
                return data.column(name).nulls is not None
            return bool(markers) or self._fact(table, name).nulls

        wide = pa.types.is_integer(arrow) and arrow.bit_width == 64
        return StoredColumn(there, type_, read, wide, nullable)

    def _as(self, sql: Sql, arrow: Any, type_: Type, data: TableData) -> Sql:
        """A column of the engine as what the language reads it as."""
        found = type_of(arrow)
        if pa.types.is_timestamp(arrow) and arrow.tz is not None:
            zone = data.timezone if isinstance(data, RemoteTable) else "UTC"
            sql = self.warehouse.dialect.wall_clock(sql, zone)
        if (pa.types.is_floating(arrow) and arrow.bit_width < 64) or found != type_:
            sql = cast(sql, sql_type(type_))
        return sql

    # -- what is known here -------------------------------------------------------------------------------------------

    def here(self, *columns: tuple[str, str]) -> bool:
        """Whether columns are of tables that are read here, so that what is asked of them is known here, too."""
        return all(
            name in self.tables.data[table].types
            and self.tables.data[table].made_by is None
            and not isinstance(self.tables.data[table], RemoteTable)
            for table, name in columns
        )

    def _hop_here(self, hop: Hop) -> bool:
        """Whether both ends of a hop are read here."""
        columns = [(place.table, name) for place in (hop.source, hop.target) for name in place.level]
        if hop.relationship is not None:
            columns += [
                (end.table, name) for end in (hop.relationship.many, hop.relationship.one) for name in end.columns
            ]
        return self.here(*columns)

    def _route_here(self, route: Route) -> bool:
        return all(map(self._hop_here, route))

    # -- small queries ------------------------------------------------------------------------------------------------

    def parts(self) -> Parts:
        """What a query of our own is made of."""
        return Parts(Sheet(self.names()), self, self.warehouse.dialect, Worker())

    def ask(self, parts: Parts, select: Any) -> Any:
        """The answer to a query of our own."""
        return self.warehouse.ask(
            self.warehouse.dialect.render(parts.sheet.query(select, keep=self.warehouse.dialect.keeps))
        )

    def one(self, parts: Parts, select: Any) -> dict[str, Any]:
        """The one row of a query's answer."""
        record: dict[str, Any] = self.ask(parts, select).to_pylist()[0]
        return record

    def _fact(self, table: str, name: str) -> _Fact:
        """Whether a column has nulls, and whether floats in it are finite."""
        data = self.tables.data[table]

        def make() -> _Fact:
            stored = self.stored(table)
            own = stored.columns[name]
            there = column("t", own.name)
            columns = [aliased(exp.Sub(this=exp.Count(this=exp.Star()), expression=exp.Count(this=there)), "nulls")]
            if own.type.kind is Kind.FLOAT:
                finite = exp.Count(this=self.warehouse.dialect.finite(there.copy()))
                columns.append(aliased(exp.Sub(this=exp.Count(this=exp.Star()), expression=finite), "missing"))
            select = exp.Select(expressions=columns)
            select.set("from_", exp.From(this=stored.relation("t")))
            found = self.one(self.parts(), select)
            return _Fact(found["nulls"] > 0 or found.get("missing", 0) > 0, found.get("missing", 0) == found["nulls"])

        return self.work.keep(("fact", table, name), (data,), make)

    def rows(self, place: Place) -> int:
        """How many rows a table or level has."""
        data = self.tables.data[place.table]
        if not place.level and data.made_by is None:
            return data.rows
        if place.level and self.here(*((place.table, name) for name in place.level)):
            return super().rows(place)
        stamps = self._level_stamps(place) if place.level else (data,)

        def make() -> int:
            parts = self.parts()
            rows, start = Rows.of(parts, place.table)
            if not place.level:
                return int(self.one(parts, rows.select(aliased(exp.Count(this=exp.Star()), "n")))["n"])
            columns = [rows.column(start, name).sql for name in place.level]
            rows.where += [is_there(each.copy()) for each in columns]
            named = [aliased(each, f"c{at}") for at, each in enumerate(columns)]
            name = parts.sheet.add("level", rows.select(*named, distinct=True))
            outer = Rows(parts, "l", parts.sheet.table(name, "l"))
            return int(self.one(parts, outer.select(aliased(exp.Count(this=exp.Star()), "n")))["n"])

        return self.work.keep(("rows", place), stamps, make)

    def column(self, table: str, name: str) -> Column:
        """A column of a small table, fetched; refused where the table is large."""
        data = self.tables.data[table]
        if self.here((table, name)):
            return data.column(name)
        owner = self.rows_of(table)

        def make() -> Column:
            count = self.rows(Place(owner))
            if count > limit("sent"):
                raise LimitError(
                    f"{column_name(table, name)} has {count:,} values, which would have to be fetched; "
                    f"the limit is {limit('sent'):,} rows.",
                    fix="Raise it: sent under [limits], --limit-sent.",
                )
            parts = self.parts()
            rows, start = Rows.of(parts, owner)
            value = rows.column(start, name)
            order = exp.Ordered(this=parts.stored(owner).order(start.alias))
            select = rows.select(aliased(value.sql, "v"))
            select.set("order", exp.Order(expressions=[order]))
            array = self.ask(parts, select).column("v")
            return column_from_arrow(array, FLOAT if value.type.kind is Kind.NULL else value.type)

        return self.work.keep(("column", owner, name), (self.stamp(owner, name),), make)

    # -- members ------------------------------------------------------------------------------------------------------

    def _key(self, rows: Rows, start: Any, table: str, name: str) -> Key:
        return rows.key(start, Match(-1, (), (), table, name))

    def members(self, table: str, name: str) -> Members:
        """The members of a column; as many codes as there are members."""
        owner = self.rows_of(table)
        if self.here((owner, name)):
            return super().members(table, name)

        def make() -> Members:
            parts = self.parts()
            rows, start = Rows.of(parts, owner)
            value = rows.column(start, name)
            select = rows.select(aliased(value.sql, "v"), distinct=True)
            most = limit("members")
            select.set("limit", exp.Limit(expression=number(most + 1)))
            array = self.ask(parts, select).column("v")
            if len(array) > most:
                raise LimitError(
                    f"{column_name(owner, name)} has more than {most:,} members.",
                    fix="Take a coarser column, or raise it: members under [limits], --limit-members.",
                )
            return members_of(column_from_arrow(array, TEXT if value.type.kind is Kind.NULL else value.type))

        return self.work.keep(("members", owner, name), (self.stamp(owner, name),), make)

    def _order(self, owner: str, name: str, order: MemberOrder) -> Array:
        if self.here((owner, name), *([(owner, order.by)] if order.by else [])):
            return super()._order(owner, name, order)
        members = self.members(owner, name)
        rank = np.arange(members.size)
        if order == MemberOrder():
            return rank
        parts = self.parts()
        relation = Orders(parts).ordered_members(owner, name, order)
        rows = Rows(parts, "m", parts.sheet.table(relation, "m"))
        rows.where.append(equal(column("m", "ks"), number(0)))
        found = self.ask(parts, rows.select(*(aliased(column("m", each), each) for each in ("k", "place"))))
        codes = member_codes(found.column("k").combine_chunks(), members, Field(owner, name, members.values.type))
        rank[codes] = array_values(found.column("place").combine_chunks().cast(pa.int64()))
        return rank

    def attribute(self, table: str, name: str, route: Route, other: str, column_: str) -> Attribute:
        """For each member of a column the member of another one that its first row has or looks up."""
        if self.here((table, name), (other, column_)) and self._route_here(route):
            return super().attribute(table, name, route, other, column_)
        members, found = self.members(table, name), self.members(other, column_)

        def make() -> Attribute:
            parts = self.parts()
            rows, start = Rows.of(parts, table)
            own = self._key(rows, start, table, name)
            there = rows.key(rows.at(start, route), Match(-1, (), (), other, column_))
            state, other_state = own.state or number(0), there.state or number(0)
            keys, _ = key_columns(Key(own.value, state, own.type), "k")
            more, _ = key_columns(Key(there.value, other_state, there.type), "o")
            order = exp.Order(expressions=[exp.Ordered(this=parts.stored(table).order(start.alias))])
            partition = [own.value.copy(), state.copy()]
            first = exp.Window(this=called("ROW_NUMBER"), partition_by=partition, order=order)
            inner = parts.sheet.add("rows_in_order", rows.select(*keys, *more, aliased(first, "nth")))
            rows = Rows(parts, "r", parts.sheet.table(inner, "r"))
            smallest, largest = (parts.dialect.smallest(column("r", "o"), there.type, each) for each in (False, True))
            same = all_of(
                [equal(smallest, largest), equal(exp.Min(this=column("r", "os")), exp.Max(this=column("r", "os")))]
            )
            groups = rows.select(
                *(aliased(column("r", each), each) for each in ("k", "ks")), aliased(same, "same"), grouped=2
            )
            group_name = parts.sheet.add("groups", groups)
            firsts = Rows(parts, "f", parts.sheet.table(inner, "f"))
            on = [equal(column("f", each), column("g", each)) for each in ("k", "ks")]
            firsts.join(parts.sheet.table(group_name, "g"), on, left=False)
            firsts.where.append(equal(column("f", "nth"), number(1)))
            names = [aliased(column("f", each), each) for each in ("k", "ks", "o", "os")]
            answer = self.ask(parts, firsts.select(*names, aliased(column("g", "same"), "same")))
            codes = _codes(answer, "k", members, own.type)
            others = _codes(answer, "o", found, there.type)
            attribute = np.full(members.size, found.no_match, np.int64)
            attribute[codes] = others
            return Attribute(attribute, bool(array_values(answer.column("same").combine_chunks(), False).all()))

        stamps = (self.stamp(table, name), self.stamp(other, column_), *self.route_stamps(route))
        return self.work.keep(("attribute", table, name, route, other, column_), stamps, make)

    def unique(self, table: str, name: str) -> bool:
        """Whether a column has another value on each row, and null on none."""
        owner = self.rows_of(table)
        if self.here((owner, name)):
            return super().unique(table, name)

        def make() -> bool:
            parts = self.parts()
            rows, start = Rows.of(parts, owner)
            value = rows.column(start, name).sql
            counted = aliased(self.warehouse.dialect.distinct_count(value), "n")
            found = self.one(parts, rows.select(counted, aliased(exp.Count(this=exp.Star()), "rows")))
            return bool(found["n"] == found["rows"])

        return self.work.keep(("unique", owner, name), (self.stamp(owner, name),), make)

    def determines(self, place: Place, name: str) -> bool:
        """Whether every row of a level's member has the same value in another column of the table."""
        if name in place.level:
            return True
        if self.here((place.table, name), *((place.table, each) for each in place.level)):
            return super().determines(place, name)

        def make() -> bool:
            parts = self.parts()
            rows, start = Rows.of(parts, place.table)
            level = [aliased(rows.column(start, each).sql, f"c{at}") for at, each in enumerate(place.level)]
            rows.where += [is_there(rows.column(start, each).sql) for each in place.level]
            own = self._key(rows, start, place.table, name)
            more, _ = key_columns(Key(own.value, own.state or number(0), own.type), "k")
            inner = parts.sheet.add("members_of_level", rows.select(*level, *more, distinct=True))
            rows = Rows(parts, "m", parts.sheet.table(inner, "m"))
            keys = [aliased(column("m", f"c{at}"), f"c{at}") for at in range(len(level))]
            select = rows.select(*keys, aliased(exp.Count(this=exp.Star()), "n"), grouped=len(keys))
            select.set("having", exp.Having(this=exp.GT(this=exp.Count(this=exp.Star()), expression=number(1))))
            select.set("limit", exp.Limit(expression=number(1)))
            return bool(self.ask(parts, select).num_rows == 0)

        stamps = (*self._level_stamps(place), self.stamp(place.table, name))
        return self.work.keep(("determines", place, name), stamps, make)

    def is_period(self, table: str, name: str) -> bool:
        """Whether a calendar's column follows from the month, or cuts the dates into unbroken runs."""
        owner = self.rows_of(table)

        def make() -> bool:
            days = self.column(owner, self.date_column(owner)).values.astype(np.int64)
            order = np.argsort(days)
            codes = members_of(self.column(owner, name)).codes[order].astype(np.int64)
            months = days[order].astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
            breaks = codes[1:] != codes[:-1]
            follows = not bool(np.any(breaks & (months[1:] == months[:-1])))
            return follows or int(breaks.sum()) + 1 == len(np.unique(codes))

        stamps = (self.stamp(owner, self.date_column(owner)), self.stamp(owner, name))
        return self.work.keep(("period", owner, name), stamps, make)

    # -- relationships ------------------------------------------------------------------------------------------------

    def unmatched(self, hop: Hop) -> bool:
        """Whether some row finds nothing along a hop."""
        return self.index(hop).unmatched > 0

    def index(self, hop: Hop) -> JoinIndex:
        """How many rows find something along a hop; which they find, the engine knows."""
        assert not hop.reach, "a hop that reaches many rows has links, not an index"
        if self._hop_here(hop):
            return super().index(hop)

        def make() -> JoinIndex:
            size = self.rows(hop.target)
            parts = self.parts()
            rows, start = Rows.of(parts, hop.source.table)
            if hop.relationship is None:
                nulls = [is_there(rows.column(start, name).sql) for name in hop.target.level]
                rows.where.append(negated(exp.Paren(this=all_of(nulls))))
                found = self.one(parts, rows.select(aliased(exp.Count(this=exp.Star()), "n")))
                return JoinIndex(_NO_ROWS, size, int(found["n"]), 0)
            self._check_ends(hop)
            parts.unsure.add(hop)
            there = rows.at(start, (hop,))
            missing = rows.missing(there)
            assert missing is not None, "nothing is known of the hop yet"
            end = hop.relationship.one if hop.turned else hop.relationship.many
            known = all_of([is_there(rows.column(start, name).sql) for name in end.columns])
            rows.where.append(missing)
            keyed = exp.Sum(this=exp.Case(ifs=[exp.If(this=known, true=number(1))], default=number(0)))
            columns = [aliased(exp.Count(this=exp.Star()), "n"), aliased(bigint(keyed), "orphans")]
            found = self.one(parts, rows.select(*columns))
            orphans = int(found["orphans"] or 0)
            return JoinIndex(_NO_ROWS, size, int(found["n"]) - orphans, orphans)

        related = hop.relationship
        key = (hop.source, hop.target, related and (related.many, related.one, related.match, related.kind), hop.turned)
        return self.work.keep(("index", key), self._hop_stamps(hop), make)

    def verify(self, hop: Hop) -> None:
        """Check a relationship on the data: that its ends can match, and that its one side is unique."""
        if self._hop_here(hop):
            super().verify(hop)
        else:
            self._check_ends(hop)

    def _check_ends(self, hop: Hop) -> None:
        """Refuse a relationship whose ends never match, or whose one side is not unique."""
        relationship = hop.relationship
        assert relationship is not None, "a relationship has ends"
        types = [
            [self.type_of(end.table, name) for name in end.columns] for end in (relationship.many, relationship.one)
        ]
        common_types(relationship, *types)
        if hop.target.level or hop.reach:
            return
        end = relationship.many if hop.turned else relationship.one
        keys, rows, samples = self.repeated(end.table, end.columns)
        refuse_repeated(relationship, keys, rows, samples, hop.turned)

    def type_of(self, table: str, name: str) -> Type:
        """The type of a column, stored or derived."""
        return self.parts().column_type(table, name)

    def repeated(self, table: str, names: tuple[str, ...], most: int = 5) -> tuple[int, int, list[tuple[object, ...]]]:
        """How many keys stand on several rows of a table, on how many, and some of them."""

        def make() -> tuple[int, int, list[tuple[object, ...]]]:
            parts = self.parts()
            rows, start = Rows.of(parts, table)
            keys = [aliased(rows.column(start, name).sql, f"c{at}") for at, name in enumerate(names)]
            rows.where += [is_there(rows.column(start, name).sql) for name in names]
            groups = rows.select(*keys, aliased(exp.Count(this=exp.Star()), "n"), grouped=len(keys))
            groups.set("having", exp.Having(this=exp.GT(this=exp.Count(this=exp.Star()), expression=number(1))))
            name = parts.sheet.add("repeated", groups)
            outer = Rows(parts, "r", parts.sheet.table(name, "r"))
            counted = [aliased(exp.Count(this=exp.Star()), "keys"), aliased(exp.Sum(this=column("r", "n")), "rows")]
            found = self.one(parts, outer.select(*counted))
            if not found["keys"]:
                return 0, 0, []
            parts = self.parts()
            name = parts.sheet.add("repeated", groups.copy())
            outer = Rows(parts, "r", parts.sheet.table(name, "r"))
            own = [column("r", f"c{at}") for at in range(len(names))]
            select = outer.select(*(aliased(each, each.name) for each in own))
            select.set("order", exp.Order(expressions=[exp.Ordered(this=each.copy()) for each in own]))
            select.set("limit", exp.Limit(expression=number(most)))
            samples = [tuple(record.values()) for record in self.ask(parts, select).to_pylist()]
            return int(found["keys"]), int(found["rows"]), samples

        stamps = tuple(self.stamp(table, name) for name in names)
        return self.work.keep(("repeated", table, names), stamps, make)

    def last_date(self, calendar: Calendar, ends: tuple[tuple[str, Route], ...]) -> date | None:
        """The date that ends the data."""
        match calendar.through:
            case date() as through:
                return through
            case (table, name):
                return self._last(table, name)
            case None:
                found = [self.latest(calendar.table, route) for _, route in ends]
                day = max((each for each in found if each is not None), default=None)
                return None if day is None else day_of(day)

    def _last(self, table: str, name: str) -> date | None:
        if self.here((table, name)):
            known = self.column(table, name)
            return day_of(int(known.upper)) if known.null_count < len(known) else None

        def make() -> date | None:
            parts = self.parts()
            rows, start = Rows.of(parts, table)
            value = cast(rows.column(start, name).sql, sql_type(DATE))
            found: date | None = self.one(parts, rows.select(aliased(exp.Max(this=value), "d")))["d"]
            return found

        return self.work.keep(("last", table, name), (self.stamp(table, name),), make)

    def latest(self, calendar: str, route: Route) -> int | None:
        """The last date, in days since 1970, that any row at the start of a route to a calendar finds."""
        if self._route_here(route) and self.here((calendar, self.date_column(calendar))):
            return super().latest(calendar, route)

        def make() -> int | None:
            parts = self.parts()
            rows, start = Rows.of(parts, route[0].source.table)
            day = rows.column(rows.at(start, route), self.date_column(calendar)).sql
            found = self.one(parts, rows.select(aliased(exp.Max(this=day), "d")))["d"]
            return None if found is None else day_number(found)

        stamps = (*self.route_stamps(route), self.stamp(calendar, self.date_column(calendar)))
        return self.work.keep(("latest", route), stamps, make)


class _Fact:
    """What is known of a column: whether some row has no value, and whether floats that are there are finite."""

    def __init__(self, nulls: bool, finite: bool) -> None:
        self.nulls = nulls
        self.finite = finite


_NO_ROWS = np.zeros(0, np.int64)


def _codes(answer: Any, name: str, members: Members, type_: Type) -> Array:
    """The codes of members in a query's answer."""
    states = array_values(answer.column(f"{name}s").combine_chunks().cast(pa.int64()))
    codes = np.where(states == 1, members.null, members.no_match)
    real = states == 0
    taken = answer.column(name).combine_chunks().filter(pa.array(real))
    codes[real] = member_codes(taken, members, Field("", name, type_))
    return codes


def _narrow(array: Any, values: Column) -> Any:
    """A decimal in the fewest bits that engines have for it."""
    if values.type.kind is Kind.DECIMAL and max(abs(values.lower), abs(values.upper)) < 10**_DIGITS:
        return array.cast(pa.decimal128(_DIGITS, values.type.scale))
    return array
