"""The tables of a model on an engine: where they are, what is sent there, and how their columns are read."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

import pyarrow as pa
from sqlglot import exp

from relatum.data.arrow import column_to_arrow, type_of
from relatum.data.columns import Column
from relatum.data.table import TableData
from relatum.data.types import INTEGER, TEXT, Kind, Type
from relatum.engine.memory.store import MemoryStore
from relatum.engine.sql.sheet import Sheet
from relatum.engine.sql.tables import StoredColumn, StoredTable
from relatum.engine.sql.terms import (
    Sql,
    aliased,
    cast,
    column,
    sql_type,
)
from relatum.engine.sql.terms import call as called
from relatum.engine.sql.terms import text as sql_text
from relatum.engine.sql.warehouse import Warehouse
from relatum.engine.store import JoinKeeper, Store, Tables, WorkOut
from relatum.errors import ModelError
from relatum.model.names import ColumnKey, quoted
from relatum.plan.nodes import Derivation, Plan
from relatum.sources.engines.base import Connection, Relation
from relatum.sources.remote import RemoteTable

#: Whole numbers of fewer digits fit a decimal that engines keep in 64 bits.
_DIGITS = 18


class _Fact(NamedTuple):
    """What is known of a column: whether some row has no value, and whether floats that are there are finite."""

    nulls: bool
    finite: bool


class RemoteTables(Store):
    """The tables of a model on an engine, as queries read them, and derived columns as formulas.

    A table that is not where the engine is, is sent there when it is first needed.

    Parameters
    ----------
    connection : Connection
        The engine.
    tables, work_out, joins, former
        As of :class:`Store`.
    """

    def __init__(
        self,
        connection: Connection,
        tables: Tables,
        work_out: WorkOut,
        joins: JoinKeeper | None = None,
        former: Store | None = None,
    ) -> None:
        super().__init__(tables, work_out, joins, former)
        self.warehouse = Warehouse(connection)

    @property
    def connection(self) -> Connection:
        """The connection to the engine."""
        return self.warehouse.connection

    # -- where tables are ---------------------------------------------------------------------------------------------

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
                name=table,
                relation=relation.source,
                columns=columns,
                row=lambda alias: own.read(column(alias, own.name)),
                row_type=own.type,
                order=row if relation.row else lambda alias: own.read(column(alias, own.name)),
                key=key,
            )
        numbered = relation.row is not None and not relation.row_is_text
        return StoredTable(table, relation.source, columns, row, INTEGER if numbered else TEXT, row)

    def _telling(self, table: str, data: TableData) -> str:
        """The column that tells the rows of a table apart: its key, if that is one column and does so in the data."""
        keys = self.tables.keys.get(table, ())
        if len(keys) != 1 or keys[0] not in data.types or data.types[keys[0]].kind is Kind.FLOAT:
            return ""
        if not isinstance(data, RemoteTable):
            return keys[0] if self.local.unique(table, keys[0]) else ""
        relation, there = data.relation, data.headings.get(keys[0], keys[0])
        counted = [exp.Count(this=exp.Star()), exp.Count(this=exp.Distinct(expressions=[column("t", there)]))]
        select = exp.Select(expressions=[aliased(each, f"n{at}") for at, each in enumerate(counted)])
        select.set("from_", exp.From(this=relation.source("t")))
        found = self._one_row(select)
        return keys[0] if found["n0"] == found["n1"] else ""

    def _by_key(self, table: str, columns: Mapping[str, StoredColumn]) -> Callable[[str], Sql]:
        """What identifies rows: a table's key, as text."""

        def row(alias: str) -> Sql:
            keys = self.tables.keys.get(table, ())
            if not keys:
                raise ModelError(
                    f"The rows of {quoted(table)} cannot be identified: it is a view or query without a key.",
                    fix=f"Set the key of {quoted(table)} in the model.",
                    place=("table", table),
                )
            parts: list[Sql] = []
            for name in keys:
                parts += [sql_text("\x1f"), cast(columns[name].read(column(alias, columns[name].name)), sql_type(TEXT))]
            return called("CONCAT", *parts[1:])

        return row

    def _sent(self, table: str, data: TableData) -> Relation:
        """A table that is sent to the engine."""
        arrays = {name: _narrow(column_to_arrow(data.column(name)), data.column(name)) for name in data.types}
        rows = pa.table(arrays) if arrays else pa.table({"relatum_no_column": pa.nulls(data.rows, pa.int8())})
        return self.connection.send(table, rows)

    def _column(
        self, table: str, name: str, there: str, type_: Type, relation: Relation, data: TableData
    ) -> StoredColumn:
        arrow = relation.schema.field(there).type
        markers = data.markers.get(name, ()) if isinstance(data, RemoteTable) else ()

        def read(sql: Sql) -> Sql:
            value = self._as(sql, arrow, type_, data, there in relation.converted)
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

    def _as(self, sql: Sql, arrow: Any, type_: Type, data: TableData, converted: bool) -> Sql:
        """A column of the engine as what the language reads it as."""
        found = type_of(arrow)
        if pa.types.is_timestamp(arrow) and arrow.tz is not None:
            zone = data.timezone if isinstance(data, RemoteTable) else "UTC"
            sql = self.warehouse.dialect.wall_clock(sql, zone)
        if pa.types.is_time(arrow):
            return self.warehouse.dialect.clock(sql)
        if converted or (pa.types.is_floating(arrow) and arrow.bit_width < 64) or found != type_:
            sql = cast(sql, sql_type(type_))
        return sql

    # -- what is known here -------------------------------------------------------------------------------------------

    @property
    def local(self) -> MemoryStore:
        """What is asked about tables that are in memory."""
        return MemoryStore.beside(self)

    def here(self, *columns: ColumnKey) -> bool:
        """Whether columns are of tables that are in memory, so that what is asked of them is known there."""
        return all(
            name in self.tables.data[table].types
            and self.tables.data[table].made_by is None
            and not isinstance(self.tables.data[table], RemoteTable)
            for table, name in columns
        )

    def _one_row(self, select: Any) -> dict[str, Any]:
        """The one row that a query of one table answers."""
        record: dict[str, Any] = self.warehouse.ask(Sheet().statement(select, self.warehouse.dialect)).to_pylist()[0]
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
            found = self._one_row(select)
            return _Fact(found["nulls"] > 0 or found.get("missing", 0) > 0, found.get("missing", 0) == found["nulls"])

        return self.work.keep(("fact", table, name), (data,), make)


def _narrow(array: Any, values: Column) -> Any:
    """A decimal in the fewest bits that engines have for it."""
    if values.type.kind is Kind.DECIMAL and max(abs(values.lower), abs(values.upper)) < 10**_DIGITS:
        return array.cast(pa.decimal128(_DIGITS, values.type.scale))
    return array
