"""What became of the sources: files, rows, columns, members and totals, before and after."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path

import msgspec
import pyarrow as pa
from msgspec.structs import replace

from relatum.change.impact import Dependant, Dependencies
from relatum.data.arrow import arrow_type, column_from_arrow, python_values
from relatum.data.table import TableData
from relatum.data.types import TEXT, Kind, Type, common_type, parse_type
from relatum.errors import DataError, MissingSourceError, RelatumError, SourceError
from relatum.model.declaration import Declaration, Relationship
from relatum.model.graph import kind_of
from relatum.model.names import column_name, quoted
from relatum.model.routes import hops_of
from relatum.pivot.answer import answer
from relatum.pivot.request import ask
from relatum.runtime.progress import reported
from relatum.session.reading import Whereabouts, load_table, load_tables, reload_tables
from relatum.session.session import Session
from relatum.sources.fingerprint import FileState, has_grown
from relatum.sources.read import GROWING
from relatum.sources.texts import converts
from relatum.wording import counted, listed, sample_text, visible_lines

#: Members are remembered by name where there are no more than this.
_MOST_MEMBERS = 2_000
_SAMPLES = 3
#: How many rows that find nothing are looked at for their keys.
_MOST_ORPHANS = 20_000


class TableState(msgspec.Struct, frozen=True):
    """A table as it was: its files, rows, the types of its columns, and the members of lookups."""

    files: tuple[FileState, ...]
    rows: int
    columns: dict[str, str]
    members: dict[str, list[str]]


class Orphans(msgspec.Struct, frozen=True):
    """How many rows find nothing along a relationship, and some of the keys that are not there."""

    rows: int
    keys: list[str] = []


class State(msgspec.Struct, frozen=True):
    """A model's data as it was, and what its measures were worth: numbers as text, so that none loses a digit."""

    tables: dict[str, TableState]
    values: dict[str, str | None]
    orphans: dict[str, Orphans] = {}


class TableNews(msgspec.Struct, frozen=True):
    """What became of one table.

    ``what`` is ``same``, ``grown``, ``changed``, ``new``, ``unreadable`` or ``vanished``.
    """

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


class OrphanNews(msgspec.Struct, frozen=True):
    """Rows that find nothing along a relationship, before and after, and some keys that were found nowhere new."""

    relationship: str
    before: int
    after: int
    keys: tuple[str, ...] = ()


class ValueNews(msgspec.Struct, frozen=True):
    """A measure before and after, and the format in which it is shown."""

    name: str
    before: str | None
    after: str | None
    format: str = ""


