"""Files of DuckDB: what they declare of their tables."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import pyarrow as pa

from relatum.data import compute as pc
from relatum.errors import SourceError
from relatum.runtime.limits import limit
from relatum.sources.apart.process import Apart, Refused
from relatum.sources.database.base import Database, DatabaseTable, ForeignKey, described, gathered, refusal
from relatum.sources.database.base import reason as said_by
from relatum.sources.database.drivers import needed


def open_duckdb(path: Path) -> Database:
    """An open DuckDB file, read by a separate process.

    Raises
    ------
    SourceError
        It is not a DuckDB file, or the driver is not installed.
    """
    apart = duckdb_apart(path, (), "", str(path))
    try:
        apart.open()
    except Refused as error:
        raise SourceError(f"This database cannot be read: {said_by(error)}", path=path) from None
    return _DuckDB(apart, str(path))


def duckdb_apart(path: Path | None, allowed: Iterable[str], folder: str, shown: str, extra: str = "databases") -> Apart:
    """DuckDB in a separate process: ``path`` is its file, ``allowed`` are other files that it may read, ``folder`` is
    where it puts rows aside.

    It may use less than the limit of memory: what it does not count itself is counted from outside.
    """
    needed("duckdb", extra)
    options = {
        "path": str(path or ""),
        "allowed": list(dict.fromkeys(allowed)),
        "memory": max(limit("memory") * 3 // 4 >> 20, 1),
        "folder": folder,
    }
    return Apart("duckdb", options, shown)


class _DuckDB(Database):
    dialect = "duckdb"

    def tables(self) -> list[DatabaseTable]:
        columns = self.records(
            "select schema_name || '.' || table_name as id, column_name, table_name, "
            "case when schema_name = current_schema() then '' else schema_name end as schema "
            "from duckdb_columns() where not internal order by schema, table_name, column_index"
        )
        links = self.records(
            "select schema_name || '.' || table_name as id, schema_name || '.' || referenced_table as target, "
            "constraint_type as kind, constraint_column_names as columns, "
            "referenced_column_names as target_columns from duckdb_constraints()"
        )
        names = {each["id"]: ".".join(filter(None, (each["schema"], each["table_name"]))) for each in columns}
        foreign: dict[str, list[ForeignKey]] = {}
        for each in links:
            if each["kind"] == "FOREIGN KEY" and each["target"] in names:
                key = ForeignKey(tuple(each["columns"]), names[each["target"]], tuple(each["target_columns"]))
                foreign.setdefault(each["id"], []).append(key)
        keys = {each["id"]: tuple(each["columns"]) for each in links if each["kind"] == "PRIMARY KEY"}
        return described(columns, keys, foreign)

    def answer(self, statement: str, shown: str, parameters: tuple[str, ...] = ()) -> tuple[Any, list[str]]:
        def gather(schema: Any, batches: Iterable[Any]) -> Any:
            return gathered(schema, batches, shown)

        try:
            _, table = self.connection.answer(statement, parameters, gather, f"{self.shown}: the database")
        except Refused as error:
            raise refusal(error, shown) from None
        for at, field in enumerate(table.schema):
            table = table.set_column(at, field.name, _plain(table.column(at)))
        return table, []

    def close(self) -> None:
        self.connection.close()


def _plain(array: Any) -> Any:
    """A column in the type that has its values' exact meaning: sums of whole numbers come as wide decimals."""
    if isinstance(array.type, pa.BaseExtensionType):
        array = pa.chunked_array([chunk.storage for chunk in array.chunks], array.type.storage_type)
    if pa.types.is_decimal(array.type) and array.type.scale == 0 and array.type.precision > 18:
        largest = pc.max(pc.abs(array)).as_py()
        if largest is None or largest < 1 << 63:
            return array.cast(pa.int64(), safe=True)
    return array
