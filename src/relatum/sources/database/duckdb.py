"""Files of DuckDB, shut off from every other file and from extensions before anything is asked."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from relatum.errors import SourceError
from relatum.limits import limit, too_late
from relatum.sources.database.base import Database, DatabaseTable, ForeignKey, described, gathered, refusal
from relatum.sources.database.base import reason as said_by
from relatum.sources.database.drivers import driver

#: A view in the file, or a query, could otherwise read and write any file, and fetch code from elsewhere.
_SHUT = {
    "enable_external_access": False,
    "allow_community_extensions": False,
    "allow_unsigned_extensions": False,
    "autoinstall_known_extensions": False,
    "autoload_known_extensions": False,
    "allow_persistent_secrets": False,
    "temp_directory": "",
    "lock_configuration": True,
}


def open_duckdb(path: Path) -> Database:
    """An open file of DuckDB.

    Raises
    ------
    SourceError
        It is none, or the driver is not installed.
    """
    duckdb = driver("duckdb")
    memory = f"{limit('memory') // (1 << 20)}MiB"
    try:
        return _DuckDB(duckdb.connect(str(path), read_only=True, config={**_SHUT, "memory_limit": memory}), str(path))
    except (duckdb.Error, RuntimeError) as error:
        raise SourceError(f"This is no database that can be read: {said_by(error)}", path=path) from None


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
        duckdb = driver("duckdb")
        late = threading.Event()

        def stop() -> None:
            late.set()
            self.connection.interrupt()

        timer = threading.Timer(limit("time"), stop)
        timer.daemon = True
        timer.start()
        try:
            reader = self.connection.sql(statement, params=list(parameters) or None).to_arrow_reader(1 << 17)
            table = gathered(reader.schema, reader, shown)
        except (duckdb.Error, pa.ArrowException, RuntimeError) as error:
            if late.is_set():
                raise too_late(f"{shown}: the database") from None
            raise refusal(error, shown) from None
        finally:
            timer.cancel()
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
