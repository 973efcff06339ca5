"""Each table's data, from wherever the declaration says it comes."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import TypeVar

from msgspec import Struct, field

from relatum.calendar.generate import generate_calendar
from relatum.data.arrow import not_read, type_of
from relatum.data.columns import Column
from relatum.data.date_patterns import DatePattern, date_pattern, dates_of
from relatum.data.table import TableData
from relatum.data.types import NULL, TEXT, Kind, Type, parse_type
from relatum.errors import ModelError, RelatumError, SourceError
from relatum.model.declaration import ColumnSettings, Declaration, EngineChoice, Table
from relatum.model.names import quoted
from relatum.runtime.limits import in_force
from relatum.runtime.paths import kind_of, leads_outside
from relatum.runtime.progress import reported
from relatum.session.cache import WORTH_BYTES, Cache, NotKeptError, identity_of
from relatum.sources.arrow import read_frame
from relatum.sources.database.kinds import is_database, is_server
from relatum.sources.engines.base import Connection
from relatum.sources.files import PARQUET, plain_file, sentences
from relatum.sources.fingerprint import Digests, FileState, has_grown, refuse_changed
from relatum.sources.held import held
from relatum.sources.read import (
    BY_COLUMN,
    GROWING,
    Source,
    files_in,
    is_folder,
    read_file,
    read_source,
    read_tail,
)
from relatum.sources.remote import RemoteTable
from relatum.sources.stacked import stacked
from relatum.sources.stated import Stated
from relatum.sources.together import together
from relatum.wording import suggestion

T = TypeVar("T")


class Whereabouts(Struct, frozen=True):
    """Where sources are looked for: a folder, frames by table name, and whether a source may leave the folder.

    ``cache`` keeps what was read from large files, where there is one; ``engine`` is where tables live that are not
    read, ``engine_said`` the address of it that the caller, and not the model, names. ``verify`` trusts no metadata.
    """

    folder: Path = field(default_factory=Path.cwd)
    frames: Mapping[str, object] = field(default_factory=dict)
    allow_outside: bool = False
    cache: Cache | None = None
    engine: Connection | None = None
    engine_said: str = ""
    verify: bool = False

    @property
    def within(self) -> Path | None:
        """The folder that no source may lie outside of."""
        return None if self.allow_outside else self.folder


def load_table(
    table: Table, declaration: Declaration, whereabouts: Whereabouts, former: TableData | None = None
) -> TableData:
    """A table's data.

    Parameters
    ----------
    table : Table
        What is stated about it.
    declaration : Declaration
        The model that it is a table of: its locale names months, its time zone says which day a moment is.
    whereabouts : Whereabouts
        Where its source is looked for.
    former : TableData, optional
        Its data as it was read before: what is the same is taken over, and of what has grown only the rest is read.

    Raises
    ------
    SourceError
        The source cannot be read.
    ModelError
        A column's declared type is unknown, or the source lies outside the model's folder.
    """
    with in_force(declaration.bounds):
        return _loaded(table, declaration, whereabouts, former)


def _loaded(table: Table, declaration: Declaration, whereabouts: Whereabouts, former: TableData | None) -> TableData:
    if table.calendar is not None:
        return generate_calendar(table.calendar).identified(identity_of(repr(table.calendar), ()), ())
    if whereabouts.engine is not None and lives_there(table, declaration.engine, whereabouts.folder):
        return _there(table, declaration, whereabouts, whereabouts.engine)
    if not table.source and (table.part or table.query):
        raise ModelError(
            f"{quoted(table.name)} is {table.part or 'a query'} of an engine, but the model is opened in memory.",
            fix='Name the engine: engine = "duckdb" in the model, or --engine in the shell.',
            place=("table", table.name),
        )
    reading = _Reading(table, declaration.locale, declaration.timezone)
    if table.frame and former is not None:
        return former  # a frame is handed over once: a stream of it cannot be read again
    if table.frame:
        return reading.read(lambda stated: read_frame(whereabouts.frames[table.name], stated, table.name))
    path = source_path(table, whereabouts)
    source = Source(table.source, table.part, table.query)

    def read() -> TableData:
        return reading.read(lambda stated: read_source(source, whereabouts.folder, stated, whereabouts.within))

    if path is None or is_database(table.source) or not ("*" in table.source or kind_of(path)):
        return read()
    return _from_files(reading, path, whereabouts, former, read)


def lives_there(table: Table, engine: EngineChoice, folder: Path) -> bool:
    """Whether an engine has a table's rows by itself: a table or query of its own, or Parquet files that it reads."""
    if table.calendar is not None or table.frame or engine.kind == "memory":
        return False
    if (table.part or table.query) and table.source in ("", engine.address):
        return True
    return engine.kind in ("duckdb", "spark") and bool(table.source) and reads_itself(table.source, folder)


