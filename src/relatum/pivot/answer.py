"""From request to result: resolve, plan, run, put members in order, say what the reader should know."""

from __future__ import annotations

import numpy as np

from relatum.data.columns import Array, Members
from relatum.language.expression import Aggregate, ColumnValue, FilterPart
from relatum.language.parse import parse_formula
from relatum.language.tree import Changed, Name
from relatum.model.names import column_name
from relatum.pivot.absent import absent_notes
from relatum.pivot.request import Request, Resolved, resolve_request
from relatum.pivot.result import Axis, Result, Value
from relatum.plan.compile import Wanted
from relatum.plan.nodes import Field
from relatum.plan.notes import Note, loss_notes, worst_first
from relatum.progress import tell_step
from relatum.session.session import Session

#: Columns of a calendar that come round every year, and the column that tells the years apart.
_RECURRING = {"month_of_year": "month", "quarter_of_year": "quarter"}
_YEARLY = frozenset({"year", "quarter", "month", "date", "week", "fiscal_year", "fiscal_quarter"})


def answer(session: Session, request: Request) -> Result:
    """Ask a session a request.

    Raises
    ------
    RequestError, FormulaError
        The request names something that is not there, or has too many cells.
    DataError
        A relationship that it needs contradicts the data.
    ValueOverflowError
        A value does not fit 64 bits.
    """
    resolved = resolve_request(session, request)
    wanted = Wanted(
        resolved.fields,
        resolved.formulas,
        resolved.filters,
        _grains(resolved, request.totals),
        resolved.row_count,
        request.show_empty,
        request.cell_limit,
    )
    tell_step("working out the answer")
    plan, notes = session.plan(wanted)
    found = session.engine.run(plan)
    notes += loss_notes(found.losses)
    notes += _recurring_notes(session, resolved)
    notes += absent_notes(session, [*(part.expression for part in resolved.filters), *resolved.formulas])
    declaration = session.declaration
    return Result(
        declaration.name,
        declaration.locale,
        declaration.currency,
        tuple(_axis(session, field, members) for field, members in zip(resolved.fields, found.members, strict=True)),
        resolved.row_count,
        tuple(_value(session, *pair, position, resolved) for position, pair in enumerate(request.values)),
        found.cells,
        request.where,
        worst_first(notes),
    )


def _grains(resolved: Resolved, totals: bool) -> tuple[tuple[int, ...], ...]:
    rows = tuple(range(resolved.row_count))
    columns = tuple(range(resolved.row_count, len(resolved.fields)))
    if not totals:
        return ((*rows, *columns),)
    return tuple(
        (*rows[:row_depth], *columns[:column_depth])
        for row_depth in range(len(rows), -1, -1)
        for column_depth in range(len(columns), -1, -1)
    )


def _value(session: Session, label: str, formula: str, position: int, resolved: Resolved) -> Value:
    type_ = resolved.formulas[position].type
    return Value(label, formula, type_, _format_of(session, formula) if type_.numeric else "")


def _format_of(session: Session, formula: str) -> str:
    """The format of the measure that a formula is, in whichever context."""
    node = parse_formula(formula)
    while isinstance(node, Changed):
        node = node.formula
    name = node.parts[0] if isinstance(node, Name) and len(node.parts) == 1 else ""
    measure = session.declaration.measures.get(name)
    return measure.format if measure else ""


def _axis(session: Session, field: Field, members: Members) -> Axis:
    tables = session.declaration.tables
    settings = tables[session.declaration.rows_of(field.table)].columns.get(field.column)
    order_by = settings.order_by if settings else ""
    return Axis(
        field.table,
        field.column,
        session.declaration.label(field.table, field.column),
        members,
        _rank(session, field, members, order_by),
    )


def _rank(session: Session, field: Field, members: Members, order_by: str) -> Array:
    size = len(members.values)
    rank = np.arange(members.size)
    if order_by:
        # A member that has several values in the other column goes by the smallest of them.
        other = session.store.members(field.table, order_by)
        codes = session.store.members(field.table, field.column).codes.astype(np.int64)
        least = np.full(members.size, other.size, np.int64)
        np.minimum.at(least, codes, other.codes.astype(np.int64))
        order = np.lexsort((np.arange(size), least[:size]))
        rank[order] = np.arange(size)
    elif field.column in session.data[field.table].orders:
        names = list(session.data[field.table].orders[field.column])
        present = members.values.dictionary.to_pylist()
        rank[:size] = [names.index(name) for name in present]
    return rank


# -- notes ------------------------------------------------------------------------------------------------------------


def _recurring_notes(session: Session, resolved: Resolved) -> list[Note]:
    notes = []
    for field in resolved.fields:
        owner = session.declaration.rows_of(field.table)
        apart = _RECURRING.get(field.column)
        on_axes = {other.column for other in resolved.fields if other.table == field.table}
        if session.declaration.tables[owner].calendar is None or apart is None or on_axes & _YEARLY:
            continue
        years = _years(session, field.table, resolved.filters)
        if years > 1:
            notes.append(
                Note(
                    "recurring",
                    f"{column_name(field.table, field.column)} puts {years} years together: "
                    f"{column_name(field.table, apart)} keeps them apart.",
                )
            )
    return notes


def _years(session: Session, table: str, filters: tuple[FilterPart, ...]) -> int:
    type_ = session.catalog.columns(table)["year"]
    years = Aggregate("count_distinct", (ColumnValue(table, "year", type_),), table, type_, repeat=True)
    plan, _ = session.plan(Wanted((), (years,), filters, ((),)))
    return int(session.engine.run(plan).cells[0].values[0].values[0])
