"""A PostgreSQL server that holds the tables: asked in transactions that can only read, sent temporary tables."""

from __future__ import annotations

import weakref
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa

from relatum.errors import RelatumError
from relatum.runtime.limits import cancelling, refuse_stopped, too_late
from relatum.sources.database.drivers import driver
from relatum.sources.database.kinds import shown_address
from relatum.sources.database.postgresql import (
    converted_type,
    has_open_scale,
    numeric_type,
    open_postgresql,
    plain_column,
)
from relatum.sources.engines.base import ROW, Connection, Relation, Source

_TOO_LARGE = ("out of range", "numeric field overflow", "overflow")
#: A row's place in its table: the page, and the number in the page.
_ROWS_A_PAGE = 1 << 16


class PostgreSqlConnection(Connection):
    """A connection to a server; ``schema`` is where its tables are looked for first."""

    kind = "postgresql"
    dialect = "postgres"

    def __init__(self, address: str, schema: str) -> None:
        super().__init__(shown_address(address))
        self._adbc = driver("adbc_driver_postgresql.dbapi", self.kind)
        self._database = open_postgresql(address, self.shown)
        self._closing = weakref.finalize(self, self._database.close)
        # Parts of a query have no statistics: taken for a row or two, they would be joined in loops for minutes.
        # Where a loop is all there is, the planner takes its own penalty for a reason to compile every expression.
        self._run("set enable_nestloop = off")
        self._run("set jit = off")
        if schema:
            name = self._exp.Identifier(this=schema, quoted=True).sql(dialect="postgres")
            self._run(f"set search_path = {name}, pg_temp")
        self._seen = self.state()

    def _run(self, statement: str) -> None:
        connection = self._database.connection
        try:
            with self._database.turn, closing(connection.cursor()) as cursor, cancelling(cursor.adbc_cancel):
                cursor.execute(statement)
                connection.commit()
        except (self._adbc.Error, pa.ArrowException) as error:
            raise self._refusal(error) from None

    def _refusal(self, error: Exception) -> RelatumError:
        with suppress(self._adbc.Error):
            self._database.end(failed=True)
        refuse_stopped()
        if "due to user request" in str(error):
            raise KeyboardInterrupt from None  # its driver heard Ctrl-C, and has cancelled it
        if "statement timeout" in str(error):
            return too_late(f"{self.shown}: the engine")
        return self._failure(error, _TOO_LARGE)

    @contextmanager
    def request(self) -> Iterator[None]:
        """Answer a request inside the block: all its queries see one state of the server."""
        with super().request(), self._database.one_state():
            yield

    def state(self) -> Hashable:
        """The transactions that are over, of which a question sees what they wrote: another one may have written."""
        (found,) = self._database.records("select txid_current_snapshot()::text as state")
        return str(found["state"])

    def _state_after(self, own: int) -> Hashable:
        """The state now, if one of our own transactions is all that was written since another state; else that one."""
        now = self.state()
        return now if int(str(now).split(":")[1]) == own + 1 else self._seen

    def answered(self, statement: str) -> Any:
        """The answer to a SELECT."""
        table = self._handed_out(statement)
        for at, field in enumerate(table.schema):
            table = table.set_column(at, field.name, plain_column(table.column(at), field))
        return table

    def _handed_out(self, statement: str) -> Any:
        """The answer as the driver hands it out."""
        connection = self._database.connection
        try:
            with self._database.turn:
                with closing(connection.cursor()) as cursor, cancelling(cursor.adbc_cancel):
                    self._database.begin(cursor)
                    cursor.execute(statement)
                    reader = cursor.fetch_record_batch()
                    table = self._gathered(reader.schema, reader)
                    del reader  # what is left of the answer is taken before the transaction ends
                self._database.end()
            return table
        except (self._adbc.Error, pa.ArrowException, OSError) as error:
            raise self._refusal(error) from None

    def table(self, part: str) -> Relation:
        """A table or view."""
        known = self._database.table(part)
        source = self._named(*known.parts)
        kind = self._database.records(
            "select relkind::text as kind, relhassubclass as parted from pg_class where oid = $1::text::regclass",
            known.quoted,
        )[0]
        placed = kind["kind"] in ("r", "m") and not kind["parted"]
        return self._relation(part, source, self._place if placed else None, self._database.remarks(known))

    def query(self, text: str, shown: str) -> Relation:
        """A query: one SELECT."""
        _, remarks = self._database.select(text, shown)
        return self._relation(shown, self._selected(text, shown), remarks=remarks)

    def _relation(
        self, shown: str, source: Source, row: Callable[[str], Any] | None = None, remarks: Sequence[str] = ()
    ) -> Relation:
        """A table, view or query, with the digits of numerics that state none."""
        fields = self._handed_out(self._no_rows_of(source))
        handed_out = {field.name: plain_column(fields.column(at), field).type for at, field in enumerate(fields.schema)}
        converted = {field.name: type_ for field in fields.schema if (type_ := converted_type(field)) is not None}
        found = self._types_found(source, [field.name for field in fields.schema if has_open_scale(field)])
        converted |= {name: type_ for name, type_ in found.items() if pa.types.is_floating(type_)}
        schema = pa.schema(list({**handed_out, **found, **converted}.items()))
        return Relation(shown, schema, source, row, converted=frozenset(converted), remarks=tuple(remarks))

    def _types_found(self, source: Source, names: Sequence[str]) -> dict[str, Any]:
        """The types of numerics without a scale: their values say how many digits they have."""
        if not names:
            return {}
        exp = self._exp
        select = exp.Select()
        for at, name in enumerate(names):
            value = exp.column(exp.Identifier(this=name, quoted=True), table=exp.Identifier(this="t", quoted=True))
            most = exp.Cast(this=exp.Max(this=exp.Abs(this=value.copy())), to=exp.DataType.build("text"))
            select = select.select(
                exp.alias_(exp.Max(this=exp.Anonymous(this="SCALE", expressions=[value])), f"s{at}"),
                exp.alias_(most, f"m{at}"),
                copy=False,
            )
        select.set("from_", exp.From(this=source("t")))
        (found,) = self.answered(select.sql(dialect=self.dialect)).to_pylist()
        return {
            name: numeric_type(found[f"s{at}"] or 0, Decimal(found[f"m{at}"] or 0)) for at, name in enumerate(names)
        }

    def take(self, name: str, rows: Any) -> Relation:
        """Rows as a temporary table, which goes with the connection."""
        connection = self._database.connection
        numbered = rows.append_column(ROW, pa.array(np.arange(rows.num_rows)))
        for at, field in enumerate(numbered.schema):
            if pa.types.is_decimal(field.type):
                # The driver sends numbers as text; the table is made of them there.
                numbered = numbered.set_column(at, field.name, numbered.column(at).cast(pa.string()))
        try:
            before = self.state()
            with self._database.turn, closing(connection.cursor()) as cursor:
                self._database.end(failed=True)
                cursor.execute("set transaction read write")
                cursor.adbc_ingest(f"{name}_text", numbered, mode="create", temporary=True)
                cursor.execute(self._made_of(name, rows.schema))
                cursor.execute(f'drop table "{name}_text"')
                cursor.execute(f'analyze "{name}"')
                cursor.execute("select txid_current()")
                own = cursor.fetchone()[0]
                connection.commit()
            if before == self._seen and int(str(before).split(":")[1]) == own:
                self._seen = self._state_after(own)
        except (self._adbc.Error, pa.ArrowException) as error:
            raise self._refusal(error) from None
        return Relation(name, rows.schema, self._named(name), lambda alias: self._column(alias, ROW))

    def _made_of(self, name: str, schema: Any) -> str:
        columns = []
        for field in schema:
            quoted = self._exp.Identifier(this=field.name, quoted=True).sql(dialect="postgres")
            cast = f"::numeric(38, {field.type.scale})" if pa.types.is_decimal(field.type) else ""
            columns.append(f"{quoted}{cast} as {quoted}")
        return f'create temporary table "{name}" as select {", ".join([*columns, ROW])} from "{name}_text"'

    def _place(self, alias: str) -> Any:
        """A row's place in its table, as a number that grows along it."""
        exp = self._exp
        text = exp.Anonymous(
            this="BTRIM",
            expressions=[
                exp.Cast(this=self._column(alias, "ctid"), to=exp.DataType.build("text")),
                exp.Literal.string("()"),
            ],
        )
        parts = [
            exp.Cast(
                this=exp.Anonymous(
                    this="SPLIT_PART", expressions=[text.copy(), exp.Literal.string(","), exp.Literal.number(at)]
                ),
                to=exp.DataType.build("bigint"),
            )
            for at in (1, 2)
        ]
        pages = exp.Mul(this=parts[0], expression=exp.Literal.number(_ROWS_A_PAGE))
        return exp.Paren(this=exp.Add(this=pages, expression=parts[1]))

    def close(self) -> None:
        """Close the connection; tables sent over it are dropped."""
        self.closed = True
        with suppress(self._adbc.Error):
            self._closing()
