"""Facts about data that an engine holds: found out by small queries, kept as long as the data stays the same."""

from __future__ import annotations

import functools
from collections.abc import Callable, Sequence
from datetime import date
from typing import Any, Concatenate, ParamSpec, TypeVar

import numpy as np
import pyarrow as pa
from sqlglot import exp

from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column, Members, members_of
from relatum.data.days import day_number, day_of
from relatum.data.joins import JoinIndex
from relatum.data.keys import common_types, refuse_repeated
from relatum.data.types import DATE, FLOAT, TEXT, Kind, Type
from relatum.engine.sql.decode import codes_of, fetched, member_codes
from relatum.engine.sql.orders import Orders
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.remote_tables import RemoteTables
from relatum.engine.sql.rows import Key, Rows, key_columns
from relatum.engine.sql.run import Worker
from relatum.engine.sql.sheet import Sheet
from relatum.engine.sql.terms import (
    aliased,
    all_of,
    bigint,
    cast,
    column,
    copied,
    equal,
    is_there,
    negated,
    number,
    sql_type,
)
from relatum.engine.sql.terms import call as called
from relatum.engine.sql.windows import comparable
from relatum.engine.store import Attribute
from relatum.errors import LimitError
from relatum.language.expression import MemberOrder
from relatum.model.names import ColumnKey, column_name
from relatum.model.routes import Hop, Place, Route, joined_by
from relatum.plan.nodes import Calendar, Match
from relatum.runtime.limits import limit

_NO_ROWS = np.zeros(0, np.int64)

Asked = ParamSpec("Asked")
Answer = TypeVar("Answer")


def unless_here(
    about: Callable[Concatenate[RemoteStore, Asked], list[ColumnKey]],
) -> Callable[[Callable[Concatenate[RemoteStore, Asked], Answer]], Callable[Concatenate[RemoteStore, Asked], Answer]]:
    """A question for the engine, unless all the columns that it is ``about`` are in memory: then memory answers it."""

    def dispatched(
        query: Callable[Concatenate[RemoteStore, Asked], Answer],
    ) -> Callable[Concatenate[RemoteStore, Asked], Answer]:
        @functools.wraps(query)
        def answered(store: RemoteStore, /, *arguments: Asked.args, **named: Asked.kwargs) -> Answer:
            columns = about(store, *arguments, **named)
            if columns and store.here(*columns):
                answer: Answer = getattr(store.local, query.__name__)(*arguments, **named)
                return answer
            return query(store, *arguments, **named)

        return answered

    return dispatched


