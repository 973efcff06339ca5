"""Which combinations of columns there are: of one lookup chain as they occur, of different chains freely."""

from __future__ import annotations

from collections.abc import Sequence

from relatum.language.catalog import Catalog
from relatum.model.names import ColumnKey
from relatum.plan.bounds import Bounder
from relatum.plan.context import Context
from relatum.plan.nodes import Match, Visible


def visible_members(catalog: Catalog, columns: Sequence[ColumnKey], keys: Sequence[int], context: Context) -> Visible:
    """The visible combinations of columns, held by these keys."""
    parts = []
    for owner, positions in grain_owners(catalog, columns, context).items():
        bounded = Bounder(catalog, context).bounded(owner)
        matches = tuple(own_match(catalog, owner, columns[at], keys[at], context) for at in positions)
        parts.append((bounded.bounds, matches))
    return Visible(tuple(parts))


def grain_owners(catalog: Catalog, columns: Sequence[ColumnKey], context: Context) -> dict[str, list[int]]:
    """The tables on whose rows members are seen, each the finest of its chain, with the positions of their columns."""
    catalog = catalog.opening(context.opened)
    tables = list(dict.fromkeys(table for table, _ in columns))

    def finds(start: str, other: str) -> bool:
        routes = [catalog.filter(other, frozenset([column]), start) for table, column in columns if table == other]
        return all(route is not None and not any(hop.reach for hop in route) for route in routes)

    finest = [
        table
        for at, table in enumerate(tables)
        if not any(
            other != table and finds(other, table) and not (finds(table, other) and tables.index(other) > at)
            for other in tables
        )
    ]
    owners: dict[str, list[int]] = {}
    for at, (own, _) in enumerate(columns):
        owner = next(table for table in finest if table == own or finds(table, own))
        owners.setdefault(owner, []).append(at)
    return owners


def own_match(catalog: Catalog, owner: str, column: ColumnKey, key: int, context: Context) -> Match:
    """How a row of the owner has a member of a column."""
    route = catalog.opening(context.opened).filter(column[0], frozenset([column[1]]), owner)
    assert route is not None, "an owner finds its columns"
    return Match(key, (), route, *column)
