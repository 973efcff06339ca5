"""What an audit asks of tables on an engine, by small queries."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from sqlglot import exp

from relatum.data.arrow import column_from_arrow
from relatum.data.buffers import array_values
from relatum.data.columns import Array
from relatum.data.days import day_number
from relatum.data.types import DATE, TEXT, Kind
from relatum.engine.memory.facts import MemoryFacts
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.remote_store import RemoteStore
from relatum.engine.sql.rows import At, Rows
from relatum.engine.sql.terms import (
    Sql,
    aliased,
    all_of,
    any_of,
    call,
    case,
    cast,
    column,
    equal,
    is_null,
    is_there,
    less,
    negated,
    number,
    sql_type,
    text,
)
from relatum.engine.sql.windows import comparable
from relatum.model.declaration import Relationship
from relatum.model.routes import Hop, Route, hops_of
from relatum.plan.audit_facts import SAMPLES, Key, Lost, Partners, Summary


class RemoteFacts:
    """Facts about tables on an engine.

    Parameters
    ----------
    store : RemoteStore
        The tables.
    """

    def __init__(self, store: RemoteStore) -> None:
        self.store = store

    def repeated(self, table: str, names: tuple[str, ...]) -> tuple[int, int, list[Key]]:
        """How many keys are on several rows of a table, on how many, and some of them."""
        return self.store.repeated(table, names)

    def without(self, table: str, names: tuple[str, ...]) -> int:
        """How many rows of a table have no value in some of the columns."""
        parts = self.store.parts()
        rows, start = Rows.of(parts, table)
        missing = any_of(is_null(rows.column(start, name).sql) for name in names)
        return int(self.store.one(parts, rows.select(aliased(_counted(missing), "n")))["n"])

    def texts(self, table: str, name: str, most: int) -> tuple[Any, Array] | None:
        """The texts of a column in order, each with its rows."""
        if self.store.type_of(table, name) != TEXT:
            return None
        parts = self.store.parts()
        rows, start = Rows.of(parts, table)
        value = rows.column(start, name).sql
        rows.where.append(is_there(value.copy()))
        select = rows.select(aliased(value, "v"), aliased(exp.Count(this=exp.Star()), "n"), grouped=1)
        select.set("limit", exp.Limit(expression=number(most + 1)))
        found = self.store.ask(parts, select)
        if found.num_rows > most:
            return None
        texts = column_from_arrow(found.column("v"))
        counts = np.zeros(len(texts.dictionary), np.int64)
        counts[texts.values] = array_values(found.column("n").combine_chunks().cast(pa.int64()))
        return texts.dictionary, counts

    def under_several(self, route: Route, fine: tuple[str, str], coarse: tuple[str, str]) -> tuple[int, list[object]]:
        """How many members of a column are under several of another that they look up, and some of them."""
        parts = self.store.parts()
        rows, start = Rows.of(parts, fine[0])
        one, other = rows.column(start, fine[1]).sql, rows.column(rows.at(start, route), coarse[1]).sql
        rows.where += [is_there(one.copy()), is_there(other.copy())]
        pairs = parts.sheet.add("pairs", rows.select(aliased(one, "k"), aliased(other, "o"), distinct=True))
        groups = Rows(parts, "p", parts.sheet.table(pairs, "p"))
        select = groups.select(aliased(column("p", "k"), "k"), grouped=1)
        select.set("having", exp.Having(this=less(number(1), exp.Count(this=exp.Star()))))
        name = parts.sheet.add("several", select)
        outer = Rows(parts, "s", parts.sheet.table(name, "s"))
        whole = exp.Window(this=exp.Count(this=exp.Star()))
        final = outer.select(aliased(column("s", "k"), "k"), aliased(whole, "n"))
        ordered = comparable(parts.dialect, column("s", "k"), self.store.type_of(*fine))
        final.set("order", exp.Order(expressions=[exp.Ordered(this=ordered)]))
        final.set("limit", exp.Limit(expression=number(SAMPLES)))
        found = self.store.ask(parts, final)
        return (int(found.column("n")[0].as_py()) if found.num_rows else 0), found.column("k").to_pylist()

    def unused(self, hop: Hop) -> int:
        """How many rows at the end of a hop no row finds."""
        parts = self.store.parts()
        rows, start = Rows.of(parts, hop.source.table)
        there = rows.at(start, (hop,))
        if hop.target.level:
            values = [rows.column(there, name).sql for name in hop.target.level]
        else:
            values = [rows.row(there)]
        rows.where += [is_there(each.copy()) for each in values]
        named = [aliased(each, f"c{at}") for at, each in enumerate(values)]
        name = parts.sheet.add("found", rows.select(*named, distinct=True))
        outer = Rows(parts, "f", parts.sheet.table(name, "f"))
        found = self.store.one(parts, outer.select(aliased(exp.Count(this=exp.Star()), "n")))
        return self.store.rows(hop.target) - int(found["n"])

    def partners(self, hop: Hop) -> Partners:
        """How rows find others along a many-to-many relationship."""
        relationship = hop.relationship
        assert relationship is not None, "rows have partners along a relationship"
        parts = self.store.parts()
        inner, there = Rows.of(parts, hop.target.table)
        end = relationship.many if hop.turned else relationship.one
        keys = [inner.column(there, name).sql for name in end.columns]
        inner.where += [is_there(each.copy()) for each in keys]
        named = [aliased(each, f"j{at}") for at, each in enumerate(keys)]
        counts = inner.select(*named, aliased(exp.Count(this=exp.Star()), "n"), grouped=len(keys))
        name = parts.sheet.add("keys", counts)
        rows, start = Rows.of(parts, hop.source.table)
        own = relationship.one if hop.turned else relationship.many
        on = []
        for at, column_of in enumerate(own.columns):
            mine = rows.column(start, column_of)
            theirs = inner.column(there, end.columns[at])
            left, _ = rows.agreeing(mine, theirs) if not hop.turned else (mine.sql, theirs.sql)
            on.append(equal(left, column("keys", f"j{at}")))
        rows.join(parts.sheet.table(name, "keys"), on, left=True)
        partners = exp.Coalesce(this=column("keys", "n"), expressions=[number(0)])
        several, alone = less(number(1), partners.copy()), equal(partners.copy(), number(0))
        columns: dict[str, Sql] = {
            "pairs": exp.Sum(this=partners),
            "of": exp.Count(this=exp.Star()),
            "alone": _counted(alone),
            "several": _counted(several),
            "most": exp.Max(this=partners.copy()),
        }
        found = self.store.one(parts, rows.select(*(aliased(each, key) for key, each in columns.items())))
        alone_rows = int(found["alone"])
        return Partners(
            int(found["pairs"] or 0),
            int(found["of"]) - alone_rows,
            alone_rows,
            int(found["several"]),
            int(found["most"] or 0),
        )

    # -- rows that find nothing ---------------------------------------------------------------------------------------

    def _lost(self, relationship: Relationship) -> tuple[Parts, Rows, At, list[Sql], Sql]:
        """The FROM of a relationship's rows, the columns of their keys, and whether one has a key and finds nothing."""
        (hop, *_) = hops_of(relationship)
        parts = self.store.parts()
        parts.unsure.add(hop)
        rows, start = Rows.of(parts, relationship.many.table)
        missing = rows.missing(rows.at(start, (hop,)))
        assert missing is not None, "nothing is known of the hop yet"
        keys = [rows.column(start, name).sql for name in relationship.many.columns]
        return parts, rows, start, keys, all_of([missing, *(is_there(each.copy()) for each in keys)])

    def lost(self, relationship: Relationship) -> Lost:
        """The rows with a key that find nothing along a relationship."""
        parts, rows, start, keys, lost = self._lost(relationship)
        early = self._early(rows, start, relationship) if relationship.match == "as_of" else exp.false()
        late_lost = all_of([lost.copy(), negated(early.copy())])
        columns = {
            "rows": _counted(lost),
            "of": exp.Count(this=exp.Star()),
            "early": _counted(all_of([lost.copy(), early])),
            "alike": self._alike(rows, keys, relationship, late_lost),
        }
        columns.update(self._outside(keys[-1], relationship, late_lost))
        found = self.store.one(parts, rows.select(*(aliased(each, name) for name, each in columns.items())))
        days = tuple(
            (int(found.get(word) or 0), None if found.get(f"{word}_day") is None else day_number(found[f"{word}_day"]))
            for word in ("before", "after")
        )
        return Lost(
            rows=int(found["rows"]),
            of=int(found["of"]),
            samples=self._samples(relationship, False) if int(found["rows"]) > int(found["early"]) else (),
            early=int(found["early"]),
            early_samples=self._samples(relationship, True) if found["early"] else (),
            alike=int(found["alike"] or 0),
            days=(days[0], days[1]),
        )

    def _samples(self, relationship: Relationship, early: bool) -> tuple[Key, ...]:
        parts, rows, start, _, lost = self._lost(relationship)
        rows.where.append(lost)
        if relationship.match == "as_of":
            before = self._early(rows, start, relationship)
            rows.where.append(before if early else negated(before))
        return tuple(self._first(parts, rows, start, relationship, SAMPLES))

    def lost_keys(self, relationship: Relationship, most: int) -> list[Key]:
        """Distinct keys that find nothing along a relationship, at most ``most``."""
        parts, rows, start, _, lost = self._lost(relationship)
        rows.where.append(lost)
        return self._first(parts, rows, start, relationship, most)

    def _first(self, parts: Parts, rows: Rows, start: At, relationship: Relationship, most: int) -> list[Key]:
        """The first distinct keys of rows that find nothing, in order."""
        end = relationship.many
        named = [aliased(rows.column(start, name).sql, f"c{at}") for at, name in enumerate(end.columns)]
        relation = parts.sheet.add("lost", rows.select(*named, distinct=True))
        types = [self.store.type_of(end.table, name) for name in end.columns]
        return self.store.first_keys(parts, relation, types, most)

    def _early(self, rows: Rows, start: At, relationship: Relationship) -> Sql:
        """Whether the lookup has the row's key, if not at its date."""
        exact = list(zip(relationship.many.columns, relationship.one.columns, strict=True))[:-1]
        if not exact:
            return exp.false()
        inner, there = Rows.of(rows.parts, relationship.one.table)
        named = [aliased(inner.column(there, one).sql, f"j{at}") for at, (_, one) in enumerate(exact)]
        name = rows.parts.sheet.add("keys", inner.select(*named, distinct=True))
        alias = rows.parts.alias("known")
        on = []
        for at, (many, one) in enumerate(exact):
            left, _ = rows.agreeing(rows.column(start, many), inner.column(there, one))
            on.append(equal(left, column(alias, f"j{at}")))
        rows.join(rows.parts.sheet.table(name, alias), on, left=True)
        return is_there(column(alias, "j0"))

    def _alike(self, rows: Rows, keys: list[Sql], relationship: Relationship, lost: Sql) -> Sql:
        """How many rows would be found if case and blanks did not count."""
        ends = (relationship.many, relationship.one)
        if len(keys) > 1 or any(self.store.type_of(end.table, end.columns[0]).kind is not Kind.TEXT for end in ends):
            return number(0)
        inner, there = Rows.of(rows.parts, relationship.one.table)
        value = self._folded(inner.column(there, relationship.one.columns[0]).sql)
        name = rows.parts.sheet.add("texts", inner.select(aliased(value, "t"), distinct=True))
        alias = rows.parts.alias("alike")
        rows.join(
            rows.parts.sheet.table(name, alias), [equal(self._folded(keys[0].copy()), column(alias, "t"))], left=True
        )
        return _counted(all_of([lost.copy(), is_there(column(alias, "t"))]))

    def _folded(self, sql: Sql) -> Sql:
        """A text without what people do not see: case, blanks around it, blanks in a row."""
        dialect = self.store.warehouse.dialect
        return call("LOWER", dialect.stripped(dialect.single_blanks(sql)))

    def _outside(self, key: Sql, relationship: Relationship, lost: Sql) -> dict[str, Sql]:
        """How many lost rows lie before the first date of a calendar and after its last."""
        many, one = relationship.many, relationship.one
        kind = self.store.type_of(many.table, many.columns[-1]).kind
        if kind not in (Kind.DATE, Kind.TIMESTAMP) or self.store.type_of(one.table, one.columns[-1]) != DATE:
            return {}
        first, last = self._ends(one.table, one.columns[-1])
        if first is None or last is None:
            return {}
        day = cast(key.copy(), sql_type(DATE))
        edges = [cast(text(each.isoformat()), sql_type(DATE)) for each in (first, last)]
        before, after = less(day, edges[0]), less(edges[1], day.copy())
        found: dict[str, Sql] = {}
        kinds: tuple[type[exp.AggFunc], ...] = (exp.Min, exp.Max)
        for word, condition, kind_ in zip(("before", "after"), (before, after), kinds, strict=True):
            held = all_of([lost.copy(), condition])
            found[word] = _counted(held)
            found[f"{word}_day"] = kind_(this=case([(held.copy(), day.copy())]))  # type: ignore[assignment]
        return found

    def _ends(self, table: str, name: str) -> tuple[Any, Any]:
        parts = self.store.parts()
        rows, start = Rows.of(parts, table)
        value = rows.column(start, name).sql
        both = [aliased(exp.Min(this=value), "low"), aliased(exp.Max(this=value.copy()), "high")]
        found = self.store.one(parts, rows.select(*both))
        return found["low"], found["high"]

    def summary(self, table: str, name: str) -> Summary:
        """What there is to say of a column."""
        if self.store.here((table, name)):
            return MemoryFacts(self.store.local).summary(table, name)
        parts = self.store.parts()
        rows, start = Rows.of(parts, table)
        value = rows.column(start, name).sql
        columns = {
            "nulls": _counted(is_null(value)),
            "members": self.store.warehouse.dialect.distinct_count(value.copy()),
        }
        found = self.store.one(parts, rows.select(*(aliased(each, key) for key, each in columns.items())))
        kind = self.store.connection.kind
        return Summary(f"on {kind}", 0, int(found["nulls"]), int(found["members"]))


def _counted(condition: Sql) -> Sql:
    """How many rows fulfil a condition."""
    return exp.Count(this=case([(condition, number(1))]))
