"""DuckDB in this process: a file of its own, Parquet files, and what is sent to it."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa

from relatum.data.arrow import type_of
from relatum.data.types import TEXT
from relatum.errors import SourceError
from relatum.limits import limit
from relatum.sources.database.base import reason as said_by
from relatum.sources.database.drivers import driver
from relatum.sources.engines.base import Connection, Relation, Source

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
#: Decimals with more digits may be whole numbers that are counted together.
_LONGEST_WHOLE = 18
_TOO_LARGE = ("out of range", "Overflow in", "overflow", "Could not cast value")


class DuckDbConnection(Connection):
    """DuckDB: ``path`` is its database, None for none; ``allowed`` are the Parquet files that may be read."""

    kind = dialect = "duckdb"

    def __init__(self, path: Path | None, allowed: Sequence[Path]) -> None:
        super().__init__(str(path or "DuckDB"))
        self._duckdb = driver("duckdb", self.kind)
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
                self._connection.execute(f"attach {self._text(self._path)} as data (type duckdb, read_only)")
                self._connection.execute("use data")
            allowed = ", ".join(map(self._text, self._allowed))
            self._connection.execute(f"set allowed_paths = [{allowed}]")
            self._connection.execute("set enable_external_access = false")
            self._connection.execute("set lock_configuration = true")
        except (self._duckdb.Error, RuntimeError) as error:
            raise SourceError(f"This is no database that can be read: {said_by(error)}", path=self.shown) from None

    def answered(self, statement: str) -> Any:
        """The answer to a SELECT."""
        try:
            reader = self._connection.sql(statement).to_arrow_reader(1 << 17)
            return self._gathered(reader)
        except (self._duckdb.Error, pa.ArrowException, RuntimeError) as error:
            raise self._failure(error, _TOO_LARGE) from None

    def cancel(self) -> None:
        """Give up what is asked now."""
        self._connection.interrupt()

    def table(self, part: str) -> Relation:
        """A table or view."""
        names = part.split(".") if part.count(".") == 1 else [part]
        is_table = self._connection.execute(
            "select count(*) from duckdb_tables() where table_name = ? and (? = '' or schema_name = ?)",
            [names[-1], *([names[0]] * 2 if len(names) > 1 else ["", ""])],
        ).fetchall()[0][0]
        source = self._named(*names) if len(names) > 1 else self._named("main", *names)
        return self._relation(part, source, self._row if is_table else None)

    def query(self, text: str, shown: str) -> Relation:
        """A query: one SELECT."""
        source = self._selected(text, shown)
        return self._relation(shown, source)

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
        source = self._under_alias(self._exp.Table(this=function))

        def row(alias: str) -> Any:
            file, place = (self._column(alias, name) for name in ("file_index", "file_row_number"))
            if len(paths) == 1:
                return place
            factor = self._exp.Literal.number(_ROWS_A_FILE)
            return self._exp.Paren(
                this=self._exp.Add(this=self._exp.Mul(this=file, expression=factor), expression=place)
            )

        return self._relation(shown, source, row, of_files=True)

    def take(self, name: str, rows: Any) -> Relation:
        """Rows as a temporary table."""
        self._connection.register("relatum_incoming", rows)
        try:
            self._connection.execute(f'create temp table "{name}" as select * from relatum_incoming')
        except self._duckdb.Error as error:
            raise self._failure(error, _TOO_LARGE) from None
        finally:
            self._connection.unregister("relatum_incoming")
        return Relation(name, rows.schema, self._named(name), self._row)

    def close(self) -> None:
        """Close the database; what was sent goes with it."""
        with suppress(self._duckdb.Error):
            self._connection.close()
        shutil.rmtree(self._folder, ignore_errors=True)

    def _row(self, alias: str) -> Any:
        return self._column(alias, "rowid")

    def _text(self, path: Path) -> str:
        """A path in SQL."""
        text: str = self._exp.Literal.string(str(path)).sql(dialect=self.dialect)
        return text

    def _relation(
        self, shown: str, source: Source, row: Callable[[str], Any] | None = None, *, of_files: bool = False
    ) -> Relation:
        """A table, view, query or files, with what is read as something else than it is there."""
        try:
            described = self._connection.sql(self._no_rows_of(source))
            kinds, schema = list(map(str, described.types)), described.to_arrow_table().schema
        except self._duckdb.Error as error:
            raise SourceError(f"{shown} cannot be read: {said_by(error)}", path=self.shown) from None
        converted = set()
        for at, (field, kind) in enumerate(zip(schema, kinds, strict=True)):
            if type_of(field.type) == TEXT and not pa.types.is_time(field.type) and kind != "VARCHAR":
                converted.add(field.name)  # enums and the like compare and sort as something else there
            elif pa.types.is_decimal(field.type) and not field.type.scale and field.type.precision > _LONGEST_WHOLE:
                if of_files:
                    continue  # what files hold is what they say
                # Sums of whole numbers come as wide ones.
                schema = schema.set(at, pa.field(field.name, pa.int64()))
                converted.add(field.name)
        return Relation(shown, schema, source, row, converted=frozenset(converted))
