"""Each table's data, from wherever the declaration says it comes."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from relatum.calendar.generate import generate_calendar
from relatum.data.table import TableData
from relatum.data.types import DATE, TEXT, TIMESTAMP, Type, parse_type
from relatum.data.written import date_format, dates_of
from relatum.errors import ModelError, SourceError, suggestion
from relatum.model.declaration import Declaration, Table
from relatum.progress import told
from relatum.sources.arrow import read_frame
from relatum.sources.database import is_server
from relatum.sources.place import Source, read_source


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
    declared = {
        each.heading or name: _declared(table.name, name, each.type)
        for name, each in table.columns.items()
        if each.type
    }
    patterns = {each.heading or name: each.pattern for name, each in table.columns.items() if each.pattern}
    for name in patterns:
        _check_pattern(table, name, patterns[name], declared.get(name))
    types = {name: TEXT if name in patterns else type_ for name, type_ in declared.items()}
    if table.frame:
        data = read_frame(whereabouts.frames[table.name], types, table.name)
    else:
        source_path(table, whereabouts)
        data = read_source(Source(table.source, table.part, table.query), whereabouts.folder, types)
    if patterns:
        data = data.with_types(
            {name: declared[name] for name in patterns},
            lambda name, column: dates_of(column, declared[name], patterns[name]),
        )
    headings = {name: each.heading for name, each in table.columns.items() if each.heading}
    _check_headings(table, headings, data)
    return data.renamed(headings) if headings else data


def _check_pattern(table: Table, name: str, pattern: str, type_: Type | None) -> None:
    try:
        date_format(pattern)
        if type_ not in (DATE, TIMESTAMP):
            raise ModelError(f"{name} has a pattern of dates and no such type.", fix='State type = "date" with it.')
    except ModelError as error:
        error.place = ("table", table.name, "column", name, "pattern")
        raise


def _check_headings(table: Table, headings: Mapping[str, str], data: TableData) -> None:
    for name, heading in headings.items():
        if heading not in data.types:
            reason = f"The source of {table.name} has no column {heading}, which the model calls {name}."
            fix = suggestion(heading, data.types, noun="column")
        elif name in data.types and name not in headings.values():
            reason, fix = f"{name} is a column of {table.name} already.", f"Give {heading} another name."
        else:
            continue
        raise ModelError(reason, fix=fix, place=("table", table.name, "column", name, "heading"))


def source_path(table: Table, whereabouts: Whereabouts) -> Path | None:
    """The file or folder that a table is read from; None where it is a database server.

    Raises
    ------
    ModelError
        It lies outside the model's folder, and none of that is allowed.
    """
    if is_server(table.source):
        return None
    path = whereabouts.folder / table.source
    if not whereabouts.allow_outside and not path.resolve().is_relative_to(whereabouts.folder.resolve()):
        raise ModelError(
            f"The source {table.source} of table {table.name} lies outside the model's folder.",
            fix="Move the file, or open the model with allow_outside=True.",
            place=("table", table.name, "source"),
        )
    return path


def relative_source(source: Path, target: Path, table: str, allow_outside: bool) -> str:
    """A source as a model file names it: relative to that file; a ModelError where it may not lie where it does."""
    folder = target.resolve().parent
    if source.resolve().is_relative_to(folder):
        return source.resolve().relative_to(folder).as_posix()
    if allow_outside:
        return Path(os.path.relpath(source.resolve(), folder)).as_posix()
    raise ModelError(
        f"The source {source} of table {table} lies outside the folder of {target}.",
        fix="Save the model beside its data, or pass allow_outside=True.",
    )


def load_tables(
    declaration: Declaration, whereabouts: Whereabouts, known: Mapping[str, TableData] | None = None
) -> dict[str, TableData]:
    """The data of every table that has a source; what is ``known`` already is not read again."""
    data: dict[str, TableData] = dict(known or {})
    tables = [table for table in declaration.tables.values() if not table.role_of and not table.per]
    missing = [table for table in tables if table.name not in data]
    for table in told(missing, lambda each: f"reading {each.name}"):
        try:
            data[table.name] = load_table(table, whereabouts)
        except SourceError as error:
            error.place = ("table", table.name)
            raise
    return {table.name: data[table.name] for table in tables}


def _declared(table: str, column: str, word: str) -> Type:
    try:
        return parse_type(word)
    except ModelError as error:
        error.place = ("table", table, "column", column, "type")
        raise