def reads_itself(source: str, folder: Path) -> bool:
    """Whether a source is Parquet: a file, or a folder or pattern of such files."""
    if not is_folder(source, folder):
        return source.lower().endswith(PARQUET)
    if "*" in source:
        return Path(source).name.lower().endswith(PARQUET)
    inside = [each for each in sorted((folder / source).iterdir()) if not each.name.startswith((".", "_"))]
    return bool(inside) and all(each.name.lower().endswith(PARQUET) for each in inside)


def parquet_files(table: Table, whereabouts: Whereabouts) -> list[Path]:
    """The Parquet files of a table, none of which leads out of the model's folder."""
    path = source_path(table, whereabouts)
    assert path is not None, "Parquet files have a path"
    if is_folder(table.source, whereabouts.folder):
        return [each.resolve() for each in files_in(path, whereabouts.within)]
    return [plain_file(path).resolve()]


def _there(table: Table, declaration: Declaration, whereabouts: Whereabouts, engine: Connection) -> TableData:
    """A table that stays on the engine: its columns as the engine has them."""
    shown = table.part or table.source or f"the query of {table.name}"
    if table.part or table.query:
        if bool(table.part) == bool(table.query):
            raise SourceError("The table has both part and query.", path=engine.shown, fix="Keep one of them.")
        relation = engine.table(table.part) if table.part else engine.query(table.query, shown)
    else:
        relation = engine.files(parquet_files(table, whereabouts), shown)
    types, headings, markers, left_out = {}, {}, {}, {}
    stated: dict[str, list[tuple[str, ColumnSettings]]] = {}
    for name, each in table.columns.items():
        stated.setdefault(each.heading or name, []).append((name, each))
    for field_ in relation.schema:
        type_ = type_of(field_.type)
        for name, settings in stated.get(field_.name, [(field_.name, ColumnSettings())]):
            if type_ is None:
                left_out[name] = not_read(field_.type)
                continue
            types[name], headings[name] = _stated_there(table, name, settings, type_), field_.name
            markers[name] = (*table.null, *settings.null) if type_ == TEXT else ()
    _check_headings(table, {name: each.heading for name, each in table.columns.items() if each.heading},
                    TableData(dict.fromkeys(headings.values(), TEXT), 0, _no_column))  # fmt: skip
    return RemoteTable(
        types=types,
        relation=relation,
        connection=engine,
        headings=headings,
        markers=markers,
        timezone=declaration.timezone,
        left_out=left_out,
    )


def _no_column(name: str) -> Column:
    raise AssertionError(f"{name} is asked for its name alone")


def _stated_there(table: Table, name: str, settings: ColumnSettings, found: Type) -> Type:
    """The type that the model states of a column on an engine: it may widen what the engine has, no more."""
    stated = _declared(table.name, name, settings.type) if settings.type else found
    numbers = found.numeric and stated.numeric and (stated.kind is Kind.FLOAT or stated.scale >= found.scale)
    days = {found.kind, stated.kind} <= {Kind.DATE, Kind.TIMESTAMP}
    if settings.pattern or not (stated == found or numbers or days):
        raise ModelError(
            f"{name} of {table.name} is {found} on the engine, but the model says {settings.pattern or stated}.",
            fix='Convert it at the source, or in a query: query = "select …".',
            place=("table", table.name, "column", name),
        )
    return stated


