"""What an engine shows of one cell: the rows, members and dates behind it, by queries about that cell."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
from sqlglot import exp

from relatum.data import compute as pc
from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column
from relatum.data.types import TEXT
from relatum.engine.sql.cells import Reading, typed
from relatum.engine.sql.decode import codes_of, held
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rankings import cells_of
from relatum.engine.sql.rows import Key, Rows, same_key
from relatum.engine.sql.seen import Seen
from relatum.engine.sql.sheet import Frame, KeyColumn, Sheet
from relatum.engine.sql.shown import Shown
from relatum.engine.sql.tables import Known
from relatum.engine.sql.terms import (
    Sql,
    Value,
    aliased,
    bigint,
    blank,
    case,
    column,
    constant,
    double,
    equal,
    is_there,
    minus,
    number,
    text,
    times,
)
from relatum.engine.sql.windows import call_window
from relatum.errors import RequestError
from relatum.language.expression import Expression, columns_in
from relatum.model.names import column_name
from relatum.model.routes import Place, Route
from relatum.plan.engine import NamedMembers, RowsFound
from relatum.plan.nodes import Aggregation, DateSet, Formula, Hidden, Kept, Match, Plan, Visible
from relatum.runtime.limits import limit

#: How many rows are named in a query one by one; more are sent.
_NAMED = 1000


class Asking(Protocol):
    """Where evidence is asked for."""

    tables: Known

    def parts(self) -> Parts:
        """What a query is made of."""
        ...

    def asked(self, sheet: Sheet, select: exp.Select | exp.Union) -> Any:
        """The answer to a query."""
        ...

    def send(self, rows: Any) -> Callable[[str], Sql]:
        """Rows sent to the database, to be read from under an alias."""
        ...


class SqlEvidence:
    """Looks into one cell of a plan.

    Parameters
    ----------
    engine : Asking
        Answers queries.
    plan : Plan
        The request's plan.
    cell : mapping of int to int
        The code of a member for each key of the cell.
    """

    def __init__(self, engine: Asking, plan: Plan, cell: Mapping[int, int]) -> None:
        self.engine = engine
        self.plan = plan
        self.cell = dict(cell)
        others = {top.others for top in plan.tops} & set(cell)
        if others:
            parts, frame = self._begun()
            reading = Reading(cells_of(parts, plan.fields), frame)
            if not self._asked(parts, reading.rows.select(aliased(number(1), "one"))).num_rows:
                raise RequestError("There are no others here: all members are shown.")

    # -- the cell -----------------------------------------------------------------------------------------------------

    def _begun(self) -> tuple[Parts, Frame]:
        """A fresh query, with the cell as a relation of one row."""
        parts = self.engine.parts()
        self.cells = cells_of(parts, self.plan.fields)
        others = [top for top in self.plan.tops if top.others in self.cell]
        if others:
            shown = Shown(self.plan, self.cells)
            shown.grains()
        columns: list[Sql] = []
        keys: dict[int, KeyColumn] = {}
        for key, code in self.cell.items():
            if any(top.others == key for top in others):
                continue
            value, state = self._member(key, code)
            columns += [aliased(value, f"k{key}"), aliased(number(state), f"k{key}s")]
            keys[key] = KeyColumn(f"k{key}", f"k{key}s")
        select = exp.Select(expressions=columns or [aliased(number(1), "one")])
        frame = Frame(parts.sheet.add("cell", select), keys)
        for top in others:
            frame = self._with_others(parts, frame, top.outer, top.others or 0)
        return parts, frame

    def _with_others(self, parts: Parts, frame: Frame, outer: Sequence[int], key: int) -> Frame:
        """The cell with the set of hidden members that its outer members say."""
        held = self.cells.hidden[key]
        rows = Rows(parts, "h", parts.sheet.table(held.name, "h"))
        inner = [aliased(column("h", each), each) for one in outer for each in (f"k{one}", f"k{one}s")]
        name = parts.sheet.add("set_there", rows.select(*inner, aliased(column("h", "hidden_set"), "s"), distinct=True))
        reading = Reading(self.cells, frame)
        on = []
        for one in outer:
            mine = reading.key(one)
            on += same_key(Key(column("h", f"k{one}"), column("h", f"k{one}s"), mine.type), mine)
        reading.rows.join(parts.sheet.table(name, "h"), on, left=False)
        select = reading.rows.select(*reading.columns(), aliased(column("h", "s"), f"k{key}"))
        return Frame(parts.sheet.add("cell", select), {**frame.keys, key: KeyColumn(f"k{key}", None)})

    def _member(self, key: int, code: int) -> tuple[Sql, int]:
        """A member of a key as SQL, and its state."""
        type_ = self.cells.key_type(key)
        field = self.plan.fields[key]
        members = self.engine.tables.members(field.table, field.column)
        if code >= members.null:
            return blank(type_), 1 if code == members.null else 2
        inner = members.values.values[code].item()
        known = members.values.dictionary
        return constant(known[inner].as_py() if known is not None else inner, type_), 0

    def _asked(self, parts: Parts, select: Any) -> Any:
        return self.engine.asked(parts.sheet, select)

    def value(self, formula: Formula) -> Column:
        """A formula's value in the cell: one row."""
        parts, frame = self._begun()
        reading = Reading(self.cells, frame)
        value = typed(reading.value(formula))
        found = self._asked(parts, reading.rows.select(aliased(value.sql, "v")))
        return held(found.column("v"), formula.expression.type)

    # -- rows ---------------------------------------------------------------------------------------------------------

    def _seen(self, node: Aggregation) -> tuple[Parts, Seen]:
        """The rows of an aggregate that the cell sees, as a FROM."""
        parts, frame = self._begun()
        own = Match(_ROW, (), (), node.bounds.source, "")
        groups, (kept,) = self.cells.part_members(node.bounds, [own], frame, noted=False)
        reading = Reading(self.cells, frame)
        alias = reading.join(groups.name, groups.entries, left=False)
        name = parts.sheet.add("rows_seen", reading.rows.select(aliased(column(alias, kept.value), "r"), distinct=True))
        rows, start = Rows.of(parts, node.bounds.source)
        rows.join(parts.sheet.table(name, "seen"), [equal(rows.row(start), column("seen", "r"))], left=False)
        return parts, Seen(rows, start)

    def rows(self, node: Aggregation, most: int | None) -> RowsFound:
        """The rows that an aggregation is over: how many, and the first of them as they are listed."""
        parts, seen = self._seen(node)
        counted = self._asked(parts, seen.rows.select(aliased(exp.Count(this=exp.Star()), "n")))
        parts, seen = self._seen(node)
        rows = seen.rows
        stored = parts.stored(node.bounds.source)
        columns = [aliased(rows.row(seen.start), "r")]
        order: list[Sql] = [exp.Ordered(this=stored.order(seen.start.alias))]
        if node.function in ("median", "percentile"):
            order = [exp.Ordered(this=self._from_middle(node, rows, seen, order))]
        select = rows.select(*columns)
        select.set("order", exp.Order(expressions=order))
        wanted = limit("sent") if most is None else most
        select.set("limit", exp.Limit(expression=number(wanted)))
        found = self._asked(parts, select).column("r")
        return RowsFound(int(counted.column("n")[0].as_py()), _row_numbers(found))

    def _from_middle(self, node: Aggregation, rows: Rows, seen: Seen, order: Sequence[Sql]) -> Sql:
        """How far a row's value is from the middle, in places."""
        value = rows.value(node.arguments[0], rows.reader(seen.start)).sql
        by = [exp.Ordered(this=value, nulls_first=False), *(each.copy() for each in order)]
        place = exp.Window(this=call_window("ROW_NUMBER"), order=exp.Order(expressions=by))
        known = exp.Window(this=exp.Count(this=value.copy()))
        part = 0.5 if node.function == "median" else node.fraction
        middle = times(double(minus(known, number(1))), double(exp.Literal.number(repr(part))))
        return exp.Abs(this=minus(minus(double(place), number(1)), middle))

    def distinct(self, node: Aggregation, most: int | None) -> tuple[Column, Array, int]:
        """The distinct values of an aggregate's argument in order, with the rows of each, and how many there are."""
        parts, seen = self._seen(node)
        rows = seen.rows
        argument = node.arguments[0]
        value = rows.value(argument, rows.reader(seen.start)).sql
        rows.where.append(is_there(value.copy()))
        groups = rows.select(aliased(value, "v"), aliased(exp.Count(this=exp.Star()), "n"), grouped=1)
        name = parts.sheet.add("values", groups)
        outer = Rows(parts, "g", parts.sheet.table(name, "g"))
        whole = exp.Window(this=exp.Count(this=exp.Star()))
        columns = [aliased(column("g", each), each) for each in ("v", "n")]
        select = outer.select(*columns, aliased(whole, "of"))
        ordered = column("g", "v")
        if argument.type == TEXT:
            ordered = parts.dialect.by_code_point(ordered)
        select.set("order", exp.Order(expressions=[exp.Ordered(this=ordered)]))
        select.set("limit", exp.Limit(expression=number(limit("sent") if most is None else most)))
        found = self._asked(parts, select)
        counts = array_values(found.column("n").combine_chunks().cast(pa.int64()))
        total = int(found.column("of")[0].as_py()) if found.num_rows else 0
        return held(found.column("v"), argument.type), counts, total

    def lost(self, node: Aggregation) -> list[tuple[str, int]]:
        """The tables of lookups that found nothing on some of an aggregate's rows, with how many."""
        routes = {value.route for argument in node.arguments for value in columns_in(argument) if value.route}
        wanted = sorted(routes, key=str)
        if not wanted:
            return []
        parts, seen = self._seen(node)
        counts = []
        for at, route in enumerate(wanted):
            missing = seen.rows.missing(seen.rows.at(seen.start, route)) or exp.false()
            counts.append(aliased(exp.Count(this=case([(missing, number(1))])), f"n{at}"))
        record = self._asked(parts, seen.rows.select(*counts)).to_pylist()[0]
        return [(route[-1].target.table, int(record[f"n{at}"])) for at, route in enumerate(wanted) if record[f"n{at}"]]

    def columns(self, table: str, expressions: Sequence[Expression], rows: Array) -> list[Column]:
        """Row expressions of a table on some of its rows."""
        parts = self.engine.parts()
        source, start = Rows.of(parts, table)
        leaf = source.reader(start)
        values = [typed(source.value(each, leaf)) for each in expressions]
        found = self._on_rows(parts, source, source.row(start), rows, [value.sql for value in values])
        return [held(found.column(f"c{at}"), each.type) for at, each in enumerate(expressions)]

    def codes(self, table: str, route: Route, column_: tuple[str, str], rows: Array) -> Array:
        """The codes of a column's members that rows have, or look up along a route."""
        parts = self.engine.parts()
        source, start = Rows.of(parts, table)
        key = source.key(source.at(start, route), Match(-1, (), (), *column_))
        state = key.state or number(0)
        found = self._on_rows(parts, source, source.row(start), rows, [key.value, state])
        return codes_of(found.column("c0"), found.column("c1"), self.engine.tables.members(*column_), key.type)

    def _on_rows(self, parts: Parts, source: Rows, row: Sql, rows: Array, values: Sequence[Sql]) -> Any:
        """Values on some rows of a table, in their order."""
        columns = [aliased(row, "r"), *(aliased(value, f"c{at}") for at, value in enumerate(values))]
        listed = rows.tolist()
        if len(listed) <= _NAMED:
            named = [text(each) if isinstance(each, str) else number(each) for each in listed] or [exp.Null()]
            source.where.append(exp.In(this=row.copy(), expressions=named))
        else:
            sent = self.engine.send(pa.table({"r": pa.array(listed)}))
            source.join(sent("chosen"), [equal(row.copy(), column("chosen", "r"))], left=False)
        found = self._asked(parts, source.select(*columns))
        return found.take(pc.index_in(pa.array(listed, found.schema.field("r").type), value_set=found.column("r")))

    # -- members ------------------------------------------------------------------------------------------------------

    def members(self, visible: Visible, formulas: Sequence[Formula], most: int | None, drops: bool) -> NamedMembers:
        """The members that the cell sees, and formulas at each of them."""
        parts, frame = self._begun()
        inner = self.cells.members(visible, frame)
        reading = Reading(self.cells, inner)
        values = [typed(reading.value(formula)) for formula in formulas]
        new = [match for _, matches in visible.parts for match in matches]
        heads: list[tuple[str, Value]] = []
        order: list[Sql] = []
        for match in new:
            heads += self._named(reading, match)
            own = reading.key(match.key)
            ordered = parts.dialect.by_code_point(own.value) if own.type == TEXT else own.value
            order += [] if own.state is None else [exp.Ordered(this=own.state)]
            order.append(exp.Ordered(this=ordered))
        if drops:
            reading.rows.where.append(is_there(values[0].sql.copy()))
        columns = [aliased(value.sql, f"h{at}") for at, (_, value) in enumerate(heads)]
        columns += [aliased(value.sql, f"v{at}") for at, value in enumerate(values)]
        columns.append(aliased(exp.Window(this=exp.Count(this=exp.Star())), "of"))
        select = reading.rows.select(*columns)
        select.set("order", exp.Order(expressions=order))
        select.set("limit", exp.Limit(expression=number(limit("sent") if most is None else most)))
        found = self._asked(parts, select)
        count = int(found.column("of")[0].as_py()) if found.num_rows else 0
        named = [(name, held(found.column(f"h{at}"), value.type)) for at, (name, value) in enumerate(heads)]
        worth = [held(found.column(f"v{at}"), each.expression.type) for at, each in enumerate(formulas)]
        return NamedMembers(count, named, worth)

    def _named(self, reading: Reading, match: Match) -> list[tuple[str, Value]]:
        """What tells a member: its value, or the key of its row."""
        own = reading.key(match.key)
        if match.column:
            value = own.value if own.state is None else case([(equal(own.state, number(0)), own.value)])
            return [(column_name(match.table, match.column), Value(value, own.type))]
        row = reading.rows.frame_row(reading.frame, match.key, match.table)
        field = self.plan.fields[match.key]
        stored = reading.cells.parts.stored(match.table)
        names = [name for name, _ in field.key] or list(stored.columns)[:1]
        return [(column_name(match.table, name), reading.rows.column(row, name)) for name in names]

    def dates(self, dates: DateSet) -> Array:
        """The dates of a set, in days since 1970, in order."""
        parts, frame = self._begun()
        held = self.cells.seer(frame).set_of(dates, Place(dates.calendar.table))
        reading = Reading(self.cells, frame)
        alias = reading.join(held.name, held.entries, left=False)
        select = reading.rows.select(aliased(bigint(column(alias, "n")), "n"), distinct=True)
        found = self._asked(parts, select).column("n").combine_chunks()
        return np.sort(array_values(found.cast(pa.int64())))

    def kept(self, kept: Kept | Hidden, most: int) -> tuple[int, list[str]]:
        """How many members the cell keeps, or that are hidden in it, and what some of them are called."""
        parts, frame = self._begun()
        held = self.cells.seer(frame).set_of(kept, Place(kept.match.table))
        reading = Reading(self.cells, frame)
        alias = reading.join(held.name, held.entries, left=False)
        rows, table = reading.rows, kept.match.table
        names: list[Sql] = []
        if kept.match.column:
            state = column(alias, held.member[1]) if len(held.member) > 1 else number(0)
            names.append(case([(equal(state, number(0)), column(alias, held.member[0]))]))
        else:
            stored = parts.stored(table)
            own = parts.alias(table)
            rows.join(stored.relation(own), [equal(stored.row(own), column(alias, held.member[0]))], left=False)
            keys = self.engine.tables.key_of(table)
            names += [stored.columns[name].read(column(own, stored.columns[name].name)) for name in keys]
        columns = [aliased(each, f"c{at}") for at, each in enumerate(names)]
        select = rows.select(*columns, aliased(exp.Window(this=exp.Count(this=exp.Star())), "of"))
        select.set("order", exp.Order(expressions=[exp.Ordered(this=number(at + 1)) for at in range(len(columns))]))
        select.set("limit", exp.Limit(expression=number(most)))
        records = self._asked(parts, select).to_pylist()
        shown = [" ".join("null" if each is None else str(each) for each in list(one.values())[:-1]) for one in records]
        return (int(records[0]["of"]) if records else 0), shown


#: The key that holds the rows of an aggregate's own table.
_ROW = -1


def _row_numbers(array: Any) -> Array:
    """What tells rows apart, as an array of numbers or texts."""
    return np.array(array.to_pylist(), dtype=object if pa.types.is_string(array.type) else np.int64)
