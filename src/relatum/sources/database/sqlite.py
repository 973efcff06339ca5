"""Files of SQLite, opened so that nothing but reading them is possible."""

from __future__ import annotations

import re
import sqlite3
import time
from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from itertools import groupby
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pyarrow as pa

from relatum.data.types import BOOLEAN, DATE, MAX_SCALE, TIMESTAMP, Type, decimal
from relatum.errors import SourceError
from relatum.limits import limit, too_late
from relatum.sources.database.base import Database, DatabaseTable, ForeignKey, gathered, quoted, refusal
from relatum.wording import counted, first_line

#: So many rows are turned into columns at once.
_ROWS = 100_000
#: The database asks after so many steps of its own whether it is to stop.
_STEPS = 100_000
_READING = frozenset({sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_RECURSIVE})
#: The only settings that may be asked for: what the file declares of its tables.
_DECLARATIONS = frozenset({"table_info", "foreign_key_list"})


def open_sqlite(path: Path) -> Database:
    """An open file of SQLite.

    A file beside which another program keeps a log of changes is read together with it; any other is taken to stand
    still.

    Raises
    ------
    SourceError
        It is none.
    """
    log = path.with_name(f"{path.name}-wal")
    still = "" if log.is_file() and log.stat().st_size else "&immutable=1"
    if still:
        _refuse_cut_short(path)
    try:
        connection = sqlite3.connect(f"file:{quote(str(path.resolve()))}?mode=ro{still}", uri=True)
        connection.isolation_level = None
        connection.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
        for setting in ("query_only = on", "trusted_schema = off", "cell_size_check = on"):
            connection.execute(f"pragma {setting}")
        connection.execute("select count(*) from sqlite_master").fetchall()
    except sqlite3.Error as error:
        raise SourceError(f"This is no database that can be read: {error}", path=path) from None
    connection.set_authorizer(_allowed)
    return _SQLite(connection, str(path))


def _refuse_cut_short(path: Path) -> None:
    """Raise a SourceError for a file with fewer pages than its header says: what is not there would read as no rows.

    The header is described under https://www.sqlite.org/fileformat2.html#the_database_header.
    """
    with path.open("rb") as file:
        header = file.read(100)
    page = int.from_bytes(header[16:18], "big")
    pages = int.from_bytes(header[28:32], "big") if header[24:28] == header[92:96] else 0
    if path.stat().st_size < pages * (page if page != 1 else 1 << 16):
        raise SourceError("The database is cut short: the file ends before its last page.", path=path)


def _allowed(action: int, first: str | None, second: str | None, base: str | None, within: str | None) -> int:
    """Whether a step of a statement may be taken: reading may, and nothing else."""
    harmless = (
        action in _READING
        or (action == sqlite3.SQLITE_FUNCTION and second != "load_extension")
        or (action == sqlite3.SQLITE_PRAGMA and first in _DECLARATIONS)
    )
    return sqlite3.SQLITE_OK if harmless else sqlite3.SQLITE_DENY


