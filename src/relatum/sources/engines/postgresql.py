"""A PostgreSQL server that holds the tables: asked in transactions that can only read, sent temporary tables."""

from __future__ import annotations

import weakref
from contextlib import closing, suppress
from typing import Any

import numpy as np
import pyarrow as pa

from relatum.errors import RelatumError, ValueOverflowError
from relatum.limits import refuse_above, refuse_memory, too_late
from relatum.sources.database.ask import shown_address
from relatum.sources.database.base import driver, refusal
from relatum.sources.database.postgresql import open_postgresql, plain_column
from relatum.sources.database.query import refuse_unless_select
from relatum.sources.engines.base import ROW, Connection, Relation

_TOO_LARGE = ("out of range", "numeric field overflow", "overflow")
#: A row's place in its table: the page, and the number in the page.
_ROWS_A_PAGE = 1 << 16


class PostgreSqlConnection(Connection):
    """A connection to a server; ``schema`` is where its tables are looked for first."""

    kind = "postgresql"
    dialect = "postgres"
    hears_interrupts = True

    def __init__(self, address: str, schema: str) -> None:
        super().__init__(shown_address(address))
        self._adbc = driver("adbc_driver_postgresql.dbapi")
        self._exp = driver("sqlglot").exp
        self._database = open_postgresql(address, self.shown)
        self._asking: Any = None
        self._closing = weakref.finalize(self, self._database.close)
        # Parts of a query have no statistics: taken for a row or two, they would be joined in loops for minutes.
        # Where a loop is all there is, the planner takes its own penalty for a reason to compile every expression.
        self._run("set enable_nestloop = off")
        self._run("set jit = off")
        if schema:
            name = self._exp.Identifier(this=schema, quoted=True).sql(dialect="postgres")
            self._run(f"set search_path = {name}, pg_temp")

    def _run(self, statement: str) -> None:
        connection = self._database.connection
        try:
            with closing(connection.cursor()) as cursor:
                cursor.execute(statement)
            connection.commit()
        except (self._adbc.Error, pa.ArrowException) as error:
            raise self._told(error) from None

    def _told(self, error: Exception) -> RelatumError:
        with suppress(self._adbc.Error):
            self._database.connection.rollback()
        if "due to user request" in str(error):
            raise KeyboardInterrupt from None  # its driver heard Ctrl-C, and has told the server
        if "statement timeout" in str(error):
            return too_late(f"{self.shown}: the engine")
        if any(word in str(error) for word in _TOO_LARGE):
            return ValueOverflowError(
                "A result does not fit 64 bits.", fix="Turn the operand into a float by dividing it by 1."
            )
        return refusal(error, self.shown)

    def answered(self, statement: str) -> Any:
        """The answer to a SELECT."""
        connection = self._database.connection
        try:
            with closing(connection.cursor()) as cursor:
                self._asking = cursor
                cursor.execute(statement)
                reader = cursor.fetch_record_batch()
                batches, rows = [], 0
                for batch in reader:
                    rows += len(batch)
                    refuse_above("rows", rows, f"{self.shown}: more than {rows - len(batch):,} rows")
                    refuse_memory(batch.nbytes, self.shown)
                    batches.append(batch)
                table = pa.Table.from_batches(batches, reader.schema)
            connection.commit()
        except (self._adbc.Error, pa.ArrowException, OSError) as error:
            raise self._told(error) from None
        finally:
            self._asking = None
        for at, field in enumerate(table.schema):
            table = table.set_column(at, field.name, plain_column(table.column(at), field))
        return table

    def cancel(self) -> None:
        """Give up what is asked now: a server goes on with a question until it is told that nobody waits."""
        asking = self._asking
        if asking is not None:
            with suppress(self._adbc.Error):
                asking.adbc_cancel()

    def table(self, part: str) -> Relation:
        """A table or view."""
        known = self._database.table(part)
        identifiers = [self._exp.Identifier(this=name, quoted=True) for name in known.parts]

        def source(alias: str) -> Any:
            own = self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True))
            db = identifiers[0].copy() if len(identifiers) > 1 else None
            return self._exp.Table(this=identifiers[-1].copy(), db=db, alias=own)

        kind = self._database.records(
            "select relkind::text as kind, relhassubclass as parted from pg_class where oid = $1::text::regclass",
            known.quoted,
        )[0]
        placed = kind["kind"] in ("r", "m") and not kind["parted"]
        return Relation(part, self._schema(source("t")), source, self._place if placed else None)

    def query(self, text: str, shown: str) -> Relation:
        """A query: one SELECT."""
        refuse_unless_select(text, "postgres", shown)
        parsed = driver("sqlglot").parse_one(text, read="postgres")

        def source(alias: str) -> Any:
            own = self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True))
            return self._exp.Subquery(this=parsed.copy(), alias=own)

        return Relation(shown, self._schema(source("t")), source)

    def _schema(self, source: Any) -> Any:
        """The columns of something: asked of a few rows, so that numbers without a scale are told by what they hold."""
        select = self._exp.Select(expressions=[self._exp.Star()])
        select.set("from_", self._exp.From(this=source))
        select.set("limit", self._exp.Limit(expression=self._exp.Literal.number(0)))
        return self.answered(select.sql(dialect="postgres")).schema

    def take(self, name: str, rows: Any) -> Relation:
        """Rows as a temporary table, which goes with the connection."""
        connection = self._database.connection
        numbered = rows.append_column(ROW, pa.array(np.arange(rows.num_rows)))
        for at, field in enumerate(numbered.schema):
            if pa.types.is_decimal(field.type):
                # The driver sends numbers as text; the table is made of them there.
                numbered = numbered.set_column(at, field.name, numbered.column(at).cast(pa.string()))
        try:
            with closing(connection.cursor()) as cursor:
                cursor.execute("set transaction read write")
                cursor.adbc_ingest(f"{name}_text", numbered, mode="create", temporary=True)
                cursor.execute(self._made_of(name, rows.schema))
                cursor.execute(f'drop table "{name}_text"')
                cursor.execute(f'analyze "{name}"')
            connection.commit()
        except (self._adbc.Error, pa.ArrowException) as error:
            raise self._told(error) from None

        def source(alias: str) -> Any:
            own = self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True))
            return self._exp.Table(this=self._exp.Identifier(this=name, quoted=True), alias=own)

        return Relation(name, rows.schema, source, lambda alias: self._named(alias, ROW))

    def _made_of(self, name: str, schema: Any) -> str:
        columns = []
        for field in schema:
            quoted = self._exp.Identifier(this=field.name, quoted=True).sql(dialect="postgres")
            cast = f"::numeric(38, {field.type.scale})" if pa.types.is_decimal(field.type) else ""
            columns.append(f"{quoted}{cast} as {quoted}")
        return f'create temporary table "{name}" as select {", ".join([*columns, ROW])} from "{name}_text"'

    def _named(self, alias: str, name: str) -> Any:
        table = self._exp.Identifier(this=alias, quoted=True)
        return self._exp.Column(this=self._exp.Identifier(this=name, quoted=False), table=table)

    def _place(self, alias: str) -> Any:
        """A row's place in its table, as a number that grows along it."""
        exp = self._exp
        text = exp.Anonymous(
            this="BTRIM",
            expressions=[
                exp.Cast(this=self._named(alias, "ctid"), to=exp.DataType.build("text")),
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
        """Close the connection; what was sent goes with it."""
        with suppress(self._adbc.Error):
            self._closing()
