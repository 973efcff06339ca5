"""Files of SQLite: what they declare of their tables."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping
from itertools import groupby
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from relatum.data.types import BOOLEAN, DATE, MAX_SCALE, TIMESTAMP, Type, decimal
from relatum.errors import SourceError
from relatum.sources.apart.process import Apart, Refused
from relatum.sources.database.base import Database, DatabaseTable, ForeignKey, gathered, quoted, refusal
from relatum.wording import counted, first_line


def open_sqlite(path: Path) -> Database:
    """An open SQLite file, read by a separate process.

    It is locked as SQLite locks what it reads; one that another program keeps busy, or has left half written, is
    refused.

    Raises
    ------
    SourceError
        It is not a SQLite file, or it cannot be read now.
    """
    apart = Apart("sqlite", {"path": str(path.resolve())}, str(path))
    try:
        apart.open()
    except Refused as error:
        raise _unreadable(error, path) from None
    return _SQLite(apart, str(path))


def _unreadable(error: Refused, path: Path) -> SourceError:
    text = str(error)
    if error.kind == "CutShortError":
        return SourceError(text, path=path)
    if "locked" in text:
        return SourceError(
            "Another program is writing to the database.", path=path, fix="Wait until it has finished, or read a copy."
        )
    if "readonly" in text or (error.kind == "OperationalError" and path.with_name(f"{path.name}-journal").exists()):
        return SourceError(
            "A program was interrupted while writing to this database, so its changes are incomplete.",
            path=path,
            fix="Open it once with a program that can write to it: that undoes them.",
        )
    return SourceError(f"This database cannot be read: {text}", path=path)


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
        """A table with its columns and key, or the fault of a broken view."""
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
        def gather(schema: Any, batches: Iterable[Any]) -> Any:
            return gathered(schema, batches, shown)

        try:
            facts, table = self.connection.answer(statement, parameters, gather, f"{self.shown}: the database")
        except Refused as error:
            if error.kind == "ArrowInvalid":
                raise SourceError(
                    f"One column mixes fractions with whole numbers too large for a float: {first_line(error)}",
                    path=shown,
                    fix="Use a query that casts the column to text or integer.",
                ) from None
            raise refusal(error, shown) from None
        counts = [Counter(dict(zip(*each, strict=True))) for each in zip(facts["kinds"], facts["counts"], strict=True)]
        remarks = [_remark(name, each) for name, each in zip(table.column_names, counts, strict=True)]
        return table, [each for each in remarks if each]

    def close(self) -> None:
        self.connection.close()


def _remark(name: str, kinds: Counter[str]) -> str:
    """What a person should know of a column in which values of several kinds are stored."""
    numbers = kinds["int"] + kinds["float"]
    if kinds["bytes"] or not (kinds["str"] and numbers):
        return ""
    return f"{name}: {counted(numbers, 'number')} among {counted(kinds['str'], 'text')}; all are read as text"


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
