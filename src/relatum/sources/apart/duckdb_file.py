"""DuckDB as the separate process asks it, shut off from every unnamed file and from extensions."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import duckdb

#: A view in the file, or a query, could otherwise read and write any file, and fetch code from elsewhere.
_SHUT = {
    "allow_community_extensions": False,
    "allow_unsigned_extensions": False,
    "autoinstall_known_extensions": False,
    "autoload_known_extensions": False,
    "allow_persistent_secrets": False,
}
_TAKEN = frozenset({"memory", "system", "temp", "main", ""})
_ROWS = 1 << 17
#: As many statements stay bound: finding again what their names mean takes longer than many a small one's answer.
_BOUND = 64


class DuckdbFile:
    """DuckDB in memory, with its file attached, and Parquet files that may be read.

    Parameters
    ----------
    path : str
        The file; empty for none.
    allowed : list of str
        Other files that may be read.
    memory : int
        Megabytes that it may use before it puts rows aside.
    folder : str
        Where it puts rows aside; empty for nowhere.
    """

    def __init__(self, path: str, allowed: list[str], memory: int, folder: str) -> None:
        config: Any = {**_SHUT, "memory_limit": f"{memory}MiB", "temp_directory": folder}
        # A separate database beside the file: a process may open one file several times.
        self._connection = duckdb.connect(":memory:", config=config)
        if path:
            # Under the name by which views inside it know it.
            stem = Path(path).stem
            name = '"' + ("data" if stem.lower() in _TAKEN else stem).replace('"', '""') + '"'
            self._connection.execute(f"attach {_text(path)} as {name} (type duckdb, read_only)")
            self._connection.execute(f"use {name}")
        self._connection.execute(f"set allowed_paths = [{', '.join(map(_text, allowed))}]")
        self._connection.execute("set enable_external_access = false")
        self._connection.execute("set lock_configuration = true")
        self._bound: dict[str, Any] = {}

    def answer(self, statement: str, parameters: list[str]) -> tuple[dict[str, Any], Any, Any]:
        """What is to be known of an answer, its schema and its batches."""
        known = None if parameters else self._bound.pop(statement, None)
        found = self._connection.sql(statement, params=parameters or None) if known is None else known
        kinds = list(map(str, found.types))
        reader = found.to_arrow_reader(_ROWS)

        def batches() -> Iterator[Any]:
            yield from reader
            if not parameters:
                # Only what was answered to the end is asked again as it is.
                self._bound[statement] = found
                if len(self._bound) > _BOUND:
                    del self._bound[next(iter(self._bound))]

        return {"kinds": kinds}, reader.schema, batches()

    def take(self, name: str, rows: Any) -> None:
        """Make a temporary table of rows."""
        self._connection.register("relatum_incoming", rows)
        try:
            self._connection.execute(f'create temp table "{name}" as select * from relatum_incoming')
        finally:
            self._connection.unregister("relatum_incoming")

    def close(self) -> None:
        """Let go of it."""
        self._bound.clear()
        self._connection.close()


def _text(path: str) -> str:
    """A path in SQL."""
    return "'" + path.replace("'", "''") + "'"
