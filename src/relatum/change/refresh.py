"""What became of the sources: files, rows, columns, members and totals, before and after."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import msgspec
import pyarrow as pa

from relatum.change.impact import Dependant, Dependencies
from relatum.data.arrow import arrow_type, column_from_arrow, python_values
from relatum.data.table import TableData
from relatum.data.types import Kind, parse_type
from relatum.errors import RelatumError, SourceError
from relatum.model.declaration import Declaration
from relatum.model.graph import kind_of
from relatum.model.names import column_name, quoted
from relatum.pivot.answer import answer
from relatum.pivot.request import ask
from relatum.progress import told
from relatum.session.reading import Whereabouts, load_table, load_tables, reload_tables
from relatum.session.session import Session
from relatum.sources.database import is_server
from relatum.sources.fingerprint import FileState, has_grown
from relatum.sources.place import GROWING, READERS, WORKBOOKS
from relatum.wording import counted, listed

#: Members are remembered by name where there are no more than this.
_MOST_MEMBERS = 2_000
_SAMPLES = 3


class TableState(msgspec.Struct, frozen=True):
    """A table as it was: its files, rows, the types of its columns, and the members of lookups."""

    files: tuple[FileState, ...]
    rows: int
    columns: dict[str, str]
    members: dict[str, list[str]]


class State(msgspec.Struct, frozen=True):
    """A model's data as it was, and what its measures were worth: numbers as text, so that none loses a digit."""

    tables: dict[str, TableState]
    values: dict[str, str | None]


class TableNews(msgspec.Struct, frozen=True):
    """What became of one table. ``what`` is ``same``, ``grown``, ``changed``, ``new`` or ``vanished``."""

    table: str
    what: str
    rows_before: int
    rows_after: int
    files: tuple[str, ...] = ()
    new_columns: tuple[str, ...] = ()
    lost_columns: tuple[str, ...] = ()
    retyped: tuple[str, ...] = ()
    new_members: dict[str, tuple[str, ...]] = {}
    lost_members: dict[str, tuple[str, ...]] = {}


class ValueNews(msgspec.Struct, frozen=True):
    """A measure before and after."""

    name: str
    before: str | None
    after: str | None