class _SQLite(Database):
    dialect = "sqlite"

    def tables(self) -> list[DatabaseTable]:
        names = self.records(
            "select name from sqlite_master where type in ('table', 'view') and name not like 'sqlite~_%' escape '~' "
            "order by name"
        )
        bare = {str(each["name"]): self._bare(str(each["name"])) for each in names}
        return [each if each.fault else self._pointing(each, bare) for each in bare.values()]

    def _bare(self, name: str) -> DatabaseTable:
        """A table with its columns and key; what is wrong with it, where it is a view that is broken."""
        try:
            columns = self._pragma("table_info", name)
        except SourceError as error:
            return DatabaseTable(name, (name,), fault=error.reason)
        key = sorted((each for each in columns if each["pk"]), key=lambda each: int(each["pk"]))
        names, keyed = (tuple(str(each["name"]) for each in those) for those in (columns, key))
        return DatabaseTable(name, (name,), names, keyed)

    def _pointing(self, table: DatabaseTable, tables: Mapping[str, DatabaseTable]) -> DatabaseTable:
        """The table with its foreign keys; one that names no columns points to the primary key."""
        links = sorted(
            self._pragma("foreign_key_list", table.name), key=lambda each: (int(each["id"]), int(each["seq"]))
        )
        foreign = []
        for _, group in groupby(links, key=lambda each: each["id"]):
            rows = list(group)
            target = str(rows[0]["table"])
            other = tuple(each["to"] for each in rows if each["to"]) or (tables[target].key if target in tables else ())
            foreign.append(ForeignKey(tuple(each["from"] for each in rows), target, other))
        return replace(table, foreign_keys=tuple(foreign))

    def _pragma(self, what: str, table: str) -> list[dict[str, Any]]:
        """What the file declares of a table: asked so, since the function of this name would have to be written."""
        return self.records(f"pragma {what}({quoted(table)})")

    def declared(self, table: DatabaseTable) -> Mapping[str, Type]:
        rows = self._pragma("table_info", table.name)
        found = {each["name"]: _declared(each["type"]) for each in rows}
        return {name: type_ for name, type_ in found.items() if type_ is not None}

    def answer(self, statement: str, shown: str, parameters: tuple[str, ...] = ()) -> tuple[Any, list[str]]:
        end = time.monotonic() + limit("time")
        self.connection.set_progress_handler(lambda: time.monotonic() > end, _STEPS)
        batches: list[Any] = []
        kinds: list[Counter[type]] = []
        try:
            cursor = self.connection.execute(statement, parameters)
            names = [each[0] for each in cursor.description]
            kinds = [Counter() for _ in names]
            while rows := cursor.fetchmany(_ROWS):
                columns = list(zip(*rows, strict=True))
                found = [Counter(map(type, values)) for values in columns]
                for counts, more in zip(kinds, found, strict=True):
                    counts.update(more)
                batches.append([_array(values, counts) for values, counts in zip(columns, found, strict=True)])
        except pa.ArrowInvalid as error:
            raise SourceError(
                f"Fractions and whole numbers that no float holds stand in one column: {first_line(error)}",
                path=shown,
                fix="Ask a query that casts the column to text or integer.",
            ) from None
        except (sqlite3.Error, sqlite3.Warning) as error:
            if time.monotonic() > end:
                raise too_late(f"{shown}: the database") from None
            if "interrupted" in str(error):
                raise KeyboardInterrupt from None  # the handler above is where Python hears of it
            raise refusal(error, shown) from None
        whole = [_whole(counts) for counts in kinds]
        remarks = [_remark(name, counts) for name, counts in zip(names, kinds, strict=True)]
        # Two columns of a query may have one name: the reader of the table says so.
        schema = pa.schema([pa.field(name, type_) for name, type_ in zip(names, whole, strict=True)])
        made = (
            pa.record_batch([_cast(a, t) for a, t in zip(arrays, whole, strict=True)], schema=schema)
            for arrays in batches
        )
        return gathered(schema, made, shown), [each for each in remarks if each]

    def close(self) -> None:
        self.connection.close()


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


def _remark(name: str, kinds: Counter[type]) -> str:
    """What a person should know of a column in which values of several kinds are stored."""
    numbers = kinds[int] + kinds[float]
    if kinds[bytes] or not (kinds[str] and numbers):
        return ""
    return f"{name}: {counted(numbers, 'number')} among {counted(kinds[str], 'text')}; all are read as text"


def _declared(text: str) -> Type | None:
    """The type that a column of SQLite is declared to have, where its storage does not say so itself."""
    word = text.lower()
    number = re.search(r"(?:decimal|numeric)\s*\(\s*\d+\s*,\s*(\d{1,3})\s*\)", word)
    if number and int(number[1]) <= MAX_SCALE:
        return decimal(int(number[1]))
    if "bool" in word:
        return BOOLEAN
    if "datetime" in word or "timestamp" in word:
        return TIMESTAMP
    return DATE if "date" in word else None
