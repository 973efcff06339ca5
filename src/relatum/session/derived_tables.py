"""Derived tables: one row per member of a grain, with formulas, worked out when a row is first needed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import cache

import numpy as np

from relatum.data.columns import Column
from relatum.data.table import TableData
from relatum.errors import FormulaError, ModelError
from relatum.model.declaration import Declaration, Table, frozen
from relatum.model.names import column_name, quoted, split_name
from relatum.plan.compile import Grid, compile_plan
from relatum.plan.nodes import Cells, Field
from relatum.session.session import Session
from relatum.wording import suggestion

_CELL_LIMIT = 50_000_000


def with_derived_tables(
    declaration: Declaration, data: Mapping[str, TableData], former: Session | None = None
) -> dict[str, TableData]:
    """The data of all tables, derived ones in the order in which they are stated.

    Raises
    ------
    ModelError, FormulaError
        A derived table's grain or formulas cannot be understood.
    """
    every = dict(data)
    kept = former is not None and _unchanged(former.declaration, declaration)
    for name, table in declaration.tables.items():
        if not table.per:
            continue
        if kept and former is not None and name in former.data:
            every[name] = former.data[name]
            continue
        try:
            every[name] = _derived_table(declaration, every, table)
        except FormulaError as error:
            error.place = ("table", name, "columns")
            raise
        except ModelError as error:
            error.place = error.place or ("table", name)
            raise
    return {name: every[declaration.rows_of(name)] for name in declaration.tables}


def _unchanged(before: Declaration, after: Declaration) -> bool:
    """Whether nothing that a derived table could use has changed."""
    tables = all(after.tables.get(name) == table for name, table in before.tables.items())
    measures = all(after.measures.get(name) == measure for name, measure in before.measures.items())
    return tables and measures and before.relationships == after.relationships


def _derived_table(declaration: Declaration, data: Mapping[str, TableData], table: Table) -> TableData:
    there = {
        name for name, each in declaration.tables.items() if declaration.rows_of(name) in data or each.role_of in data
    }
    base = replace(
        declaration,
        tables=frozen({name: each for name, each in declaration.tables.items() if name in there}),
        relationships=tuple(
            each for each in declaration.relationships if each.many.table in there and each.one.table in there
        ),
        controls=(),
    )
    own = {name: data[base.rows_of(name)] for name in base.tables}
    session = Session(base, own, whole=False)
    fields = tuple(_field(session, table, name) for name in table.per)
    names = [field.column for field in fields] + list(table.formulas)
    for name in names:
        if names.count(name) > 1:
            raise ModelError(f"The derived table {quoted(table.name)} has two columns {name}.",
                             fix="Give a formula another name.", place=("table", table.name))  # fmt: skip
    formulas = tuple(
        session.formulas.formula(text, f"column {column_name(table.name, name)}")
        for name, text in table.formulas.items()
    )
    types = {field.column: session.catalog.columns(field.table)[field.column] for field in fields}
    types.update({name: formula.type for name, formula in zip(table.formulas, formulas, strict=True)})
    keys = tuple(range(len(fields)))
    grid = Grid(fields, formulas, (), (keys,), len(fields), False, _CELL_LIMIT)

    def work_out() -> dict[str, Column]:
        plan, _ = compile_plan(session.catalog, grid)
        answer = session.engine.run(plan)
        (cells,) = answer.cells
        rows = _rows(cells, [members.no_match for members in answer.members])
        columns = {}
        for at, (field, members) in enumerate(zip(fields, answer.members, strict=True)):
            codes = cells.codes[rows, at]
            null = codes == members.null
            taken = members.values.take(np.where(null, 0, codes))
            columns[field.column] = replace(taken, nulls=null if null.any() else None)
        for name, values in zip(table.formulas, cells.values, strict=True):
            columns[name] = values.take(rows)
        return columns

    worked_out = cache(work_out)
    first = next(iter(types))
    return TableData(types, lambda: len(worked_out()[first]), lambda name: worked_out()[name])


def _rows(cells: Cells, no_match: list[int]) -> np.ndarray[tuple[int], np.dtype[np.intp]]:
    keep = np.ones(len(cells.codes), np.bool_)
    for at, code in enumerate(no_match):
        keep &= cells.codes[:, at] != code
    if cells.values:
        every = [np.zeros(len(keep), np.bool_) if each.nulls is None else each.nulls for each in cells.values]
        keep &= ~np.logical_and.reduce(every)
    return np.flatnonzero(keep)


def _field(session: Session, table: Table, text: str) -> Field:
    parts = split_name(text)
    tables = session.declaration.tables
    if len(parts) != 2 or parts[0] not in tables or parts[1] not in session.catalog.columns(parts[0]):
        known = [column_name(name, column) for name in tables for column in session.catalog.columns(name)]
        raise ModelError(f"The grain of {quoted(table.name)} names {text}, which is no column.",
                         fix=suggestion(text, known, noun="column"), place=("table", table.name, "per"))  # fmt: skip
    return Field(*parts)
