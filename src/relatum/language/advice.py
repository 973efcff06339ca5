"""What to write instead, made of the model's and the formula's own names."""

from __future__ import annotations

import re
from typing import assert_never

from relatum.data.types import Kind, Type
from relatum.language.catalog import Catalog
from relatum.language.register import PERIODS
from relatum.model.names import column_name, quoted, split_name

LABELS = "A label goes before the formula, with a colon: label: formula."


def comparison(type_: Type, text: str) -> str:
    """A condition on a value: what a bare value is made into.

    Examples
    --------
    >>> from relatum.data.types import TEXT
    >>> comparison(TEXT, "store.town")
    "store.town = '…'"
    """
    match type_.kind:
        case Kind.INTEGER | Kind.DECIMAL | Kind.FLOAT:
            return f"{text} > 0"
        case Kind.TEXT:
            return f"{text} = '…'"
        case Kind.DATE:
            return f"{text} >= date '2024-01-01'"
        case Kind.TIMESTAMP:
            return f"{text} >= timestamp '2024-01-01 00:00:00'"
        case Kind.BOOLEAN | Kind.NULL:
            return f"{text} is not null"
        case _:
            assert_never(type_.kind)


def written_with(signatures: str, value: str, catalog: Catalog) -> str:
    """How a function is written, with the value that it was given and members that the model has."""
    found = re.sub(r"\bamong \w+", lambda _: f"among {example_grain(catalog)}", signatures)
    if not value:
        return found
    order = value if "among" in found else _order_beside(value, catalog)
    found = re.sub(r"\bx\b", lambda _: value, found)
    return re.sub(r"\bby y\b", lambda _: f"by {order}", found)


def _order_beside(value: str, catalog: Catalog) -> str:
    """What rows are ordered by: a day in the table of the column that is there, where it has one, else itself."""
    (table, *_) = split_name(value) or ("",)
    columns = catalog.columns(table) if table in catalog.declaration.tables else {}
    days = (each for each in columns if columns[each].kind in (Kind.DATE, Kind.TIMESTAMP))
    return next((column_name(table, each) for each in days), value)


def telling_columns(catalog: Catalog, table: str) -> list[str]:
    """Columns of a table that an axis would take: periods of a calendar, texts of another, else any."""
    described = catalog.declaration.tables[catalog.declaration.rows_of(table)]
    links = [each.many.columns for each in catalog.declaration.relationships if each.many.table == table]
    linked = {column for columns in links for column in columns}
    names = catalog.shown(table) or list(catalog.columns(table))
    columns = [each for each in names if each not in described.key and each not in linked] or names
    if catalog.is_calendar(table):
        return [each for each in columns if each in PERIODS] or columns
    return [each for each in columns if catalog.columns(table)[each].kind is Kind.TEXT] or columns


def example_grain(catalog: Catalog) -> str:
    """A table whose members an example can name: one that others look up, by a key, and no calendar; else a column."""
    tables = catalog.declaration.tables
    looked_up = [each.one.table for each in catalog.declaration.relationships if each.kind == "many_to_one"]
    keyed = [name for name in (*looked_up, *tables) if tables[catalog.declaration.rows_of(name)].key]
    table = next((name for name in keyed if not catalog.is_calendar(name)), "")
    columns = [column_name(name, column) for name in tables for column in catalog.shown(name)]
    return quoted(table) if table else next(iter(columns), "table.column")
