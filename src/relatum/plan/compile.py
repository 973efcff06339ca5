"""From resolved formulas, axis fields and filters to a plan, with what the reader should know about it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from relatum.language.catalog import Catalog
from relatum.language.expression import Expression, FilterPart, is_plain
from relatum.plan.bounds import attached
from relatum.plan.context import ByMember, Context, Filter, request_filters
from relatum.plan.formulas import Compiler, together
from relatum.plan.members import visible_members
from relatum.plan.nodes import Derivation, Field, Formula, GridGrain, Interval, Plan
from relatum.plan.notes import Note
from relatum.plan.reads import Reads, reads_of
from relatum.plan.shown import axis_of, judged_among

Derivations = Mapping[tuple[str, str], Derivation]


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a plan is made from: axis fields (rows first), values, filters, and the grains wanted, finest first."""

    fields: tuple[Field, ...]
    formulas: tuple[Expression, ...]
    filters: tuple[FilterPart, ...]
    grains: tuple[tuple[int, ...], ...]
    row_count: int = 0
    show_empty: bool = False
    cell_limit: int = 1_000_000


def compile_plan(catalog: Catalog, wanted: Wanted, derivations: Derivations) -> tuple[Plan, list[Note]]:
    """The plan that answers a grid.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    wanted : Wanted
        The resolved request.
    derivations : mapping of (table, column) to Derivation
        The model's derived columns, each after those that it needs.

    Returns
    -------
    tuple of Plan and list of Note
        The plan, and a note for every aggregate that has no value at a grain because nothing relates it.

    Raises
    ------
    FormulaError
        A change in square brackets reaches no aggregate, or opens a second route.
    """
    compiler = Compiler(catalog, wanted.fields)
    request = Context(tuple(request_filters(wanted.filters)))
    columns = [(field.table, field.column) for field in wanted.fields]
    grains: list[GridGrain] = []
    told: list[Note] = []
    bare = False
    for keys in wanted.grains:
        axes = tuple(_axis_filter(wanted, key) for key in keys)
        context = Context((*axes, *request.filters))
        compiled = [compiler.at_grain(axes).formula(each, context) for each in wanted.formulas]
        findings = together(found for _, found in compiled)
        if not grains:
            told += findings.notes
            bare = bool(keys) and (wanted.show_empty or not findings.in_force)
        else:
            told += [note for note in findings.notes if not note.at_grain]
        grains.append(
            GridGrain(
                keys,
                tuple(formula for formula, _ in compiled),
                tuple(judged_among(node, keys) for node in findings.judged),
                visible_members(catalog, [columns[key] for key in keys], keys, request),
                bare,
                findings.valued if bare else (),
            )
        )
    axes_shown = tuple(axis_of(catalog, field, request) for field in wanted.fields)
    made = Plan(tuple(compiler.fields), axes_shown, tuple(grains), cell_limit=wanted.cell_limit)
    reads = reads_of(made)
    return (
        Plan(
            made.fields,
            axes_shown,
            made.grains,
            needed_derivations(reads, derivations, catalog),
            _intervals(reads),
            wanted.cell_limit,
        ),
        list(dict.fromkeys(told)),
    )


def compile_rows(catalog: Catalog, table: str, column: str, expression: Expression) -> Derivation:
    """A derived column as a formula: its cells are the rows of a table, held by key 0."""
    compiler = Compiler(catalog, (Field(table),))
    if is_plain(expression):
        # Nothing is aggregated: the expression is worked out on the rows as they are.
        formula = Formula(attached(expression, table, catalog))
    else:
        formula, _ = compiler.formula(expression, Context().with_row(catalog, table, 0, "row"))
    return Derivation(table, column, expression.type, tuple(compiler.fields), formula)


def needed_derivations(reads: Reads, derivations: Derivations, catalog: Catalog) -> tuple[Derivation, ...]:
    """The derived columns that are read, with those that they need themselves, in order."""
    needed: set[tuple[str, str]] = set()
    pending = [(catalog.declaration.rows_of(table), column) for table, column in reads.columns]
    while pending:
        key = pending.pop()
        if key in derivations and key not in needed:
            needed.add(key)
            inner = reads_of(derivations[key]).columns
            pending += [(catalog.declaration.rows_of(table), column) for table, column in inner]
    return tuple(derivation for key, derivation in derivations.items() if key in needed)


def _axis_filter(wanted: Wanted, key: int) -> Filter:
    field = wanted.fields[key]
    axis: Literal["rows", "columns"] = "rows" if key < wanted.row_count else "columns"
    return Filter("axis", field.table, frozenset([field.column]), ByMember(key), axis)


def _intervals(reads: Reads) -> tuple[Interval, ...]:
    return tuple(
        Interval(each, each.one.columns[:-1], each.one.columns[-1])
        for each in reads.relationships
        if each.match == "as_of"
    )
