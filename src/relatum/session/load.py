"""Each table's data, from wherever the declaration says it comes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from relatum.calendar.generate import generate_calendar
from relatum.data.table import TableData
from relatum.data.types import Type, parse_type
from relatum.errors import ModelError, SourceError
from relatum.model.declaration import Declaration, Table
from relatum.sources.arrow import read_frame
from relatum.sources.files import read_file


@dataclass(frozen=True, slots=True)
class Whereabouts:
    """Where sources are looked for: a folder, frames by table name, and whether a source may leave the folder."""

    folder: Path = field(default_factory=Path.cwd)
    frames: Mapping[str, object] = field(default_factory=dict)
    allow_outside: bool = False


def load_table(table: Table, whereabouts: Whereabouts) -> TableData:
    """A table's data.

    Raises
    ------
    SourceError
        The source cannot be read.
    ModelError
        A column's declared type is none, or the source lies outside the model's folder.
    """
    if table.calendar is not None:
        return generate_calendar(table.calendar)
    types = {
        name: _declared(table.name, name, settings.type) for name, settings in table.columns.items() if settings.type
    }
    if table.frame:
        return read_frame(whereabouts.frames[table.name], types, table.name)
    path = source_path(table, whereabouts)
    return read_file(path, types)


def source_path(table: Table, whereabouts: Whereabouts) -> Path:
    """The file that a table is read from."""
    path = whereabouts.folder / table.source
    if not whereabouts.allow_outside and not path.resolve().is_relative_to(whereabouts.folder.resolve()):
        raise ModelError(
            f"The source {table.source} of table {table.name} lies outside the model's folder.",
            fix="Move the file, or open the model with allow_outside=True.",
            place=("table", table.name, "source"),
        )
    return path


def load_tables(
    declaration: Declaration, whereabouts: Whereabouts, known: Mapping[str, TableData] | None = None
) -> dict[str, TableData]:
    """The data of every table that has a source; what is ``known`` already is not read again."""
    data: dict[str, TableData] = dict(known or {})
    for name, table in declaration.tables.items():
        if name not in data and not table.role_of and not table.per:
            try:
                data[name] = load_table(table, whereabouts)
            except SourceError as error:
                error.place = ("table", name)
                raise
    return {name: data[name] for name, table in declaration.tables.items() if not table.role_of and not table.per}


def _declared(table: str, column: str, word: str) -> Type:
    try:
        return parse_type(word)
    except ModelError as error:
        error.place = ("table", table, "column", column, "type")
        raise
