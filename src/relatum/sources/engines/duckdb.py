"""DuckDB in a process beside this one: its file, Parquet files, and sent tables."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Callable, Hashable, Iterable, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
from msgspec.structs import replace

from relatum.data.arrow import type_of
from relatum.data.types import TEXT
from relatum.errors import LimitError, SourceError
from relatum.sources.apart.process import Apart, Refused
from relatum.sources.database.base import reason as said_by
from relatum.sources.database.duckdb import duckdb_apart
from relatum.sources.engines.base import Connection, Relation, Source
from relatum.sources.files import parquet_columns
from relatum.sources.fingerprint import states_of

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
        self._reopened = 0
        self._folder = tempfile.mkdtemp(prefix="relatum-")
        weakref.finalize(self, shutil.rmtree, self._folder, True)
        self._path = path
        self._allowed = dict.fromkeys(allowed)
        self._apart = self._started()
        self._seen = self.state()

    def _started(self) -> Apart:
        """A process that holds the database, shut off from every file that no table names."""
        allowed = [*map(str, self._allowed), *map(_itself, self._allowed)]
        apart = duckdb_apart(self._path, allowed, self._folder, self.shown, self.kind)
        try:
            apart.open()
        except Refused as error:
            raise SourceError(f"This database cannot be read: {said_by(error)}", path=self.shown) from None
        return apart

    @property
    def opened(self) -> int:
        """How often it has been opened: tables sent before the last opening are gone."""
        return self._reopened + self._apart.opened

    def state(self) -> Hashable:
        """What the system says of its file, and of those that tables name."""
        return states_of([*([self._path] if self._path else []), *self._allowed])

    def renew(self) -> None:
        """Open the files as they are now."""
        super().renew()
        self._reopened += self._apart.opened
        self._apart.close()
        self._apart = self._started()

    def answered(self, statement: str) -> Any:
        """The answer to a SELECT."""
        return self._replied(statement)[1]

    def _replied(self, statement: str, parameters: Sequence[str] = ()) -> tuple[dict[str, Any], Any]:
        """What is to be known of the answer, and the answer."""

        def gather(schema: Any, batches: Iterable[Any]) -> Any:
            return self._gathered(schema, batches)

        try:
            return self._apart.answer(statement, parameters, gather, f"{self.shown}: the engine")
        except Refused as error:
            raise self._failure(error, _TOO_LARGE) from None

    def table(self, part: str) -> Relation:
        """A table or view."""
        names = part.split(".") if part.count(".") == 1 else [part]
        _, found = self._replied(
            "select count(*) as n from duckdb_tables() where table_name = ? and (? = '' or schema_name = ?)",
            [names[-1], *([names[0]] * 2 if len(names) > 1 else ["", ""])],
        )
        is_table = found.column(0)[0].as_py()
        source = self._named(*names) if len(names) > 1 else self._named("main", *names)
        relation = self._relation(part, source, self._row if is_table else None)
        own = "rowid" in {each.lower() for each in relation.schema.names}
        return replace(relation, row=None) if own else relation

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
            # What may be read is fixed when a database is opened: it is opened again, and tables are sent again.
            self._allowed.update(dict.fromkeys(paths))
            self.renew()
            self._seen = self.state()
        texts = [self._exp.Literal.string(_itself(path)) for path in paths]
        said = {"union_by_name": self._exp.true(), "hive_partitioning": self._exp.false()}
        named = [self._exp.PropertyEQ(this=self._exp.Identifier(this=word), expression=value)
                 for word, value in said.items()]  # fmt: skip
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

        columns = parquet_columns(paths)
        taken = {"file_index", "file_row_number"} & {each.lower() for each in columns}
        relation = self._relation(shown, source, None if taken else row, of_files=True)
        if relation.schema.names != columns:
            twice = next(one for one, other in zip(columns, relation.schema.names, strict=True) if one != other)
            raise SourceError(
                f"{shown}: DuckDB cannot tell {twice} from another column, because it ignores case.",
                path=self.shown,
                fix="Rename the column in the file.",
            )
        return relation

    def take(self, name: str, rows: Any) -> Relation:
        """Rows as a temporary table."""
        try:
            self._apart.take(name, rows)
        except Refused as error:
            raise self._failure(error, _TOO_LARGE) from None
        return Relation(name, rows.schema, self._named(name), self._row)

    def close(self) -> None:
        """Close the database; sent tables are dropped."""
        self.closed = True
        self._apart.close()
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
        """A table, view, query or files, with the columns that are read as another type than theirs."""
        try:
            facts, table = self._replied(self._no_rows_of(source))
        except LimitError:
            raise
        except SourceError as error:
            raise SourceError(f"{shown} cannot be read: {error.reason}", path=self.shown) from None
        kinds, schema = facts["kinds"], table.schema
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


def _itself(path: Path) -> str:
    """A path that DuckDB takes for that file only: the signs of patterns are escaped."""
    return "".join(f"[{each}]" if each in "[*?" else each for each in str(path))
