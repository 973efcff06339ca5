"""A model's tables for other programs: a Data Package descriptor, or SQL that creates them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from relatum.data.keys import unmatched_rows
from relatum.data.table import TableData
from relatum.data.types import Kind, Type
from relatum.errors import ModelError
from relatum.model.declaration import Declaration, End, Relationship
from relatum.model.names import quoted
from relatum.sources.database.base import ForeignKey
from relatum.sources.database.kinds import is_database
from relatum.sources.datapackage import Resource, package_document
from relatum.wording import counted, visible

_SQL = {
    Kind.INTEGER: "bigint",
    Kind.FLOAT: "double precision",
    Kind.TEXT: "text",
    Kind.BOOLEAN: "boolean",
    Kind.DATE: "date",
    Kind.TIMESTAMP: "timestamp",
    Kind.NULL: "text",
}


def datapackage(declaration: Declaration, data: Mapping[str, TableData], sources: Mapping[str, str]) -> dict[str, Any]:
    """The descriptor of a Data Package: every table that is a file, with its key and foreign keys.

    Parameters
    ----------
    declaration, data
        The model.
    sources : dict of str to str
        The file of each table, relative to where the descriptor is.

    Raises
    ------
    ModelError
        No table is a file.
    """
    resources, types = [], {}
    for name, table in declaration.tables.items():
        if name not in sources or is_database(sources[name]) or table.part:
            continue
        headings = {column: each.heading for column, each in table.columns.items() if each.heading}
        own = data[name].types
        types[name] = {headings.get(column, column): type_ for column, type_ in own.items()}
        keys = [each for each in _foreign_keys(declaration) if each.many.table == name and each.one.table in sources]
        resources.append(
            Resource(
                name=name,
                path=sources[name],
                about=table.about,
                types={},
                labels={
                    headings.get(column, column): each.label for column, each in table.columns.items() if each.label
                },
                key=tuple(headings.get(column, column) for column in table.key),
                foreign_keys=tuple(
                    ForeignKey(_headings(declaration, each.many), each.one.table, _headings(declaration, each.one))
                    for each in keys
                ),
            )
        )
    if not resources:
        raise ModelError("No table of this model comes from a file.", fix="A Data Package describes files.")
    return package_document(declaration.name, resources, types)


def _headings(declaration: Declaration, end: End) -> tuple[str, ...]:
    """The columns of an end as the source names them."""
    settings = declaration.tables[end.table].columns
    return tuple(settings[each].heading or each if each in settings else each for each in end.columns)


def _foreign_keys(declaration: Declaration) -> list[Relationship]:
    """The relationships that a foreign key can say: to a unique key, matched by equality."""
    return [
        each
        for each in declaration.relationships
        if each.kind != "many_to_many" and not each.level and each.match == "equal"
    ]


def create_tables(declaration: Declaration, data: Mapping[str, TableData]) -> str:
    """SQL ``create table`` statements for every table, in an order in which keys are before what points to them."""
    return "\n".join(_statements(declaration, data))


def _statements(declaration: Declaration, data: Mapping[str, TableData]) -> Iterator[str]:
    foreign = [each for each in _foreign_keys(declaration) if each.many.table != each.one.table]
    # A role of a table is the same rows: a foreign key points to those.
    pending = [name for name, table in declaration.tables.items() if not table.role_of]
    done: list[str] = []
    while pending:
        waiting = {
            declaration.rows_of(each.many.table) for each in foreign if declaration.rows_of(each.one.table) not in done
        }
        free = [name for name in pending if name not in waiting]
        # In a circle of one-to-one pairs any may be first; its foreign key is then left to the other side.
        name = (free or pending)[0]
        pending.remove(name)
        yield from _statement(
            declaration, data, name, [each for each in foreign if declaration.rows_of(each.one.table) in done]
        )
        done.append(name)


def _statement(
    declaration: Declaration, data: Mapping[str, TableData], name: str, foreign: list[Relationship]
) -> Iterator[str]:
    table = declaration.tables[name]
    types = data[name].types
    nullable = {column for column in types if data[name].column(column).null_count}
    lines = [
        f"    {_named(column)} {_sql_type(type_)}{'' if column in nullable else ' not null'}"
        for column, type_ in types.items()
    ]
    if table.key and not nullable & set(table.key):
        lines.append(f"    primary key ({', '.join(map(_named, table.key))})")
    targets = {each.one.columns for each in _foreign_keys(declaration) if declaration.rows_of(each.one.table) == name}
    lines += [f"    unique ({', '.join(map(_named, each))})" for each in sorted(targets) if each != table.key]
    if table.about:
        # A line break would end the comment, and what follows it would be run.
        yield from (f"-- {visible(line)}" for line in table.about.splitlines())
    for each in foreign:
        if declaration.rows_of(each.many.table) == name:
            said, lost = _reference(declaration, data, each)
            if lost:
                # A database would refuse those rows: what it cannot promise is as a comment.
                yield f"-- {counted(lost, 'row')} violate it: {visible(said)}"
            else:
                lines.append(f"    {said}")
    yield f"create table {_named(name)} (\n" + ",\n".join(lines) + "\n);\n"


def _reference(declaration: Declaration, data: Mapping[str, TableData], related: Relationship) -> tuple[str, int]:
    """A foreign key in SQL, and how many rows it does not hold for."""
    many, one = (", ".join(map(_named, end.columns)) for end in (related.many, related.one))
    target = _named(declaration.rows_of(related.one.table))
    sides = [[data[end.table].column(each) for each in end.columns] for end in (related.many, related.one)]
    _, lost = unmatched_rows(related, *sides)
    return f"foreign key ({many}) references {target} ({one})", lost


def _sql_type(type_: Type) -> str:
    if type_.kind is Kind.DECIMAL:
        return f"decimal(18, {type_.scale})"
    return _SQL[type_.kind]


def _named(name: str) -> str:
    plain = quoted(name) == name and name not in _RESERVED
    return name if plain else '"' + name.replace('"', '""') + '"'


#: Words that SQL keeps for itself and formulas do not.
_RESERVED = frozenset(
    "all any array as asc both by cast check collate column constraint create cross current_date current_user default "
    "desc do else except fetch for foreign from full grant group having inner intersect into join leading left limit "
    "natural offset only order outer primary references returning right select session_user set some table then "
    "to trailing union unique user using values when where window with".split()
)