def _from_files(
    reading: _Reading, path: Path, whereabouts: Whereabouts, former: TableData | None, read: Callable[[], TableData]
) -> TableData:
    cache = whereabouts.cache
    digests = cache.digests if cache is not None else Digests()
    several = is_folder(reading.table.source, whereabouts.folder)
    files = files_in(path, whereabouts.within) if several else [plain_file(path)]
    # What is read column by column is guarded by its entry anyway; a cache finds what it keeps by the content.
    whole = cache is not None or whereabouts.verify
    with sentences(path):
        states = tuple(
            digests.state(held(each, whereabouts.within), whole or not _is_by_column(each.name)) for each in files
        )
    said = reading.said(path)
    identity = identity_of(said, states)
    if former is not None and former.identity == identity:
        # The same content, perhaps touched since: what is not read yet is read from the files as they are.
        former.files = states
        return former
    worth = cache if sum(each.size for each in states) >= WORTH_BYTES else None
    data = worth.table(identity, states) if worth is not None else None
    if data is None:
        data = _grown(reading, states, former, worth, said, whereabouts.within) or _guarded(read(), states)
        refuse_changed(states)
        data = data.identified(identity, states)
    found = data if worth is None else worth.kept(data, said, read)
    found.by_column = all(_is_by_column(state.path) for state in states)
    return found


def _is_by_column(path: str) -> bool:
    """Whether a file's columns are read one by one."""
    return path.lower().endswith(BY_COLUMN)


def _guarded(data: TableData, states: tuple[FileState, ...]) -> TableData:
    """Data whose columns are read later: from the files as they were, or not at all."""
    if not any(_is_by_column(state.path) for state in states):
        return data

    def unchanged(read: Callable[[str], T], name: str) -> T:
        refuse_changed(guarded.files)
        column = read(name)
        refuse_changed(guarded.files)
        return column

    guarded = data.fetched_by(partial(unchanged, data.column), texts=partial(unchanged, data.texts))
    guarded.files = states
    return guarded


def _grown(
    reading: _Reading,
    states: tuple[FileState, ...],
    former: TableData | None,
    cache: Cache | None,
    said: str,
    within: Path | None,
) -> TableData | None:
    """The rows as they were with those that came after them, where nothing else changed; None where it did."""
    if former is None and cache is not None:
        latest = cache.latest(said)
        if latest is not None:
            former = cache.table(*latest)
            former = None if former is None else cache.kept(former, said, _not_kept)
    before = () if former is None else former.files
    if former is None or not before or len(states) < len(before):
        return None
    same = [old.path == new.path and old.digest == new.digest for old, new in zip(before, states, strict=False)]
    last = states[len(before) - 1]
    if not all(same[:-1]) or before[-1].path != last.path:
        return None
    parts = {"the rows before": former}
    path = held(Path(last.path), within)
    if not same[-1] and (path.suffix.lower() not in GROWING or not has_grown(path, before[-1])):
        return None
    try:
        if not same[-1]:
            tail = reading.tail(path, before[-1].size, former)
            if tail is None:
                return None
            parts[f"{path}, from byte {before[-1].size} on"] = tail
        for state in states[len(before) :]:
            parts[state.path] = reading.read(partial(read_file, held(Path(state.path), within)))
        whole = stacked(parts)
    except SourceError:
        return None  # the whole says what is wrong with it, or that nothing is
    return whole if whole.types == former.types else None


def _not_kept() -> TableData:
    raise NotKeptError("The source has changed since these rows were read.")


