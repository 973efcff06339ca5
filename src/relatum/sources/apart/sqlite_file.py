"""An SQLite file as the separate process asks it: opened so that it can only be read."""

from __future__ import annotations

import os
import sqlite3
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from typing import Any
from urllib.parse import quote

import pyarrow as pa

#: How many rows are turned into columns at once.
_ROWS = 100_000
#: How many seconds another program may go on writing before the file is refused.
_PATIENCE = 5.0
#: How often a journal is looked at, and the seconds in between, before it counts as left behind.
_LOOKS, _PAUSE = 20, 0.02
_READING = frozenset({sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_RECURSIVE})
#: The only settings that may be asked for: what the file declares of its tables.
_DECLARATIONS = frozenset({"table_info", "foreign_key_list"})
#: The header is described under https://www.sqlite.org/fileformat2.html#the_database_header.
_HEADER = 100
_WITH_LOG = 2


class CutShortError(Exception):
    """A file ends before what it says that it holds."""


class SqliteFile:
    """A file of SQLite.

    It is locked as SQLite locks what it reads. A file in which a log is usual, and beside which none is, is read as one
    that does not change, and looked at before and after: SQLite would put a log there.

    Parameters
    ----------
    path : str
        The file, links followed.
    """

    def __init__(self, path: str) -> None:
        self._path = path
        with open(path, "rb") as file:  # noqa: PTH123 - a path as the system has it
            header = file.read(_HEADER)
        log = f"{path}-wal"
        logged = os.path.exists(log) and os.stat(log).st_size > 0  # noqa: PTH110, PTH116
        if not logged:
            _refuse_cut_short(path, header)
        self._still = header[18:19] == bytes([_WITH_LOG]) and not logged
        self._before = _state(path)
        still = "&immutable=1" if self._still else ""
        self._connection = sqlite3.connect(f"file:{quote(path)}?mode=ro{still}", uri=True, timeout=_PATIENCE)
        self._connection.isolation_level = None
        self._connection.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
        for setting in ("query_only = on", "trusted_schema = off", "cell_size_check = on"):
            self._connection.execute(f"pragma {setting}")
        # All queries see one state.
        self._connection.execute("begin")
        self._begin_reading()
        self._connection.set_authorizer(_allowed)

    def _begin_reading(self) -> None:
        """Read for the first time, which locks the file.

        SQLite finds a journal that is just being deleted to be one that was left behind, and refuses what may only be
        read. Only what is there again and again was left behind.
        """
        for left in reversed(range(_LOOKS)):
            try:
                self._connection.execute("select count(*) from sqlite_master").fetchall()
                return
            except sqlite3.OperationalError as error:
                if error.sqlite_errorcode != sqlite3.SQLITE_READONLY_ROLLBACK or not left:
                    raise
            time.sleep(_PAUSE)

    def answer(self, statement: str, parameters: list[str]) -> tuple[dict[str, Any], Any, Any]:
        """How often each column of an answer has a value of each kind, its schema, its batches."""
        cursor = self._connection.execute(statement, parameters)
        names = [each[0] for each in cursor.description]
        kinds: list[Counter[type]] = [Counter() for _ in names]
        batches: list[Any] = []
        while rows := cursor.fetchmany(_ROWS):
            columns = list(zip(*rows, strict=True))
            found = [Counter(map(type, values)) for values in columns]
            for counts, more in zip(kinds, found, strict=True):
                counts.update(more)
            batches.append([_array(values, counts) for values, counts in zip(columns, found, strict=True)])
        whole = [_whole(counts) for counts in kinds]
        # Two columns of a query may have one name: the reader of the table says so.
        schema = pa.schema([pa.field(name, type_) for name, type_ in zip(names, whole, strict=True)])
        self._refuse_changed()
        return {"kinds": [[kind.__name__ for kind in counts] for counts in kinds],
                "counts": [list(counts.values()) for counts in kinds]}, schema, _batches(batches, schema)  # fmt: skip

    def take(self, name: str, rows: Any) -> None:
        """Nothing is sent to a file of SQLite."""
        raise AssertionError(name)

    def close(self) -> None:
        """Let go of it."""
        with suppress(sqlite3.Error):
            self._connection.close()

    def _refuse_changed(self) -> None:
        if self._still and (_state(self._path) != self._before or os.path.exists(f"{self._path}-wal")):  # noqa: PTH110
            raise sqlite3.OperationalError("another program has begun to write to the file while it was read")


def _state(path: str) -> tuple[int, int, int]:
    found = os.stat(path)  # noqa: PTH116
    return found.st_size, found.st_mtime_ns, found.st_ino


def _refuse_cut_short(path: str, header: bytes) -> None:
    """Raise for a file with fewer pages than its header says: missing pages would read as no rows."""
    page = int.from_bytes(header[16:18], "big")
    pages = int.from_bytes(header[28:32], "big") if header[24:28] == header[92:96] else 0
    if os.stat(path).st_size < pages * (page if page != 1 else 1 << 16):  # noqa: PTH116
        raise CutShortError("The database is cut short: the file ends before its last page.")


def _allowed(action: int, first: str | None, second: str | None, base: str | None, within: str | None) -> int:
    """Whether a step of a statement may be taken: reading may, and nothing else."""
    harmless = (
        action in _READING
        or (action == sqlite3.SQLITE_FUNCTION and second != "load_extension")
        or (action == sqlite3.SQLITE_PRAGMA and first in _DECLARATIONS)
    )
    return sqlite3.SQLITE_OK if harmless else sqlite3.SQLITE_DENY


def _batches(batches: list[Any], schema: Any) -> Iterator[Any]:
    for arrays in batches:
        yield pa.record_batch([_cast(a, t) for a, t in zip(arrays, schema.types, strict=True)], schema=schema)


def _array(values: tuple[Any, ...], kinds: Counter[type]) -> Any:
    """Values that are whole numbers, floats, texts and bytes, each as it is stored, in the type that holds them all."""
    type_ = _whole(kinds)
    if len(kinds) - (type(None) in kinds) > 1 and type_ != pa.float64():
        # What is stored as different things within one column is rare, and read as text: each as it is written.
        values = tuple(map(_as_text, values))
    return pa.array(values, type_)


def _as_text(value: object) -> object:
    return value if value is None or isinstance(value, str | bytes) else repr(value)


def _whole(kinds: Counter[type]) -> Any:
    """The type that holds every value of a column."""
    found = set(kinds) - {type(None)}
    if bytes in found:
        return pa.binary()
    if str in found or not found:
        return pa.string()
    return pa.float64() if float in found else pa.int64()


def _cast(array: Any, type_: Any) -> Any:
    return array if array.type == type_ else array.cast(type_, safe=not pa.types.is_float64(type_))
