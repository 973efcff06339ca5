"""Edits that all which names a thing follows: other names, removals, and what would break."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from msgspec import structs

from relatum.data.table import TableData
from relatum.face.changing import Stateful, in_turn
from relatum.model.declaration import Declaration, Table
from relatum.session.session import Session

if TYPE_CHECKING:
    from relatum.change.impact import Dependant, Impact


@in_turn
def rename(model: Stateful, name: str, new: str) -> None:
    """Give a table, column, measure or hierarchy another name; everything that names it follows.

    A role's columns have the names of its table's: a new name for one of them is a label of its own, and neither
    the table nor another role is called otherwise.

    Parameters
    ----------
    name : str
        ``sales``, ``sales.quantity``, ``revenue``. A column of a source keeps its heading there.
    new : str
        The new name, without the table's.

    Raises
    ------
    ModelError
        There is nothing of that name, the new one is taken, or a formula would come to mean something else.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)")
    >>> model.rename("sales.quantity", "pieces")
    >>> model.declaration.measures["quantity"].formula
    'sum(sales.pieces)'
    """
    from relatum.change.edits import renamed
    from relatum.change.impact import Dependencies

    declaration = renamed(Dependencies(model._state.known()), name, new)
    known, whereabouts = model._state.known(), model._state.where()
    order = dict(zip(model.declaration.tables, declaration.tables, strict=True))
    frames = {order[table]: frame for table, frame in whereabouts.frames.items()}
    data = {order[table]: data for table, data in known.sources.items()}
    followed = _followed(known, declaration, data)
    model._state.change(declaration, structs.replace(whereabouts, frames=frames), followed)


@in_turn
def remove(model: Stateful, name: str, *, force: bool = False) -> tuple[Dependant, ...]:
    """Remove a table, derived column, relationship, measure, hierarchy or control.

    Parameters
    ----------
    name : str
        ``sales``, ``product.pot_class``, ``sales.product_id -> product.product_id``, ``revenue``, ``control 1``.
    force : bool
        Remove everything that needs it too.

    Returns
    -------
    tuple of Dependant
        What was removed with it.

    Raises
    ------
    ModelError
        There is nothing of that name, or others need it and ``force`` is not said: they are named.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)")
    >>> model.measure("double", "quantity * 2")
    >>> [each.name for each in model.remove("quantity", force=True)]
    ['double']
    """
    from relatum.change.edits import removed
    from relatum.change.impact import Dependencies

    declaration, gone = removed(Dependencies(model._state.known()), name, force)
    model._state.change(declaration)
    return gone


def impact(model: Stateful, name: str) -> Impact:
    """What breaks without a table, column, relationship or measure, and what would be filtered no longer.

    Raises
    ------
    ModelError
        There is nothing of that name.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)")
    >>> [each.name for each in model.impact("sales.quantity").breaks]
    ['quantity']
    """
    from relatum.change.impact import Dependencies

    return Dependencies(model._state.known()).impact(name)


def _followed(session: Session, after: Declaration, data: Mapping[str, TableData]) -> dict[str, TableData]:
    """The data under the names that columns have after a renaming; derived columns are computed again later."""
    followed = {}
    for (_, before), (name, table) in zip(session.declaration.tables.items(), after.tables.items(), strict=True):
        if table.role_of or table.per:
            continue
        old, new = _by_heading(before), _by_heading(table)
        moved = {
            after: former
            for heading, names in new.items()
            for former, after in zip(old.get(heading, [heading]), names, strict=True)
            if former != after
        }
        followed[name] = data[name].renamed(moved) if moved else data[name]
    return followed


def _by_heading(table: Table) -> dict[str, list[str]]:
    """The columns that something is stated of, by the heading that each has in the source."""
    found: dict[str, list[str]] = {}
    for column, each in table.columns.items():
        found.setdefault(each.heading or column, []).append(column)
    return found