class _Reading:
    """How a table's source is read: what the model states of its columns.

    Two columns may be read from one heading, each in its own way: ``layers`` hold the settings of the first of each,
    of the second, and so on, by heading.
    """

    def __init__(self, table: Table, locale: str, timezone: str) -> None:
        self.table = table
        self.timezone = timezone
        self.layers = [_Layer(table, layer, locale, timezone) for layer in _layers(table)]

    def said(self, path: Path) -> str:
        """Where the rows come from and how they are read, as one text."""
        table = self.table
        whole = (str(path.resolve()), table.part, table.null, table.footer, table.headings, self.timezone)
        return repr((whole, [layer.said() for layer in self.layers]))

    def read(self, read: Callable[[Stated], TableData]) -> TableData:
        """The data, with dates read by their patterns and columns under the names that the model gives them."""
        first, *others = [layer.finished(read(layer.stated)) for layer in self.layers]
        return first if not others else _side_by_side(first, others)

    def tail(self, path: Path, start: int, former: TableData) -> TableData | None:
        """The lines that a file has gained; None where they change what the columns are."""
        (layer, *others) = self.layers
        if others or former.remarks:
            return None  # some column is read in a way that follows from all of its values
        types = {}
        for name, type_ in former.types.items():
            heading = layer.headings.get(name, name)
            types[heading] = TEXT if heading in layer.patterns else type_
            column = former.column(name) if type_ == TEXT and heading not in layer.declared else None
            if column is not None and column.null_count == len(column):
                return None  # nothing was known of its type so far
        tail = read_tail(path, start, layer.stated, types)
        return None if tail is None else layer.finished(tail)


def _layers(table: Table) -> list[dict[str, ColumnSettings]]:
    """The settings of columns, so that in each layer a heading is named once."""
    layers: list[dict[str, ColumnSettings]] = [{}]
    for name, each in table.columns.items():
        heading = each.heading or name
        free = next((layer for layer in layers if all((o.heading or n) != heading for n, o in layer.items())), None)
        if free is None:
            free = {}
            layers.append(free)
        free[name] = each
    return layers


def _side_by_side(first: TableData, others: list[TableData]) -> TableData:
    """The same rows read in several ways, with the columns of the first and those that only another has."""
    owners = dict.fromkeys(first.types, first)
    types = dict(first.types)
    for other in others:
        for name, type_ in other.types.items():
            if name not in owners:
                owners[name], types[name] = other, type_
    remarks = dict.fromkeys(remark for each in (first, *others) for remark in each.remarks)
    return TableData(
        types, lambda: first.rows, lambda name: owners[name].column(name), first.left_out, first.orders, list(remarks)
    )


class _Layer:
    """Settings of columns of which no two have one heading."""

    def __init__(self, table: Table, columns: Mapping[str, ColumnSettings], locale: str, timezone: str) -> None:
        self.table, self.timezone = table, timezone
        self.declared = {
            each.heading or name: _declared(table.name, name, each.type) for name, each in columns.items() if each.type
        }
        self.patterns: dict[str, DatePattern] = {}
        for name, each in columns.items():
            if each.pattern:
                self.patterns[each.heading or name] = _pattern(table, name, each, locale, self.declared)
        self.headings = {name: each.heading for name, each in columns.items() if each.heading}
        self.stated = Stated(
            {name: TEXT if name in self.patterns else type_ for name, type_ in self.declared.items()},
            table.null,
            {each.heading or name: each.null for name, each in columns.items() if each.null},
            timezone,
            table.footer,
            table.headings == "numbered",
        )

    def said(self) -> object:
        """How columns are read, for the name of what was read."""
        patterns = {name: each.text for name, each in self.patterns.items()}
        stated = sorted((name, str(type_), patterns.get(name, "")) for name, type_ in self.declared.items())
        return stated, sorted(self.headings.items()), sorted(self.stated.nulls.items())

    def finished(self, data: TableData) -> TableData:
        """The data with dates read by their patterns and columns under the names that the model gives them."""
        if self.patterns:
            data = data.with_types(
                {name: self.declared[name] for name in self.patterns},
                lambda name, column: dates_of(column, self.declared[name], self.patterns[name], self.timezone),
            )
        _check_headings(self.table, self.headings, data)
        return data.renamed(self.headings) if self.headings else data


