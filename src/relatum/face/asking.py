"""Questions to a model: pivots, single values, members, how a formula is understood."""

from __future__ import annotations

import functools
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, overload

from msgspec import structs

from relatum.errors import RequestError
from relatum.face.changing import Stateful, in_turn
from relatum.pivot.request import Names, Request, Values, ValueText, ask
from relatum.session.session import Session

if TYPE_CHECKING:
    from relatum.audit.understood import Reading
    from relatum.face.explaining import Explanation
    from relatum.plan.notes import Note
    from relatum.present.grid import Grid
    from relatum.present.members import MemberList

# What answers is imported where something is asked: an edit starts without it.


def pivot(
    model: Stateful,
    rows: Names | None = None,
    columns: Names | None = None,
    values: Values | None = None,
    where: str | None = None,
    *,
    keep: Names | None = None,
    saved: str = "",
    totals: bool | None = None,
    show_empty: bool | None = None,
    values_on: str | None = None,
    cell_limit: int | None = None,
    style: Sequence[Mapping[str, Any]] | None = None,
) -> Grid:
    """Ask for values by the members of columns.

    Parameters
    ----------
    rows, columns : str or list of str
        The fields of each axis, several separated by commas or in a list: ``table.column``, a hierarchy or a
        formula on rows, each with its options (``by revenue desc``, ``top 5 with others``, ``closed``).
    values : str, list of str, or mapping
        Measures or formulas; ``label: formula`` gives one a label, as a mapping of labels to formulas does;
        ``format '0.0%'`` after it is its number format, ``on rows`` after the last puts the labels there.
    where : str, optional
        A condition on columns.
    keep : str or list of str, optional
        Which members to keep, by their values: ``customer where revenue > 1000``, ``top 10 product by revenue``.
    saved : str, optional
        The name of a saved pivot; parts given with it replace its own.
    totals : bool
        Also compute subtotals and grand totals, each as the formula in the coarser cell (default: True).
    show_empty : bool
        Also show members without rows.
    values_on : str, optional
        ``rows`` puts the values' labels on rows (default: on columns).
    cell_limit : int
        Refuse grids with more combinations than this (default: 1,000,000).
    style : list of mappings, optional
        Rules for how cells look, with the keys of ``style`` in the model file: ``{"value": "revenue", "when":
        "revenue < 0", "colour": "bad", "mark": "▼"}``, ``{"value": "revenue", "bar": True}``.

    Returns
    -------
    Grid
        The values, the filters in force, and notes.

    Raises
    ------
    RequestError, FormulaError
        Something named is not there, or the grid has too many cells.
    ModelError
        Unknown saved pivot.
    DataError
        A relationship that is needed contradicts the data.
    ValueOverflowError
        A value does not fit in 64 bits.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)")
    >>> grid = model.pivot("sales.product by quantity desc", values="quantity, share: share(quantity of total)")
    >>> [record["quantity"] for record in grid.to_arrow(totals=True).to_pylist()]
    [5, 4, 9]
    """
    from relatum.pivot.answer import answer
    from relatum.pivot.behind import rows_behind
    from relatum.pivot.members import find_members
    from relatum.present.grid import Grid, Questions
    from relatum.present.patterns import check_format

    given: dict[str, Any] = {
        "rows": rows,
        "columns": columns,
        "values": values,
        "where": where,
        "keep": keep,
        "totals": totals,
        "show_empty": show_empty,
        "values_on": values_on,
        "cell_limit": cell_limit,
        "style": style,
    }
    parts = {name: part for name, part in given.items() if part is not None}
    request = _request(model, saved, parts)
    for value in request.values:
        if value.format.pattern:
            check_format(value.format.pattern, value.label, bool(value.format.duration))
    session = model._state.session
    questions = Questions(
        functools.partial(answer, session),
        functools.partial(answer, session, with_parts=True),
        functools.partial(_explained, session),
        functools.partial(rows_behind, session),
        functools.partial(find_members, session),
        model._view_request,
    )
    return Grid(questions.asked(request), questions)