class Refreshed(msgspec.Struct, frozen=True):
    """What a refresh found.

    ``problems`` say why the data as it is now cannot be used, ``broken`` what depends on what is gone; then the former
    state is still the one in force. ``unread`` are data files beside the others that no table reads.
    """

    tables: tuple[TableNews, ...]
    values: tuple[ValueNews, ...]
    problems: tuple[str, ...] = ()
    broken: tuple[Dependant, ...] = ()
    first: bool = False
    unread: tuple[str, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether the data as it is now is in force."""
        return not self.problems

    @property
    def changed(self) -> tuple[TableNews, ...]:
        """The tables that are not as they were."""
        return tuple(each for each in self.tables if each.what != "same")

    def __str__(self) -> str:
        return "\n".join(self.lines())

    def lines(self, *, values: bool = True) -> Iterator[str]:
        """The news as lines of text, those of measures among them or not."""
        for problem in self.problems:
            yield f"problem: {problem}"
        for dependant in self.broken:
            yield f"breaks   {dependant.kind} {dependant.name}  ({' <- '.join(dependant.path)})"
        for each in self.tables:
            yield from table_lines(each)
        for value in self.values if values else ():
            yield f"{value.name}: {value.before or 'none'} -> {value.after or 'none'}"
        if self.unread:
            yield f"read by no table: {listed(list(self.unread), 6)}"
        if self.first:
            yield f"nothing to compare with yet: {counted(len(self.tables), 'table')} recorded"
        elif self.ok and not self.changed:
            yield "nothing has changed"
        if not self.ok:
            yield "the former state stays"


def table_lines(news: TableNews) -> Iterator[str]:
    """What became of a table, as lines of text; nothing where it is as it was."""
    if news.what == "same":
        return
    rows = f"{news.rows_before:,} -> {news.rows_after:,} rows"
    yield f"{quoted(news.table)} {news.what}: {rows}" + (f" ({listed(list(news.files), 4)})" if news.files else "")
    for label, names in (("new columns", news.new_columns), ("lost columns", news.lost_columns),
                         ("other types", news.retyped)):  # fmt: skip
        if names:
            yield f"  {label}: {listed(list(names))}"
    for label, members in (("new", news.new_members), ("gone", news.lost_members)):
        for column, names in members.items():
            yield f"  {label} in {column}: {listed(list(names), _SAMPLES)}"


def state_of(session: Session) -> State:
    """A model's data and measures as they are."""
    declaration = session.declaration
    tables = {}
    for name in told(declaration.tables, lambda each: f"recording {each}"):
        table = declaration.tables[name]
        if not table.role_of and not table.per and table.calendar is None:
            tables[name] = _table_state(session, name)
    values = {name: _value(session, name) for name in told(declaration.measures, lambda each: f"recording {each}")}
    return State(tables, values)


def _table_state(session: Session, name: str) -> TableState:
    data = session.data[name]
    members = {}
    if kind_of(session.declaration, name) != "fact":
        for column, type_ in data.types.items():
            if type_.kind is not Kind.TEXT:
                continue
            with suppress(SourceError):  # nobody had asked for it before its file changed
                found = session.store.members(name, column).values
                if len(found) <= _MOST_MEMBERS:
                    members[column] = [str(each) for each in python_values(found)]
    return TableState(data.files, data.rows, {column: str(type_) for column, type_ in data.types.items()}, members)


def _value(session: Session, name: str) -> str | None:
    try:
        value = answer(session, ask(values={name: quoted(name)})).scalar()
    except SourceError:
        return None  # nobody had asked for it before its file changed
    except RelatumError as error:
        return f"cannot be asked: {error.reason}"
    return None if value is None else str(value)


def news(before: State | None, after: State) -> Refreshed:
    """What changed between two states."""
    if before is None:
        tables = tuple(TableNews(name, "new", 0, each.rows) for name, each in after.tables.items())
        return Refreshed(tables, (), first=True)
    names = dict.fromkeys([*before.tables, *after.tables])
    tables = tuple(_table_news(name, before.tables.get(name), after.tables.get(name)) for name in names)
    values = tuple(
        ValueNews(name, before.values.get(name), after.values.get(name))
        for name in dict.fromkeys([*before.values, *after.values])
    )
    return Refreshed(tables, tuple(each for each in values if each.before != each.after))


def _table_news(name: str, before: TableState | None, after: TableState | None) -> TableNews:
    if before is None or after is None:
        what = "vanished" if after is None else "new"
        return TableNews(name, what, before.rows if before else 0, after.rows if after else 0)
    files = tuple(_file_news(before.files, after.files))
    gained = {
        column: tuple(sorted(set(members) - set(before.members[column])))
        for column, members in after.members.items()
        if column in before.members
    }
    gone = {
        column: tuple(sorted(set(members) - set(after.members[column])))
        for column, members in before.members.items()
        if column in after.members
    }
    same_columns = before.columns == after.columns
    if not files and before.rows == after.rows and same_columns and before.members == after.members:
        what = "same"
    elif same_columns and after.rows > before.rows and all(each.endswith((" grown", " new")) for each in files):
        what = "grown"
    else:
        what = "changed"
    return TableNews(
        name,
        what,
        before.rows,
        after.rows,
        files,
        tuple(column for column in after.columns if column not in before.columns),
        tuple(column for column in before.columns if column not in after.columns),
        tuple(
            f"{column}: {before.columns[column]} -> {type_}"
            for column, type_ in after.columns.items()
            if column in before.columns and before.columns[column] != type_
        ),
        {column: members for column, members in gained.items() if members},
        {column: members for column, members in gone.items() if members},
    )


def _file_news(before: tuple[FileState, ...], after: tuple[FileState, ...]) -> Iterator[str]:
    then = {each.path: each for each in before}
    now = {each.path: each for each in after}
    for path in dict.fromkeys([*then, *now]):
        name = Path(path).name
        if path not in now:
            yield f"{name} vanished"
        elif path not in then:
            yield f"{name} new"
        elif then[path].digest != now[path].digest:
            more = now[path].size > then[path].size and Path(path).suffix.lower() in GROWING
            yield f"{name} {'grown' if more and has_grown(Path(path), then[path]) else 'written anew'}"


def refresh(
    declaration: Declaration, whereabouts: Whereabouts, before: State | None, former: Mapping[str, TableData]
) -> tuple[Refreshed, Session | None, State | None]:
    """Read the sources again.

    Parameters
    ----------
    declaration : Declaration
        The model.
    whereabouts : Whereabouts
        Where its sources are looked for.
    before : State or None
        The data as it was; None where nothing was recorded.
    former : mapping of str to TableData
        The tables at hand: what is the same is taken over, and of what has grown only the rest is read.

    Returns
    -------
    tuple
        The news; and the session and state that are now in force, or None and None where the former ones stay.

    Raises
    ------
    RelatumError
        The data cannot be used, and nothing was recorded before that it could be compared with.
    """
    loaded, errors = reload_tables(declaration, whereabouts, former)
    try:
        for error in errors.values():
            raise error
        session = Session(declaration, loaded, joins=whereabouts.cache)
    except RelatumError as error:
        if before is None:
            raise
        loaded |= _as_found(declaration, whereabouts, errors)
        broken = _broken(declaration, whereabouts, before, errors, loaded)
        problems = tuple(str(each) for each in (errors.values() or [error]))
        tables = tuple(_column_news(declaration, before, loaded))
        return Refreshed(tables, (), problems, broken), None, None
    after = state_of(session)
    found = news(before, after)
    return msgspec.structs.replace(found, unread=tuple(_unread(declaration, whereabouts))), session, after


def _as_found(
    declaration: Declaration, whereabouts: Whereabouts, errors: Mapping[str, RelatumError]
) -> dict[str, TableData]:
    """The tables that can still be read once nothing is stated about their columns: to say which columns there are."""
    found = {}
    for name in errors:
        table = declaration.tables[name]
        with suppress(RelatumError):
            there = load_table(replace(table, columns={}), whereabouts).types
            known = {column: each for column, each in table.columns.items() if (each.heading or column) in there}
            found[name] = load_table(replace(table, columns=known), whereabouts)
    return found


def _unread(declaration: Declaration, whereabouts: Whereabouts) -> Iterator[str]:
    """Data files that lie beside those of the model and that no table reads."""
    sources = [
        (whereabouts.folder / table.source)
        for table in declaration.tables.values()
        if table.source and not is_server(table.source)
    ]
    for folder in dict.fromkeys(path.parent for path in sources if path.is_file()):
        for path in sorted(folder.iterdir()):
            # A path matches its own name, a pattern those of several.
            known = any(each.parent == folder and path.match(each.name) for each in sources)
            if path.suffix.lower() in (*READERS, *WORKBOOKS) and not known:
                yield path.name


def _column_news(declaration: Declaration, before: State, loaded: Mapping[str, TableData]) -> Iterator[TableNews]:
    """What is known of the tables while the data cannot be used: rows and columns."""
    for name, was in before.tables.items():
        if name not in declaration.tables:
            continue
        if name not in loaded:
            yield TableNews(name, "vanished", was.rows, 0)
            continue
        data = loaded[name]
        columns = {column: str(type_) for column, type_ in data.types.items()}
        yield _table_news(name, was, TableState(data.files, data.rows, columns, was.members))


def _broken(
    declaration: Declaration,
    whereabouts: Whereabouts,
    before: State,
    errors: Mapping[str, RelatumError],
    loaded: Mapping[str, TableData],
) -> tuple[Dependant, ...]:
    """What depends on the tables and columns that are gone."""
    try:
        dependencies = Dependencies(_as_it_was(declaration, whereabouts, before))
        gone = [quoted(name) for name in errors if name in before.tables and name not in loaded]
        for name, data in loaded.items():
            was = before.tables[name].columns if name in before.tables else {}
            gone += [column_name(name, column) for column in was if column not in data.types]
        found = [each for name in gone for each in dependencies.impact(name).breaks]
    except RelatumError:
        return ()  # the model itself has changed since, and says so
    return tuple(dict.fromkeys(found))


def _as_it_was(declaration: Declaration, whereabouts: Whereabouts, before: State) -> Session:
    """The model over tables with the columns that there were and no rows: enough to know what depends on what."""
    empty = {name: _without_rows(table) for name, table in before.tables.items() if name in declaration.tables}
    return Session(declaration, load_tables(declaration, whereabouts, empty))


def _without_rows(table: TableState) -> TableData:
    types = {column: parse_type(word) for column, word in table.columns.items()}
    return TableData(types, 0, lambda column: column_from_arrow(pa.array([], arrow_type(types[column]))))