def _pattern(table: Table, name: str, column: ColumnSettings, locale: str, declared: Mapping[str, Type]) -> DatePattern:
    try:
        pattern = date_pattern(column.pattern, locale)
        if declared.get(column.heading or name, NULL).kind not in (Kind.DATE, Kind.TIMESTAMP):
            raise ModelError(f"{name} has a date pattern but not a date type.", fix='Add type = "date".')
    except ModelError as error:
        error.place = ("table", table.name, "column", name, "pattern")
        raise
    return pattern


def _check_headings(table: Table, headings: Mapping[str, str], data: TableData) -> None:
    for name, heading in headings.items():
        if heading not in data.types:
            reason = f"The source of {table.name} has no column {heading}, called {name} in the model."
            fix = suggestion(heading, data.types, noun="column")
        elif name in data.types and name not in headings.values():
            reason, fix = f"{table.name} already has a column {name}.", f"Give {heading} another name."
        else:
            continue
        raise ModelError(reason, fix=fix, place=("table", table.name, "column", name, "heading"))


def source_path(table: Table, whereabouts: Whereabouts) -> Path | None:
    """The file or folder that a table is read from.

    Parameters
    ----------
    table : Table
        A table with a source.
    whereabouts : Whereabouts
        Where its source is looked for.

    Returns
    -------
    Path or None
        None where the source is a database server.

    Raises
    ------
    ModelError
        It lies outside the model's folder, which the caller has not allowed.
    """
    if is_server(table.source):
        return None
    path = whereabouts.folder / table.source
    if whereabouts.within is not None:
        try:
            outside = leads_outside(path, whereabouts.folder)
        except SourceError as error:
            error.place = ("table", table.name, "source")
            raise
        if outside:
            raise ModelError(
                f"The source {table.source} of table {table.name} lies outside the model's folder.",
                fix="Move the file into the folder, or, from Python, open the model with allow_outside=True.",
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
        fix="Save the model beside its data or, from Python, pass allow_outside=True.",
    )


def load_tables(
    declaration: Declaration, whereabouts: Whereabouts, known: Mapping[str, TableData] | None = None
) -> dict[str, TableData]:
    """The data of every table that has a source.

    Parameters
    ----------
    declaration : Declaration
        The model.
    whereabouts : Whereabouts
        Where its sources are looked for.
    known : mapping of str to TableData, optional
        Tables that have been read already, and are not read again.

    Raises
    ------
    SourceError
        A source cannot be read.
    ModelError
        A column's declared type is unknown, or a source lies outside the model's folder.
    """
    data: dict[str, TableData] = dict(known or {})
    tables = [table for table in declaration.tables.values() if not table.role_of and not table.per]
    missing = [table for table in tables if table.name not in data]
    with together():
        for table in reported(missing, lambda each: f"reading {each.name}"):
            try:
                data[table.name] = load_table(table, declaration, whereabouts)
            except SourceError as error:
                error.place = ("table", table.name)
                raise
    return {table.name: data[table.name] for table in tables}


def reload_tables(
    declaration: Declaration, whereabouts: Whereabouts, former: Mapping[str, TableData]
) -> tuple[dict[str, TableData], dict[str, RelatumError]]:
    """Every table that has a source, read again where its source has changed; and the errors of those that fail."""
    loaded: dict[str, TableData] = {}
    errors: dict[str, RelatumError] = {}
    tables = [table for table in declaration.tables.values() if not table.role_of and not table.per]
    with together():
        for table in reported(tables, lambda each: f"reading {each.name}"):
            try:
                loaded[table.name] = load_table(table, declaration, whereabouts, former.get(table.name))
            except RelatumError as error:
                errors[table.name] = error
    return loaded, errors


def _declared(table: str, column: str, word: str) -> Type:
    try:
        return parse_type(word)
    except ModelError as error:
        error.place = ("table", table, "column", column, "type")
        raise