def _request(model: Stateful, saved: str, parts: Mapping[str, Any]) -> Request:
    from relatum.pivot.turning import request_of

    return request_of(model.declaration.pivot(saved), parts) if saved else ask(**parts)


def sql(
    model: Stateful,
    rows: Names | None = None,
    columns: Names | None = None,
    values: Values | None = None,
    where: str | None = None,
    *,
    keep: Names | None = None,
    saved: str = "",
    totals: bool | None = None,
) -> str:
    """The query that answers a pivot on the model's engine.

    Parameters
    ----------
    rows, columns, values, where, keep, saved, totals
        The request, as for :meth:`pivot`.

    Returns
    -------
    str
        Formatted SQL for that engine, with the formulas as comments.

    Raises
    ------
    RequestError
        The tables are in memory, so there is no query to show.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall", engine="duckdb")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> "SUM" in model.sql("sales.product", values="sum(sales.quantity)")
    True
    """
    from relatum.pivot.answer import query_of

    given = {"rows": rows, "columns": columns, "values": values, "where": where, "keep": keep, "totals": totals}
    request = _request(model, saved, {name: part for name, part in given.items() if part is not None})
    return query_of(model._state.session, request)


def members(model: Stateful, column: str, where: str | None = None, *, value: str = "", like: str = "") -> MemberList:
    """List the members of a column with their row counts in each fact: the values to choose a filter from.

    Parameters
    ----------
    column : str
        ``table.column``, or a formula as on an axis.
    where : str, optional
        A condition on columns; members without rows under it are listed and marked.
    value : str, optional
        A measure or formula to show instead of rows.
    like : str, optional
        Only members that contain this text, or match this pattern (``%`` any text, ``_`` any one
        character); case is ignored.

    Returns
    -------
    MemberList
        The members in their order, then null and no match where there are such rows.

    Raises
    ------
    RequestError, FormulaError
        The column, the condition or the value cannot be understood.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> list(model.members("sales.product", "sales.quantity < 4"))
    [('fig', 2), ('ivy', None)]
    """
    from relatum.pivot.members import find_members
    from relatum.present.members import MemberList

    return MemberList(find_members(model._state.session, column, where or "", value, like))


def explain(
    model: Stateful,
    value: str,
    at: Mapping[str, Any] | None = None,
    where: str | None = None,
    *,
    keep: Names = (),
    fields: Names = (),
    columns: Names = (),
    against: Mapping[str, Any] | None = None,
    along: str = "",
    listed: int = 5,
) -> Explanation:
    """Explain why a cell has its value: its filters, its formula part by part, the rows behind it.

    The explanation comes from the same plan that answers the cell's grid.

    Parameters
    ----------
    value : str
        A measure or formula.
    at : mapping, optional
        The cell: fields and their members. None is the null member, ``relatum.NO_MATCH`` the rows without a match,
        ``relatum.OTHERS`` the members left out by a top.
    where, keep : optional
        The filters of the request, as of :meth:`pivot`.
    fields, columns : str or list of str, optional
        The fields of the axes where they have options (``product.plant top 5 with others``), and those that are
        on columns; the fields of ``at`` are on rows unless named.
    against : mapping, optional
        Other members for some of the fields: explains the difference to that cell.
    along : str, optional
        The column to divide the difference by (default: the one that explains most).
    listed : int
        The number of rows to list behind each aggregate; ``rows`` has all of them.

    Returns
    -------
    Explanation
        Printing it shows everything.

    Raises
    ------
    RequestError, FormulaError
        The value, a field or a member does not exist, or there is no difference.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.measure("quantity", "sum(sales.quantity)")
    >>> found = model.explain("quantity", {"sales.product": "fig"})
    >>> found.value, [(each.text, each.after) for each in found.filters]
    (5, [("sales.product = 'fig'", 2)])
    >>> found.rows.to_pylist()
    [{'row': 1, 'sales.quantity': 2}, {'row': 2, 'sales.quantity': 3}]
    """
    from relatum.audit.cell.location import with_fields_of

    asked = ask(fields, columns, value, where, keep)
    if len(asked.values) != 1:
        raise RequestError("Only one value can be explained at a time.", fix="Name one measure or formula.")
    members = dict(at or {})
    request = with_fields_of(model._state.session, asked, members)
    return _explained(
        session=model._state.session, request=request, number=0, at=members, against=against, along=along, listed=listed
    )


