"""A model as a graph: tables as nodes, relationships as edges, with all that a drawing of it shows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct

from relatum.model.declaration import Declaration, Relationship

TableKind = Literal["fact", "lookup", "calendar", "derived", "alone"]


class Node(Struct, frozen=True):
    """A table: its kind, the columns at which relationships end (and the levels among them), its rows if known.

    ``role_of`` is the table whose rows it shows under another name.
    """

    name: str
    kind: TableKind
    columns: tuple[str, ...]
    levels: frozenset[str]
    rows: int | None
    role_of: str = ""


class Edge(Struct, frozen=True):
    """A relationship between columns of two tables.

    ``ends`` are the marks of its left and right end: ``n`` and ``1``. ``filters`` says where filters travel: ``right``
    to ``left`` is ``left``, ``both``, or empty where none do.
    """

    left: str
    left_columns: tuple[str, ...]
    right: str
    right_columns: tuple[str, ...]
    ends: tuple[str, str]
    filters: str
    standby: bool
    note: str


class Graph(Struct, frozen=True):
    """All nodes and edges of a model."""

    name: str
    nodes: tuple[Node, ...]
    edges: tuple[Edge, ...]


def kind_of(declaration: Declaration, name: str) -> TableKind:
    """What a table is: ``fact``, ``lookup``, ``calendar``, ``derived`` or ``alone`` (related to no other).

    A table that is looked up in its roles alone is a lookup too.
    """
    table = declaration.tables[declaration.rows_of(name)]
    if table.calendar is not None or table.dated:
        return "calendar"
    if declaration.tables[name].per:
        return "derived"
    related = [each for each in declaration.relationships if name in (each.many.table, each.one.table)]
    plain = [each for each in related if each.kind == "many_to_one"]
    paired = any(each.kind == "one_to_one" for each in related)
    roles = {each.name for each in declaration.tables.values() if each.role_of == name}
    if any(each.one.table == name for each in plain) or (paired and not plain):
        return "lookup"
    if not related and any(each.one.table in roles for each in declaration.relationships):
        return "lookup"
    return "fact" if related else "alone"


def graph_of(declaration: Declaration, rows: Mapping[str, int] | None = None) -> Graph:
    """The graph of a model.

    Parameters
    ----------
    declaration : Declaration
        The model.
    rows : mapping of str to int, optional
        How many rows each table has.
    """
    columns: dict[str, dict[str, None]] = {
        name: dict.fromkeys(declaration.tables[declaration.rows_of(name)].key) for name in declaration.tables
    }
    levels: dict[str, set[str]] = {name: set() for name in declaration.tables}
    for each in declaration.relationships:
        for end in (each.many, each.one):
            columns[end.table].update(dict.fromkeys(end.columns))
        if each.level:
            levels[each.one.table].update(each.one.columns)
    nodes = tuple(
        Node(
            name,
            kind_of(declaration, name),
            tuple(columns[name]),
            frozenset(levels[name]),
            None if rows is None else rows.get(name),
            declaration.tables[name].role_of,
        )
        for name in declaration.tables
    )
    return Graph(declaration.name, nodes, tuple(map(_edge, declaration.relationships)))


def _edge(each: Relationship) -> Edge:
    ends = {"many_to_one": ("n", "1"), "one_to_one": ("1", "1"), "many_to_many": ("n", "n")}[each.kind]
    filters = {"down": "left", "off": "", "both": "both", "left": "left", "right": "right"}[each.direction]
    if each.kind == "one_to_one" and filters == "left":
        filters = "both"
    note = "as of" if each.match == "as_of" else "level" if each.level else ""
    return Edge(
        left=each.many.table,
        left_columns=each.many.columns,
        right=each.one.table,
        right_columns=each.one.columns,
        ends=ends,
        filters=filters,
        standby=each.standby,
        note=note,
    )
