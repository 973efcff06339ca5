"""Edits of existing tables and columns: keys, types, labels, texts that mean null, what is hidden."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec import structs

from relatum.errors import ModelError
from relatum.face.changing import Stateful, in_turn
from relatum.model.declaration import ColumnSettings, frozen
from relatum.model.file import texts_in
from relatum.model.names import quoted, split_name
from relatum.present.patterns import check_column_pattern

#: What is stated of columns and tables that decides how their rows are read.
_READ = frozenset(("type", "pattern", "null", "heading", "footer"))


@in_turn
def column(
    model: Stateful,
    name: str,
    *,
    type: str | None = None,
    label: str | None = None,
    order_by: str | None = None,
    about: str | None = None,
    pattern: str | None = None,
    null: str | Sequence[str] | None = None,
    format: str | None = None,
    hidden: bool | None = None,
) -> None:
    """Set properties of a column; those not given stay unchanged, and an empty text removes one.

    Parameters
    ----------
    name : str
        ``table.column``.
    type : str, optional
        What it is read as: ``integer``, ``decimal(2)``, ``float``, ``text``, ``boolean``, ``date``, ``timestamp``.
    label : str, optional
        The heading in grids. A role's column has one of its own.
    order_by : str, optional
        The column of its table that its members are sorted by.
    about : str, optional
        What it means.
    pattern : str, optional
        How its dates are written in the source: ``dd/MM/yyyy``.
    null : str or list of str, optional
        The texts that mean null in it.
    format : str, optional
        How its members are formatted.
    hidden : bool, optional
        Formulas can name it, and no list for people has it.

    Raises
    ------
    ModelError, SourceError
        There is no such column, or its values are not what is said of them.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "ivy"], "weight": [2, 4]}))
    >>> model.column("sales.weight", type="decimal(1)", label="Weight in kg")
    >>> model.declaration.label("sales", "weight")
    'Weight in kg'
    """
    parts = split_name(name)
    if len(parts) != 2:
        raise ModelError(f"{name} is not a column.", fix="Write table.column.")
    table, column = parts
    described = model.declaration.table(table)
    texts = None if null is None else texts_in(null)
    said = {"type": type, "label": label, "order_by": order_by, "about": about, "pattern": pattern, "null": texts,
            "format": format, "hidden": hidden}  # fmt: skip
    given: dict[str, Any] = {word: value for word, value in said.items() if value is not None}
    besides = next((word for word in given if word != "label"), "") if described.role_of else ""
    if besides:
        raise ModelError(
            f"{quoted(table)} is a role of {described.role_of}, so {column} can have its own label but no {besides}.",
            fix=f"Set it on {described.role_of}.{column}.",
        )
    if column in described.derived and given.keys() & _READ:
        word = next(word for word in given if word in _READ)
        raise ModelError(
            f"{name} is a derived column, so it cannot have {word}.", fix="Change its formula with derive."
        )
    if format:
        check_column_pattern(format, table, column)
    settings = structs.replace(described.columns.get(column, ColumnSettings()), **given)
    columns = {**described.columns, column: settings}
    if settings == ColumnSettings():
        del columns[column]
    _put_stated(model, structs.replace(described, columns=frozen(columns)), given)


@in_turn
def table(
    model: Stateful,
    name: str,
    *,
    key: str | Sequence[str] | None = None,
    about: str | None = None,
    label: str | None = None,
    null: str | Sequence[str] | None = None,
    footer: int | None = None,
    calendar: bool | None = None,
) -> None:
    """Set properties of a table; those not given stay unchanged, and an empty text or list removes one.

    Parameters
    ----------
    name : str
        The table.
    key : str or list of str, optional
        The columns that make a row unique.
    about : str, optional
        What one row is.
    label : str, optional
        For a role: the prefix of its columns' headings.
    null : str or list of str, optional
        The texts that mean null.
    footer : int, optional
        The number of lines at the end of a text file that are not rows.
    calendar : bool, optional
        Its key is a date, and formulas can move along it.

    Raises
    ------
    ModelError, SourceError
        There is no such table, or its rows are not what is said of them.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("product", pa.table({"product": ["fig", "ivy"]}))
    >>> model.table("product", key="product", about="What the stall sells")
    >>> model.declaration.tables["product"].key
    ('product',)
    """
    described = model.declaration.table(name)
    lists = {"key": key, "null": null}
    said = {word: None if value is None else texts_in(value) for word, value in lists.items()}
    said |= {"about": about, "label": label, "footer": footer, "dated": calendar}  # type: ignore[dict-item]
    given: dict[str, Any] = {word: value for word, value in said.items() if value is not None}
    if label and not described.role_of:
        raise ModelError(
            f"{quoted(name)} is not a role, so it cannot have a label.",
            fix="Only columns and roles can have labels.",
        )
    _put_stated(model, structs.replace(described, **given), given)


def _put_stated(model: Stateful, table: Any, given: dict[str, Any]) -> None:
    """Put a table in its own place; its rows are read again where they are read otherwise now."""
    known = model._state.sources_now()
    if given.keys() & _READ:
        known = {name: data for name, data in known.items() if name != table.name}
    model._state.change(model.declaration.with_table(table, replacing=True), known=known)