class Refreshed(msgspec.Struct, frozen=True):
    """What a refresh found.

    ``problems`` say why the data as it is now cannot be used, ``broken`` what depends on what is gone; then the former
    state is still the one in force.
    """

    tables: tuple[TableNews, ...]
    values: tuple[ValueNews, ...]
    problems: tuple[str, ...] = ()
    broken: tuple[Dependant, ...] = ()
    first: bool = False
    orphans: tuple[OrphanNews, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether the data as it is now is in force."""
        return not self.problems

    @property
    def changed(self) -> tuple[TableNews, ...]:
        """The tables that are not as they were."""
        return tuple(each for each in self.tables if each.what != "same")

    def __str__(self) -> str:
        return visible_lines("\n".join(self.lines()))

    def lines(self, *, values: bool = True) -> Iterator[str]:
        """The news as lines of text, those of measures among them or not."""
        for problem in self.problems:
            yield f"problem: {problem}"
        for dependant in self.broken:
            yield f"breaks   {dependant.kind} {dependant.name}  ({' <- '.join(dependant.path)})"
        for each in self.tables:
            yield from table_lines(each)
        for orphan in self.orphans:
            shown = f", for instance {listed(list(orphan.keys), _SAMPLES)}" if orphan.keys else ""
            verb = "finds" if orphan.after == 1 else "find"
            yield f"{orphan.relationship}: {orphan.before:,} -> {counted(orphan.after, 'row')} {verb} nothing{shown}"
        for value in self.values if values else ():
            yield f"{value.name}: {value.before or 'none'} -> {value.after or 'none'}"
        if self.first:
            yield f"first refresh: {counted(len(self.tables), 'table')} recorded, nothing to compare yet"
        elif self.ok and not self.changed:
            yield "nothing has changed"
        if not self.ok:
            yield "the previous state is kept"


def table_lines(news: TableNews) -> Iterator[str]:
    """What became of a table, as lines of text; nothing where it is as it was."""
    if news.what == "same":
        return
    if news.what == "unreadable":
        yield f"{quoted(news.table)} unreadable: {counted(news.rows_before, 'row')} before"
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
    for name in reported(declaration.tables, lambda each: f"recording {each}"):
        table = declaration.tables[name]
        if not table.role_of and not table.per and table.calendar is None:
            tables[name] = _table_state(session, name)
    values = {name: _value(session, name) for name in reported(declaration.measures, lambda each: f"recording {each}")}
    return State(tables, values, {str(each): found for each in declaration.relationships
                                  if (found := _orphans(session, each)) is not None})  # fmt: skip


def _orphans(session: Session, related: Relationship) -> Orphans | None:
    """The rows that find nothing along a relationship; None where rows reach several, or nothing was asked so far."""
    hop = hops_of(related)[0]
    if hop.reach:
        return None
    try:
        index = session.store.index(hop)
        keys = session.facts.lost_keys(related, _MOST_ORPHANS) if index.orphans else []
    except (SourceError, DataError):
        return None
    return Orphans(index.orphans, sorted({", ".join(map(sample_text, key)) for key in keys}))


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
        return f"cannot be evaluated: {error.reason}"
    return None if value is None else str(value)


def news(before: State | None, after: State, formats: Mapping[str, str]) -> Refreshed:
    """What changed between two states; ``formats`` are those of the measures."""
    if before is None:
        tables = tuple(TableNews(name, "new", 0, each.rows) for name, each in after.tables.items())
        return Refreshed(tables, (), first=True)
    names = dict.fromkeys([*before.tables, *after.tables])
    tables = tuple(_table_news(name, before.tables.get(name), after.tables.get(name)) for name in names)
    values = tuple(
        ValueNews(name, before.values.get(name), after.values.get(name), formats.get(name, ""))
        for name in dict.fromkeys([*before.values, *after.values])
    )
    orphans = [
        OrphanNews(name, was.rows, now.rows, tuple(key for key in now.keys if key not in was.keys))
        for name, now in after.orphans.items()
        if (was := before.orphans.get(name, Orphans(0))) != now
    ]
    return Refreshed(tables, tuple(each for each in values if each.before != each.after), orphans=tuple(orphans))


def _type_problems(declaration: Declaration, before: State, loaded: Mapping[str, TableData]) -> Iterator[str]:
    """Columns whose values are of another kind than they were, unless the model states which they are."""
    for name, data in loaded.items():
        was, settings = before.tables.get(name), declaration.tables[name].columns
        if was is None:
            continue
        for column, type_ in data.types.items():
            former = parse_type(was.columns.get(column, str(type_)))
            stated = column in settings and settings[column].type
            # Text may have been what a column without values is read as.
            if stated or former in (type_, TEXT) or common_type([former, type_]) is not None:
                continue
            said = f"{column_name(name, column)} was {former} and is {type_} now{_other(data, column, former)}"
            yield f'{said}.\nCorrect the values, or state the type in the model: type = "{type_}".'


def _other(data: TableData, column: str, former: Type) -> str:
    """An example of a text that is not a value of the former type."""
    if data.types[column] != TEXT:
        return ""
    texts = data.column(column).dictionary.slice(0, _MOST_MEMBERS).to_pylist()
    wrong = next((text for text in texts if not converts(text, former)), None)
    return "" if wrong is None else f", for instance {wrong!r}"


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
        table=name,
        what=what,
        rows_before=before.rows,
        rows_after=after.rows,
        files=files,
        new_columns=tuple(column for column in after.columns if column not in before.columns),
        lost_columns=tuple(column for column in before.columns if column not in after.columns),
        retyped=tuple(
            f"{column}: {before.columns[column]} -> {type_}"
            for column, type_ in after.columns.items()
            if column in before.columns and before.columns[column] != type_
        ),
        new_members={column: members for column, members in gained.items() if members},
        lost_members={column: members for column, members in gone.items() if members},
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
            yield f"{name} {'grown' if more and has_grown(Path(path), then[path]) else 'rewritten'}"


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
        problems = tuple(_type_problems(declaration, before, loaded)) if before is not None else ()
        if before is not None and problems:
            return Refreshed(tuple(_column_news(declaration, before, loaded, {})), (), problems), None, None
        session = Session.of(declaration, loaded, joins=whereabouts.cache, place=whereabouts.engine)
    except RelatumError as error:
        if before is None:
            raise
        loaded |= _as_found(declaration, whereabouts, errors)
        broken = _broken(declaration, whereabouts, before, errors, loaded)
        problems = tuple(str(each) for each in (errors.values() or [error]))
        tables = tuple(_column_news(declaration, before, loaded, errors))
        return Refreshed(tables, (), problems, broken), None, None
    after = state_of(session)
    found = news(before, after, {name: each.format for name, each in declaration.measures.items()})
    return found, session, after


def _as_found(
    declaration: Declaration, whereabouts: Whereabouts, errors: Mapping[str, RelatumError]
) -> dict[str, TableData]:
    """The tables that can still be read once nothing is stated about their columns: to say which columns there are."""
    found = {}
    for name in errors:
        table = declaration.tables[name]
        with suppress(RelatumError):
            there = load_table(replace(table, columns={}), declaration, whereabouts).types
            known = {column: each for column, each in table.columns.items() if (each.heading or column) in there}
            found[name] = load_table(replace(table, columns=known), declaration, whereabouts)
    return found


def _column_news(
    declaration: Declaration, before: State, loaded: Mapping[str, TableData], errors: Mapping[str, RelatumError]
) -> Iterator[TableNews]:
    """What is known of the tables while the data cannot be used: rows and columns."""
    for name, was in before.tables.items():
        if name not in declaration.tables:
            continue
        data = loaded.get(name)
        if data is None or (name in errors and not set(was.columns) - set(data.types)):
            what = "vanished" if isinstance(errors.get(name), MissingSourceError) else "unreadable"
            yield TableNews(name, what, was.rows, 0)
            continue
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
        gone = [
            quoted(name) for name, error in errors.items()
            if name in before.tables and name not in loaded and isinstance(error, MissingSourceError)
        ]  # fmt: skip
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
    return Session.of(declaration, load_tables(declaration, whereabouts, empty))


def _without_rows(table: TableState) -> TableData:
    types = {column: parse_type(word) for column, word in table.columns.items()}
    return TableData(types, 0, lambda column: column_from_arrow(pa.array([], arrow_type(types[column]))))
