"""From resolved formulas, axis fields and filters to a plan, with what the reader should know about it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from relatum.data.types import INTEGER
from relatum.language.catalog import Catalog
from relatum.language.expression import ColumnValue, Expression, FilterPart, KeepBest, KeepWhere, Slot, is_plain
from relatum.plan.bounds import attached
from relatum.plan.context import ByHidden, ByMember, Context, Filter, request_filters
from relatum.plan.formulas import Compiler, Findings, together
from relatum.plan.members import visible_members
from relatum.plan.nodes import (
    Closing,
    Derivation,
    Field,
    Formula,
    GridGrain,
    Hidden,
    Interval,
    KeyColumn,
    Match,
    Plan,
    Top,
    Visible,
)
from relatum.plan.notes import Note
from relatum.plan.reads import Reads, reads_of
from relatum.plan.shown import axis_of, judged_among
from relatum.plan.slots import formula_of

Derivations = Mapping[tuple[str, str], Derivation]


class GrainWanted(Struct, frozen=True):
    """A grain that is wanted.

    ``keys`` are positions of fields; those in ``others`` stand for the members that a top leaves out. A grain without
    ``values`` is there for its order alone: it has just what finer ones show. ``orders`` are what its members are
    ordered by: formulas, or a column that the last key determines. Of the fields ``opened`` only open members are
    shown, of those ``unopened`` only the closed ones.
    """

    keys: tuple[int, ...]
    others: frozenset[int] = frozenset()
    values: bool = True
    orders: tuple[Expression, ...] = ()
    opened: tuple[int, ...] = ()
    unopened: tuple[int, ...] = ()


class TopWanted(Struct, frozen=True):
    """The best of a field's members under those of the ``outer`` fields; see :class:`relatum.plan.nodes.Top`."""

    key: int
    outer: tuple[int, ...]
    number: int
    by: tuple[tuple[Expression, bool], ...]
    others: bool


class Wanted(Struct, frozen=True):
    """What a plan is made from: axis fields (rows first), values, filters, and the grains wanted, finest first.

    ``keeps`` are the request's own, each found under its condition alone. What is ``beside`` the values is worked
    out in the cells that these show, and shows none itself. With ``tells_hidden`` hidden members are listed.
    """

    fields: tuple[Field, ...]
    formulas: tuple[Expression, ...]
    filters: tuple[FilterPart, ...]
    grains: tuple[GrainWanted, ...] = (GrainWanted(()),)
    row_count: int = 0
    show_empty: bool = False
    cell_limit: int = 1_000_000
    keeps: tuple[KeepWhere | KeepBest, ...] = ()
    tops: tuple[TopWanted, ...] = ()
    closings: tuple[Closing, ...] = ()
    beside: tuple[Expression, ...] = ()
    tells_hidden: bool = False


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
    return PlanMaker(catalog, wanted).plan(derivations)


