"""DuckDB in this process: a file of its own, Parquet files, and what is sent to it."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa

from relatum.errors import RelatumError, SourceError, ValueOverflowError
from relatum.limits import limit, refuse_above, refuse_memory
from relatum.sources.database.base import driver, refusal
from relatum.sources.database.base import reason as said_by
from relatum.sources.database.query import refuse_unless_select
from relatum.sources.engines.base import Connection, Relation

#: What a query in a model could otherwise reach; the files that tables name stay open to it.
_SHUT = {
    "allow_community_extensions": False,
    "allow_unsigned_extensions": False,
    "autoinstall_known_extensions": False,
    "autoload_known_extensions": False,
    "allow_persistent_secrets": False,
}
#: One number for a row of several files: the file's, and the row's in it.
_ROWS_A_FILE = 1 << 40
_TOO_LARGE = ("out of range", "Overflow in", "overflow", "Could not cast value")


class DuckDbConnection(Connection):
    """DuckDB: ``path`` is its database, None for none; ``allowed`` are the Parquet files that may be read."""

    kind = dialect = "duckdb"

    def __init__(self, path: Path | None, allowed: Sequence[Path]) -> None:
        super().__init__(str(path or "DuckDB"))
        self._duckdb = driver("duckdb")
        self._exp = driver("sqlglot").exp
        self._folder = tempfile.mkdtemp(prefix="relatum-")
        weakref.finalize(self, shutil.rmtree, self._folder, True)
        self._path = path
        self._allowed = dict.fromkeys(allowed)
        self._open()

    def _open(self) -> None:
        """Open the database, and shut it off from every file that no table names."""
        memory = f"{limit('memory') // (1 << 20)}MiB"
        config = {**_SHUT, "memory_limit": memory, "temp_directory": self._folder}
        try:
            # A database of its own, beside which the file is read: a process may open one file several times.
            self._connection = self._duckdb.connect(":memory:", config=config)
            if self._path is not None:
                path = str(self._path).replace("'", "''")
                self._connection.execute(f"attach '{path}' as data (type duckdb, read_only)")
                self._connection.execute("use data")
            allowed = ", ".join("'" + str(each).replace("'", "''") + "'" for each in self._allowed)
            self._connection.execute(f"set allowed_paths = [{allowed}]")
            self._connection.execute("set enable_external_access = false")
            self._connection.execute("set lock_configuration = true")
        except (self._duckdb.Error, RuntimeError) as error:
            raise SourceError(f"This is no database that can be read: {said_by(error)}", path=self.shown) from None

    def answered(self, statement: str) -> Any:
        """The answer to a SELECT."""
        try:
            reader = self._connection.sql(statement).to_arrow_reader(1 << 17)
            batches, rows = [], 0
            for batch in reader:
                rows += len(batch)
                refuse_above("rows", rows, f"{self.shown}: more than {rows - len(batch):,} rows")
                refuse_memory(batch.nbytes, self.shown)
                batches.append(batch)
            return pa.Table.from_batches(batches, reader.schema)
        except (self._duckdb.Error, pa.ArrowException, RuntimeError) as error:
            raise told(error, self.shown) from None

    def cancel(self) -> None:
        """Give up what is asked now."""
        self._connection.interrupt()

    def table(self, part: str) -> Relation:
        """A table or view."""
        names = part.split(".") if part.count(".") == 1 else [part]
        identifiers = [self._exp.Identifier(this=name, quoted=True) for name in names]
        schema = self._schema(
            self._exp.Table(this=identifiers[-1], db=identifiers[0] if len(names) > 1 else None), part
        )
        is_table = self._connection.execute(
            "select count(*) from duckdb_tables() where table_name = ? and (? = '' or schema_name = ?)",
            [names[-1], *([names[0]] * 2 if len(names) > 1 else ["", ""])],
        ).fetchall()[0][0]
        db = identifiers[0].copy() if len(names) > 1 else self._exp.Identifier(this="main", quoted=True)

        def source(alias: str) -> Any:
            own = self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True))
            return self._exp.Table(this=identifiers[-1].copy(), db=db.copy(), alias=own)

        return Relation(part, schema, source, self._row if is_table else None)

    def query(self, text: str, shown: str) -> Relation:
        """A query: one SELECT."""
        refuse_unless_select(text, "duckdb", shown)
        parsed = driver("sqlglot").parse_one(text, read="duckdb")
        schema = self._schema(self._exp.Subquery(this=parsed.copy()), shown)
        return Relation(shown, schema, lambda alias: _subquery(self._exp, parsed.copy(), alias))

    def reads_files(self) -> bool:
        """Parquet files are read by DuckDB itself."""
        return True

    def files(self, paths: Sequence[Path], shown: str) -> Relation:
        """Parquet files."""
        if not set(paths) <= set(self._allowed):
            # What may be read is settled when a database is opened: it is opened anew, and what was sent is sent anew.
            self._allowed.update(dict.fromkeys(paths))
            self._connection.close()
            self._open()
            self.opened += 1
        texts = [self._exp.Literal.string(str(path)) for path in paths]
        named = [self._exp.PropertyEQ(this=self._exp.Identifier(this="union_by_name"), expression=self._exp.true())]
        function = self._exp.Anonymous(this="READ_PARQUET", expressions=[self._exp.Array(expressions=texts), *named])

        def source(alias: str) -> Any:
            own = self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True))
            return self._exp.Table(this=function.copy(), alias=own)

        def row(alias: str) -> Any:
            file, place = (self._column(alias, name) for name in ("file_index", "file_row_number"))
            if len(paths) == 1:
                return place
            factor = self._exp.Literal.number(_ROWS_A_FILE)
            return self._exp.Paren(
                this=self._exp.Add(this=self._exp.Mul(this=file, expression=factor), expression=place)
            )

        return Relation(shown, self._schema(source("files"), shown), source, row)

    def take(self, name: str, rows: Any) -> Relation:
        """Rows as a temporary table."""
        self._connection.register("relatum_incoming", rows)
        try:
            self._connection.execute(f'create temp table "{name}" as select * from relatum_incoming')
        except self._duckdb.Error as error:
            raise told(error, self.shown) from None
        finally:
            self._connection.unregister("relatum_incoming")

        def source(alias: str) -> Any:
            own = self._exp.TableAlias(this=self._exp.Identifier(this=alias, quoted=True))
            return self._exp.Table(this=self._exp.Identifier(this=name, quoted=True), alias=own)

        return Relation(name, rows.schema, source, self._row)

    def close(self) -> None:
        """Close the database; what was sent goes with it."""
        with suppress(self._duckdb.Error):
            self._connection.close()
        shutil.rmtree(self._folder, ignore_errors=True)

    def _row(self, alias: str) -> Any:
        return self._column(alias, "rowid")

    def _column(self, alias: str, name: str) -> Any:
        table = self._exp.Identifier(this=alias, quoted=True)
        return self._exp.Column(this=self._exp.Identifier(this=name, quoted=False), table=table)

    def _schema(self, source: Any, shown: str) -> Any:
        select = self._exp.Select(expressions=[self._exp.Star()])
        select.set("from_", self._exp.From(this=source))
        select.set("limit", self._exp.Limit(expression=self._exp.Literal.number(0)))
        try:
            return self._connection.sql(select.sql(dialect="duckdb")).to_arrow_table().schema
        except self._duckdb.Error as error:
            raise SourceError(f"{shown} cannot be read: {said_by(error)}", path=self.shown) from None


def _subquery(exp: Any, query: Any, alias: str) -> Any:
    return exp.Subquery(this=query, alias=exp.TableAlias(this=exp.Identifier(this=alias, quoted=True)))


def told(error: Exception, shown: str) -> RelatumError:
    """What an engine's refusal is: a value that is too large, or something else."""
    if any(word in str(error) for word in _TOO_LARGE):
        return ValueOverflowError(
            "A result does not fit 64 bits.", fix="Turn the operand into a float by dividing it by 1."
        )
    return refusal(error, shown)