class RemoteStore(RemoteTables):
    """Tables on an engine, with facts about them found out once."""

    # -- small queries ------------------------------------------------------------------------------------------------

    def parts(self) -> Parts:
        """What a query of our own is made of."""
        return Parts(Sheet(self.names()), self, self.warehouse.dialect.roomy, Worker())

    def ask(self, parts: Parts, select: Any) -> Any:
        """The answer to a query of our own."""
        return self.warehouse.ask(parts.sheet.statement(select, self.warehouse.dialect))

    def one(self, parts: Parts, select: Any) -> dict[str, Any]:
        """The one row of a query's answer."""
        record: dict[str, Any] = self.ask(parts, select).to_pylist()[0]
        return record

    @unless_here(lambda store, place: [(place.table, name) for name in place.level])
    def rows(self, place: Place) -> int:
        """How many rows a table or level has."""
        data = self.tables.data[place.table]
        if not place.level and data.made_by is None:
            return data.rows
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

    @unless_here(lambda store, table, name: [(table, name)])
    def column(self, table: str, name: str) -> Column:
        """A column of a small table, fetched; refused where the table is large."""
        owner = self.rows_of(table)

        def make() -> Column:
            count = self.rows(Place(owner))
            if count > limit("sent"):
                raise LimitError(
                    f"{column_name(table, name)} has {count:,} values, which would have to be fetched; "
                    f"the limit is {limit('sent'):,} rows.",
                    fix="Raise the limit: sent under [limits], --limit-sent.",
                )
            parts = self.parts()
            rows, start = Rows.of(parts, owner)
            value = rows.column(start, name)
            order = exp.Ordered(this=parts.stored(owner).order(start.alias))
            select = rows.select(aliased(value.sql, "v"))
            select.set("order", exp.Order(expressions=[order]))
            array = self.ask(parts, select).column("v")
            return fetched(array, FLOAT if value.type.kind is Kind.NULL else value.type)

        return self.work.keep(("column", owner, name), (self.stamp(owner, name),), make)

    # -- members ------------------------------------------------------------------------------------------------------

    def _key(self, rows: Rows, start: Any, table: str, name: str) -> Key:
        return rows.key(start, Match(-1, (), (), table, name))

    @unless_here(lambda store, table, name: [(store.rows_of(table), name)])
    def members(self, table: str, name: str) -> Members:
        """The members of a column; as many codes as there are members."""
        owner = self.rows_of(table)

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
                    fix="Use a coarser column, or raise the limit: members under [limits], --limit-members.",
                )
            return members_of(fetched(array, TEXT if value.type.kind is Kind.NULL else value.type))

        return self.work.keep(("members", owner, name), (self.stamp(owner, name),), make)

    @unless_here(lambda store, owner, name, order: [(owner, each) for each in (name, order.by) if each])
    def _order(self, owner: str, name: str, order: MemberOrder) -> Array:
        members = self.members(owner, name)
        rank = np.arange(members.size)
        if order == MemberOrder():
            return rank
        parts = self.parts()
        relation = Orders(parts).ordered_members(owner, name, order)
        rows = Rows(parts, "m", parts.sheet.table(relation, "m"))
        rows.where.append(equal(column("m", "ks"), number(0)))
        found = self.ask(parts, rows.select(*(aliased(column("m", each), each) for each in ("k", "place"))))
        codes = member_codes(found.column("k").combine_chunks(), members, members.values.type)
        rank[codes] = array_values(found.column("place").combine_chunks().cast(pa.int64()))
        return rank

    @unless_here(
        lambda store, table, name, route, other, other_name: [(table, name), (other, other_name), *joined_by(route)]
    )
    def attribute(self, table: str, name: str, route: Route, other: str, other_name: str) -> Attribute:
        """For each member of a column the member of another one that its first row has or looks up."""
        members, found = self.members(table, name), self.members(other, other_name)

        def make() -> Attribute:
            parts = self.parts()
            rows, start = Rows.of(parts, table)
            own = self._key(rows, start, table, name)
            there = rows.key(rows.at(start, route), Match(-1, (), (), other, other_name))
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
            codes = codes_of(answer.column("k"), answer.column("ks"), members, own.type)
            others = codes_of(answer.column("o"), answer.column("os"), found, there.type)
            attribute = np.full(members.size, found.no_match, np.int64)
            attribute[codes] = others
            return Attribute(attribute, bool(array_values(answer.column("same").combine_chunks(), False).all()))

        stamps = (self.stamp(table, name), self.stamp(other, other_name), *self.route_stamps(route))
        return self.work.keep(("attribute", table, name, route, other, other_name), stamps, make)

    @unless_here(lambda store, table, name: [(store.rows_of(table), name)])
    def unique(self, table: str, name: str) -> bool:
        """Whether a column has another value on each row, and null on none."""
        owner = self.rows_of(table)

        def make() -> bool:
            parts = self.parts()
            rows, start = Rows.of(parts, owner)
            value = rows.column(start, name).sql
            counted = aliased(self.warehouse.dialect.distinct_count(value), "n")
            found = self.one(parts, rows.select(counted, aliased(exp.Count(this=exp.Star()), "rows")))
            return bool(found["n"] == found["rows"])

        return self.work.keep(("unique", owner, name), (self.stamp(owner, name),), make)

    @unless_here(lambda store, place, name: [(place.table, each) for each in (name, *place.level)])
    def determines(self, place: Place, name: str) -> bool:
        """Whether every row of a level's member has the same value in another column of the table."""
        if name in place.level:
            return True

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

    # -- relationships ------------------------------------------------------------------------------------------------

    def unmatched(self, hop: Hop) -> bool:
        """Whether some row finds nothing along a hop."""
        return self.index(hop).unmatched > 0

    @unless_here(lambda store, hop: joined_by((hop,)))
    def index(self, hop: Hop) -> JoinIndex:
        """How many rows find something along a hop; which they find, the engine knows."""
        assert not hop.reach, "a hop that reaches many rows has links, not an index"

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

    @unless_here(lambda store, hop: joined_by((hop,)))
    def verify(self, hop: Hop) -> None:
        """Check a relationship on the data: that its ends can match, and that its one side is unique."""
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
        """How many keys are on several rows of a table, on how many, and some of them."""

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
            types = [self.type_of(table, name) for name in names]
            samples = self.first_keys(parts, parts.sheet.add("repeated", groups.copy()), types, most)
            return int(found["keys"]), int(found["rows"]), samples

        stamps = tuple(self.stamp(table, name) for name in names)
        return self.work.keep(("repeated", table, names), stamps, make)

    def first_keys(self, parts: Parts, relation: str, types: Sequence[Type], most: int) -> list[tuple[object, ...]]:
        """The first keys, in order, of a part of a query that has them as ``c0``, ``c1`` and so on."""
        rows = Rows(parts, "f", parts.sheet.table(relation, "f"))
        select = rows.select(*copied("f", [f"c{at}" for at in range(len(types))]))
        order = [comparable(parts.dialect, column("f", f"c{at}"), type_) for at, type_ in enumerate(types)]
        select.set("order", exp.Order(expressions=[exp.Ordered(this=each) for each in order]))
        select.set("limit", exp.Limit(expression=number(most)))
        return [tuple(record.values()) for record in self.ask(parts, select).to_pylist()]

    def calendar_days(self, calendar: Calendar) -> Array:
        """The dates of a calendar, in days since 1970, in order."""
        members = self.members(calendar.table, calendar.date_column)
        return members.values.values.astype(np.int64)

    def last_date(self, calendar: Calendar, ends: tuple[tuple[str, Route], ...]) -> date | None:
        """The date that ends the data."""
        match calendar.through:
            case date() as through:
                return through
            case (table, name):
                day = self.last_day(table, name)
            case None:
                found = [self.latest(calendar.table, route) for _, route in ends]
                day = max((each for each in found if each is not None), default=None)
        return None if day is None else day_of(day)

    @unless_here(lambda store, table, name: [(table, name)])
    def last_day(self, table: str, name: str) -> int | None:
        """The last day, counted from 1970, of a column of dates or timestamps; None where it has no value."""

        def make() -> int | None:
            parts = self.parts()
            rows, start = Rows.of(parts, table)
            value = cast(rows.column(start, name).sql, sql_type(DATE))
            found = self.one(parts, rows.select(aliased(exp.Max(this=value), "d")))["d"]
            return None if found is None else day_number(found)

        return self.work.keep(("last day", table, name), (self.stamp(table, name),), make)

    @unless_here(lambda store, calendar, route: [(calendar, store.date_column(calendar)), *joined_by(route)])
    def latest(self, calendar: str, route: Route) -> int | None:
        """The last date, in days since 1970, that any row at the start of a route to a calendar finds."""

        def make() -> int | None:
            parts = self.parts()
            rows, start = Rows.of(parts, route[0].source.table)
            day = rows.column(rows.at(start, route), self.date_column(calendar)).sql
            found = self.one(parts, rows.select(aliased(exp.Max(this=day), "d")))["d"]
            return None if found is None else day_number(found)

        stamps = (*self.route_stamps(route), self.stamp(calendar, self.date_column(calendar)))
        return self.work.keep(("latest", route), stamps, make)