@in_turn
def keep_pivot(model: Stateful, name: str, grid: Grid, *, about: str = "", replace: bool = False) -> None:
    """Save a grid's request as a pivot in the model.

    Parameters
    ----------
    name : str
        Its name.
    grid : Grid
        The grid whose request is saved.
    about : str
        What it is for.
    replace : bool
        Replace the saved pivot of this name.

    Raises
    ------
    ModelError
        The name is taken.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.keep_pivot("by_product", model.pivot("sales.product", values="units: sum(sales.quantity)"))
    >>> model.pivot(saved="by_product").to_arrow().to_pylist()
    [{'sales.product': 'fig', 'units': 5}, {'sales.product': 'ivy', 'units': 4}]
    """
    from relatum.pivot.turning import saved_as

    model._state.change(model.declaration.with_pivot(saved_as(name, grid.request, about), replacing=replace))


@overload
def evaluate(model: Stateful, formula: str, where: str | None = None, *, notes: Literal[False] = False) -> Any: ...


@overload
def evaluate(
    model: Stateful, formula: str, where: str | None = None, *, notes: Literal[True]
) -> tuple[Any, tuple[Note, ...]]: ...


def evaluate(model: Stateful, formula: str, where: str | None = None, *, notes: bool = False) -> Any:
    """The single value of a formula: int, Decimal, float, str, bool, date, datetime, or None if it has none.

    Parameters
    ----------
    formula : str
        A measure's name or a formula.
    where : str, optional
        A condition.
    notes : bool
        Return a tuple of the value and its notes: why there is no value, and which rows were left out.

    Raises
    ------
    FormulaError, DataError, ValueOverflowError
        As :meth:`pivot`.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> model.evaluate("avg(sales.quantity)", where="sales.product = 'fig'")
    2.5
    >>> value, notes = model.evaluate("sum(sales.quantity)", where="sales.product = 'pea'", notes=True)
    >>> [note.text for note in notes]
    ["No row of sales has sales.product = 'pea'."]
    """
    from relatum.pivot.answer import answer

    value = ValueText(" ".join(formula.split()), formula)
    found = answer(model._state.session, Request((), (), (value,), (where or "").strip()))
    return (found.scalar(), found.notes) if notes else found.scalar()


def formula(model: Stateful, text: str) -> Reading:
    """Show how a formula is understood: its type, and for each aggregate its rows, lookups and filters.

    ``scans()`` of what it gives evaluates the formula and says how each table was scanned.

    Raises
    ------
    FormulaError
        It cannot be understood.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> model = relatum.Model("stall")
    >>> model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy"], "quantity": [2, 3, 4]}))
    >>> print(model.formula("max(sales.quantity) + 1").plan)
    one cell
      = (#1 + 1)
        #1 max(sales.quantity) over rows of sales
    >>> print(*model.formula("max(sales.quantity) + 1").scans())
    sales: 3 rows with NumPy (fewer than 1,000,000)
    """
    from relatum.audit.understood import read_formula

    return read_formula(model._state.session, text)


def _explained(
    session: Session,
    request: Request,
    number: int,
    at: Mapping[str, Any],
    against: Mapping[str, Any] | None,
    along: str,
    listed: int,
) -> Explanation:
    """The explanation of one value of a request in a cell."""
    from relatum.audit.cell.difference import take_apart
    from relatum.audit.cell.story import Asked, explain_cell
    from relatum.face.explaining import Explanation
    from relatum.pivot.answer import answer

    asked = Asked(request, at, number)
    story = explain_cell(session, asked, listed)
    if against is not None:
        story = structs.replace(story, difference=take_apart(session, asked, dict(against), along))

    def evaluate(formula: str, condition: str) -> object:
        return answer(session, Request((), (), (ValueText(formula, formula),), condition)).scalar()

    return Explanation(story, lambda: explain_cell(session, asked, None), evaluate)