class PlanMaker:
    """Makes the plan of one request."""

    def __init__(self, catalog: Catalog, wanted: Wanted) -> None:
        self.catalog = catalog
        self.wanted = wanted
        self.others = {
            top.key: len(wanted.fields) + at for at, top in enumerate(top for top in wanted.tops if top.others)
        }
        fields = [*wanted.fields, *(wanted.fields[key] for key in self.others)]
        self.compiler = Compiler(catalog, fields)
        self.request = Context(tuple(request_filters(wanted.filters)))
        self.notes: list[Note] = []
        self._take_keeps()

    def plan(self, derivations: Derivations) -> tuple[Plan, list[Note]]:
        """The plan, and its notes."""
        wanted, catalog = self.wanted, self.catalog
        notes = list(self.notes)
        grains: list[GridGrain] = []
        bare = False
        for each in wanted.grains:
            grain, findings = self._grain(each)
            if not grains:
                notes += findings.notes
                bare = bool(each.keys) and (wanted.show_empty or not findings.in_force)
            else:
                notes += [note for note in findings.notes if not note.at_grain]
            if bare and each.values:
                grain = replace(grain, bare=grain.formulas[: len(wanted.formulas)])
            grains.append(grain)
        tops = tuple(self._top(top) for top in wanted.tops)
        axes = tuple(axis_of(catalog, field, self.request) for field in wanted.fields)
        made = Plan(
            tuple(self.compiler.fields),
            axes,
            tuple(grains),
            row_count=wanted.row_count,
            tops=tops,
            closings=wanted.closings,
            tells_hidden=wanted.tells_hidden,
        )
        reads = reads_of(made)
        needed = needed_derivations(reads, derivations, catalog)
        plan = replace(made, derived=needed, intervals=_intervals(reads), cell_limit=wanted.cell_limit)
        return plan, list(dict.fromkeys(notes))

    def _take_keeps(self) -> None:
        """Add the request's keeps to its filters; none of them sees another."""
        found = [self.compiler.at_grain(()).request_keep(each, self.request) for each in self.wanted.keeps]
        self.request = self.request.with_filters(one for one, _ in found)
        self.notes += [note for _, findings in found for note in findings.notes]

    def context(self, axes: tuple[Filter, ...]) -> Context:
        """The context of a cell that these filters of axes make."""
        return Context((*axes, *self.request.filters))

    def _grain(self, wanted: GrainWanted) -> tuple[GridGrain, Findings]:
        axes = tuple(self.axis_filter(key, key in wanted.others) for key in wanted.keys)
        context = self.context(axes)
        compiler = self.compiler.at_grain(axes)
        compiled = [compiler.formula(each, context) for each in self.wanted.formulas if wanted.values]
        findings = together(found for _, found in compiled).deciding()
        compiled += [compiler.formula(each, context) for each in self.wanted.beside if wanted.values]
        keys = tuple(self.others[key] if key in wanted.others else key for key in wanted.keys)
        columns = [(self.wanted.fields[key].table, self.wanted.fields[key].column) for key in wanted.keys]

        def occurring() -> Visible:
            return visible_members(self.catalog, columns, keys, Context())

        grain = GridGrain(
            keys=keys,
            formulas=tuple(formula for formula, _ in compiled),
            judged=tuple(judged_among(node, keys, occurring) for node in findings.judged),
            members=visible_members(self.catalog, columns, keys, self.request),
            bare=None,
            others=frozenset(self.others[key] for key in wanted.others),
            orders=tuple(self._ordering(each, wanted.keys, context) for each in wanted.orders),
            opened=wanted.opened,
            unopened=wanted.unopened,
        )
        return grain, findings

    def _top(self, top: TopWanted) -> Top:
        axes = tuple(self.axis_filter(key, False) for key in (*top.outer, top.key))
        self.compiler.at_grain(axes)
        by = tuple((self._ordering(each, (top.key,), self.context(axes)), down) for each, down in top.by)
        return Top(top.key, top.outer, top.number, by, self.others.get(top.key))

    def _ordering(self, expression: Expression, keys: tuple[int, ...], context: Context) -> Formula:
        """What members are ordered by; a bare column is one that the innermost of these fields determines."""
        if not isinstance(expression, ColumnValue):
            return self.compiler.formula(expression, context)[0]
        field = self.wanted.fields[keys[-1]]
        route = self.catalog.lookup(field.table, expression.table, expression.column)
        assert route is not None, "a field determines what it is ordered by"
        order = self.catalog.order(expression.table, expression.column)
        node = KeyColumn(
            key=keys[-1],
            route=route,
            table=expression.table,
            column=expression.column,
            type=INTEGER,
            no_match=False,
            placed=order,
        )
        return formula_of(Slot(node, INTEGER))

    def axis_filter(self, key: int, others: bool) -> Filter:
        """The filter of a field's member, or of the members of it that a top leaves out."""
        field = self.wanted.fields[key]
        axis: Literal["rows", "columns"] = "rows" if key < self.wanted.row_count else "columns"
        by: ByMember | ByHidden = ByMember(key)
        if others:
            by = ByHidden(Hidden(self.others[key], Match(key, (), (), field.table, field.column)))
        return Filter("axis", field.table, frozenset([field.column]), by, axis)


def compile_rows(catalog: Catalog, table: str, column: str, expression: Expression) -> Derivation:
    """A derived column as a formula: its cells are the rows of a table, held by key 0.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    table, column : str
        The derived column.
    expression : Expression
        Its formula, resolved.

    Returns
    -------
    Derivation
        What an engine needs to work it out.

    Raises
    ------
    FormulaError
        The formula cannot be planned: a calendar change that several calendars could carry out, say.
    """
    compiler = Compiler(catalog, (Field(table),))
    if is_plain(expression):
        # Nothing is aggregated: the expression is computed on the rows as they are.
        formula = Formula(attached(expression, table, catalog))
    else:
        formula, _ = compiler.formula(expression, Context().with_row(catalog, table, 0, "row"))
    return Derivation(table, column, expression.type, tuple(compiler.fields), formula)


def needed_derivations(reads: Reads, derivations: Derivations, catalog: Catalog) -> tuple[Derivation, ...]:
    """The derived columns that are read, with those that they need themselves, in order.

    Parameters
    ----------
    reads : Reads
        What a plan reads.
    derivations : mapping of (str, str) to Derivation
        All derived columns by table and name, each after those that it needs.
    catalog : Catalog
        Which table holds the rows of a role.

    Returns
    -------
    tuple of Derivation
        In the order of ``derivations``.
    """
    needed: set[tuple[str, str]] = set()
    pending = [(catalog.declaration.rows_of(table), column) for table, column in reads.columns]
    while pending:
        key = pending.pop()
        if key in derivations and key not in needed:
            needed.add(key)
            inner = reads_of(derivations[key]).columns
            pending += [(catalog.declaration.rows_of(table), column) for table, column in inner]
    return tuple(derivation for key, derivation in derivations.items() if key in needed)


def _intervals(reads: Reads) -> tuple[Interval, ...]:
    return tuple(
        Interval(each, each.one.columns[:-1], each.one.columns[-1])
        for each in reads.relationships
        if each.match == "as_of"
    )
