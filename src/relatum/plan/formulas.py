"""From resolved formulas in their contexts to plan nodes; every result carries the findings on the way."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace

from relatum.data.types import Type
from relatum.errors import FormulaError, ModelError, Span
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Apply,
    Change,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    Grain,
    InContext,
    KeepBest,
    KeepWhere,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
    columns_in,
    formulas_of,
    is_plain,
    uses_names,
)
from relatum.model.routes import Place
from relatum.plan import notes
from relatum.plan.bounds import Bounded, Bounder, attached, field_of, row_route
from relatum.plan.context import Added, ByCondition, ByHidden, ByKept, ByMember, Context, Filter, PinnedEdge, changed
from relatum.plan.dependencies import node_names
from relatum.plan.members import grain_owners, own_match
from relatum.plan.nodes import (
    Aggregation,
    Best,
    Field,
    Formula,
    Kept,
    KeyColumn,
    Match,
    Named,
    Naming,
    Nested,
    PlanNode,
    RankedAmong,
    Visible,
)
from relatum.plan.notes import Note
from relatum.plan.slots import formula_of, node_type, row_tables

_Keys = list[int]
_NOTHING: frozenset[Filter] = frozenset()
_NONE_ADDED: Added = frozenset()


class Findings(Struct, frozen=True):
    """What the aggregates of a formula came to in its context.

    ``reached`` are the filters that bear on some of them. ``taken`` are the filters and edges that one took up,
    ``missed`` those that one could not. ``outermost`` says that some aggregate is in no ranking, ``judged`` are
    those of them that every axis member bears on. ``in_force`` says that every axis member is in force for one of them,
    whether or not it has a value. ``ranked`` is what was found of the formulas that it ranks, in the cell itself.
    """

    reached: frozenset[Filter] = _NOTHING
    taken: Added = _NONE_ADDED
    missed: Added = _NONE_ADDED
    aggregates: bool = False
    outermost: bool = False
    judged: tuple[PlanNode, ...] = ()
    in_force: bool = False
    ranked: Findings | None = None
    notes: tuple[Note, ...] = ()

    def inside(self) -> Findings:
        """What remains to be known outside of the aggregate that these aggregates are in."""
        return replace(self, outermost=False, judged=(), in_force=False, ranked=None)

    def deciding(self) -> Findings:
        """What decides which combinations are shown: where there are rankings alone, the formulas that they rank."""
        if self.ranked is None or self.outermost:
            return self
        inner = self.ranked.deciding()
        return replace(self, judged=inner.judged, in_force=inner.in_force)


NO_FINDINGS = Findings()


def _ranked_together(parts: list[Findings]) -> Findings | None:
    return together(parts) if parts else None


def together(findings: Iterable[Findings]) -> Findings:
    """The findings of several parts of a formula."""
    parts = [each for each in findings if each is not NO_FINDINGS]
    if len(parts) < 2:
        return parts[0] if parts else NO_FINDINGS
    return Findings(
        reached=_NOTHING.union(*(each.reached for each in parts)),
        taken=_NONE_ADDED.union(*(each.taken for each in parts)),
        missed=_NONE_ADDED.union(*(each.missed for each in parts)),
        aggregates=any(each.aggregates for each in parts),
        outermost=any(each.outermost for each in parts),
        judged=tuple(dict.fromkeys(node for each in parts for node in each.judged)),
        in_force=any(each.in_force for each in parts),
        ranked=_ranked_together([each.ranked for each in parts if each.ranked is not None]),
        notes=tuple(dict.fromkeys(note for each in parts for note in each.notes)),
    )


class Compiled(Struct, frozen=True):
    """An expression whose slots hold plan nodes, and what was found out."""

    expression: Expression
    findings: Findings


class Compiler:
    """Compiles formulas in contexts. A formula that is twice in one context is compiled once.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    fields : iterable of Field
        The grid's keys; those that nested formulas add are numbered after them.
    """

    def __init__(self, catalog: Catalog, fields: Iterable[Field]) -> None:
        self.catalog = catalog
        self.fields = list(fields)
        self._axes: tuple[Filter, ...] = ()
        self._done: dict[tuple[Expression, Context], Compiled] = {}
        self._kept: dict[tuple[KeepWhere | KeepBest, Context], tuple[Filter, Findings]] = {}
        self._names: dict[Formula, int] = {}
        #: Keys by what they hold, and how many of each the grain in hand has taken.
        self._pool: dict[Field, _Keys] = {}
        self._used: Counter[Field] = Counter()

    def request_keep(self, change: KeepWhere | KeepBest, context: Context) -> tuple[Filter, Findings]:
        """A ``keep`` of the request itself: a filter as its condition is, found under that alone."""
        one, findings = self._keep(change, context)
        return replace(one, origin="request"), findings

    def at_grain(self, axes: tuple[Filter, ...]) -> Compiler:
        """This compiler, for cells of the grain that these filters of axes make."""
        if axes != self._axes:
            self._axes = axes
            # The grain says which axis members apply; keys are numbered the same way, so that grains share nodes.
            self._done, self._kept, self._used = {}, {}, Counter()
        return self

    def formula(self, expression: Expression, context: Context) -> tuple[Formula, Findings]:
        """A formula in a context."""
        compiled = self._compiled(expression, context)
        return formula_of(compiled.expression), compiled.findings

    def _new_key(self, table: str, column: str = "") -> int:
        field = field_of(self.catalog, table, column)
        pool, used = self._pool.setdefault(field, []), self._used[field]
        if used == len(pool):
            pool.append(len(self.fields))
            self.fields.append(field)
        self._used[field] += 1
        return pool[used]

    # -- every expression ---------------------------------------------------------------------------------------------

    def _compiled(self, expression: Expression, context: Context) -> Compiled:
        if context.names and not uses_names(expression):
            context = replace(context, names=())
        key = (expression, context)
        found = self._done.get(key)
        if found is None:
            found = self._done[key] = self._compile(expression, context)
        return found

    def _compile(self, expression: Expression, context: Context) -> Compiled:
        match expression:
            case Constant() | Choices() | Slot():
                return Compiled(expression, NO_FINDINGS)
            case Apply(function, arguments, type_):
                parts = [self._compiled(argument, context) for argument in arguments]
                applied = Apply(function, tuple(part.expression for part in parts), type_)
                return Compiled(applied, together(part.findings for part in parts))
            case InContext():
                return self._in_context(expression, context)
            case LetIn():
                return self._let(expression, context)
            case LetValue(number, type_):
                return Compiled(Slot(Named(dict(context.names)[number], type_), type_), NO_FINDINGS)
            case Narrowed(type=type_):
                bears = _bears(expression, context)
                taken = frozenset(context.filters) if bears else _NONE_ADDED
                findings = _taken_up(context, taken)
                return Compiled(Constant(bears, type_), findings)
            case ColumnValue() | NoMatch():
                return _held(self._key_column(expression, context), NO_FINDINGS, expression.type)
            case Aggregate():
                return _held(*self._aggregate(expression, context), expression.type)
            case Ranked():
                return _held(*self._ranked(expression, context), expression.type)
            case _:
                assert_never(expression)

    def inside(self, expression: Expression, context: Context) -> Context:
        """The context of the formula inside square brackets."""
        assert isinstance(expression, InContext), "brackets change a context"
        return changed(self.catalog, context, expression.changes, lambda change, where: self._keep(change, where)[0])[0]

    def _in_context(self, expression: InContext, context: Context) -> Compiled:
        about_keeps: list[Findings] = []

        def keep(change: KeepWhere | KeepBest, where: Context) -> Filter:
            one, findings = self._keep(change, where)
            about_keeps.append(findings)
            return one

        after, added = changed(self.catalog, context, expression.changes, keep)
        inside = self._compiled(expression.formula, after)
        _refuse_idle(added, inside.findings)
        finer = Findings(notes=tuple(notes.finer_axes(self.catalog, expression.changes, context)))
        return Compiled(inside.expression, together([*about_keeps, inside.findings, finer]))

    def _let(self, expression: LetIn, context: Context) -> Compiled:
        numbers, values, findings = [], [], []
        for number, value in zip(expression.numbers, expression.values, strict=True):
            formula, found = self.formula(value, context)
            # One number for one formula: what is named twice is computed once.
            plan_number = self._names.setdefault(formula, len(self._names))
            context = context.named(number, plan_number)
            numbers.append(plan_number)
            values.append(formula)
            findings.append(found)
        body, found = self.formula(expression.body, context)
        naming = (tuple(numbers), tuple(values))
        node = Naming(*naming, body)
        return Compiled(Slot(node, expression.type), together([*findings, _found_within(naming, found)]))

    def _key_column(self, value: ColumnValue | NoMatch, context: Context) -> KeyColumn:
        catalog = self.catalog.opening(context.opened)
        for table, key in reversed(context.rows):
            match value:
                case NoMatch():
                    if any(place.table == value.table for place in catalog.routes.lookups(Place(table))):
                        return KeyColumn(key, row_route(catalog, table, value.table), value.table, "", value.type, True)
                case ColumnValue():
                    route = catalog.lookup(table, value.table, value.column)
                    if route is not None:
                        return KeyColumn(key, route, value.table, value.column, value.type)
                case _:
                    assert_never(value)
        for name, key in reversed(context.columns):
            if isinstance(value, ColumnValue) and name == (value.table, value.column):
                return KeyColumn(key, (), value.table, value.column, value.type)
        raise AssertionError("resolved columns can be read")

    # -- aggregates ---------------------------------------------------------------------------------------------------

    def _aggregate(self, aggregate: Aggregate, context: Context) -> tuple[PlanNode | None, Findings]:
        try:
            return self._per(aggregate, context) if aggregate.grain else self._over_rows(aggregate, context)
        except ModelError as error:
            whole = Span(0, len(aggregate.text))
            raise FormulaError(error.reason, text=aggregate.text, span=whole, fix=error.fix) from None

    def _over_rows(self, aggregate: Aggregate, context: Context) -> tuple[PlanNode | None, Findings]:
        source = aggregate.row_table
        bounder = Bounder(self.catalog, context, row_tables(aggregate.arguments))
        bounded = bounder.bounded(source)
        if all(map(is_plain, aggregate.arguments)) and not bounded.keyed:
            catalog = self.catalog.opening(context.opened)
            arguments = tuple(attached(argument, source, catalog) for argument in aggregate.arguments)
            node: PlanNode = Aggregation(
                bounded.bounds, aggregate.function, arguments, aggregate.fraction, aggregate.type
            )
            return self._outcome(aggregate, context, bounded, node, NO_FINDINGS)
        key = self._new_key(source)
        carried, _ = bounder.carried_out([source])
        inner = carried.with_row(self.catalog, source, key, "row")
        compiled = [self.formula(argument, inner) for argument in aggregate.arguments]
        conditions = [self.formula(part.expression, inner) for part in bounded.keyed]
        node = Nested(
            visible=Visible(((bounded.bounds, (Match(key, (), (), source, ""),)),)),
            function=aggregate.function,
            arguments=tuple(formula for formula, _ in compiled),
            conditions=tuple(formula for formula, _ in conditions),
            fraction=aggregate.fraction,
            type=aggregate.type,
            drops=False,
        )
        findings = together(found for _, found in [*compiled, *conditions])
        return self._outcome(aggregate, context, bounded, node, findings)

    def _per(self, aggregate: Aggregate, context: Context) -> tuple[PlanNode | None, Findings]:
        assert aggregate.grain is not None
        members = self._grain(aggregate.grain, context, row_tables(aggregate.arguments))
        (argument,) = aggregate.arguments
        formula, found = self.formula(argument, members.inner)
        node = Nested(
            visible=members.visible,
            function=aggregate.function,
            arguments=(formula,),
            conditions=(),
            fraction=aggregate.fraction,
            type=aggregate.type,
            drops=True,
            text=aggregate.text,
        )
        reached = _NOTHING.union(*(owner.reached for owner in members.owners))
        return self._outcome(
            aggregate, context, members.owners[0], node, replace(found, reached=found.reached | reached)
        )

    def _outcome(
        self, aggregate: Aggregate, context: Context, bounded: Bounded, node: PlanNode, inside: Findings
    ) -> tuple[PlanNode | None, Findings]:
        """An aggregate's node, None where it has no value in its context; and what its context came to."""
        reached = bounded.reached | inside.reached
        edges = {PinnedEdge(each.edge, each.table, each.column) for each in bounded.bounds.pinned}
        counts = aggregate.function != "sole"
        own = replace(_taken_up(context, frozenset({*reached, *edges})), reached=frozenset(reached), outermost=counts)
        # An axis that does not bear on it leaves it blank, which is in force; repeated, it is not.
        held = all(axis in reached or (axis in context.filters and not aggregate.repeat) for axis in self._axes)
        if bounded.empty:
            empty = replace(own, in_force=held and counts, notes=(notes.no_period(aggregate, bounded.empty),))
            return None, together([inside.inside(), empty])
        missed = [each for each in context.filters if each.origin not in ("row", "dates") and each not in reached]
        if missed and not aggregate.repeat:
            lacking = tuple(notes.unrelated(self.catalog, aggregate, each) for each in missed)
            return None, together([inside.inside(), replace(own, in_force=held and counts, notes=lacking)])
        bears = counts and all(axis in reached for axis in self._axes)
        shared = tuple(notes.overlapping(bounded.bounds, self._axes, map(_key_of, self._axes)))
        own = replace(
            own,
            judged=(node,) if bears else (),
            in_force=bears,
            notes=shared,
        )
        return node, together([inside.inside(), own])

    # -- grains -------------------------------------------------------------------------------------------------------

    def _grain(self, grain: Grain, context: Context, ends: tuple[str, ...]) -> _Members:
        bounder = Bounder(self.catalog, context, ends)
        if grain.table:
            bounded = bounder.bounded(grain.table)
            key = self._new_key(grain.table)
            carried, _ = bounder.carried_out([grain.table])
            visible = Visible(((bounded.bounds, (Match(key, (), (), grain.table, ""),)),))
            return _Members(visible, carried.with_row(self.catalog, grain.table, key, "member"), [bounded], [key])
        keys = [self._new_key(*column) for column in grain.columns]
        owners = grain_owners(self.catalog, grain.columns, context)
        parts, all_bounds = [], []
        for owner, positions in owners.items():
            bounded = bounder.bounded(owner)
            matches = tuple(own_match(self.catalog, owner, grain.columns[at], keys[at], context) for at in positions)
            parts.append((bounded.bounds, matches))
            all_bounds.append(bounded)
        inner, _ = bounder.carried_out(owners)
        for (table, column), key in zip(grain.columns, keys, strict=True):
            inner = inner.with_member(table, column, key)
        return _Members(Visible(tuple(parts)), inner, all_bounds, keys)

    def _keep(self, change: KeepWhere | KeepBest, context: Context) -> tuple[Filter, Findings]:
        if context.names and not any(map(uses_names, formulas_of(change))):
            context = replace(context, names=())
        if (change, context) not in self._kept:
            self._kept[change, context] = self._make_keep(change, context)
        return self._kept[change, context]

    def _make_keep(self, change: KeepWhere | KeepBest, context: Context) -> tuple[Filter, Findings]:
        grain = change.grain
        ((table, column),) = grain.columns or ((grain.table, ""),)
        match change:
            case KeepWhere(condition=formula):
                ties: tuple[tuple[Expression, bool], ...] = ()
            case KeepBest(by=formula, ties=ties):
                chain = self._chain(table, context)
                aside = tuple(
                    each
                    for each in context.filters
                    if not (each.origin in ("axis", "member", "row") and each.table in chain)
                )
                context = replace(context, filters=aside)
            case _:
                assert_never(change)
        members = self._grain(grain, context, row_tables([formula]))
        (key,) = members.keys
        compiled, found = self.formula(formula, members.inner)
        parting = [(self.formula(each, members.inner), down) for each, down in ties]
        best = None
        if isinstance(change, KeepBest):
            best = Best(change.edge, change.number, tuple((each, down) for (each, _), down in parting))
        found = together([found, *(each for (_, each), _ in parting)])
        text = change.source.text
        kept = Kept(members.visible, compiled, best, Match(key, (), (), table, column), text)
        columns = frozenset([column]) if column else None
        one = Filter("keep", table, columns, ByKept(kept, found.reached), text=text)
        return one, replace(found.inside(), reached=_NOTHING)

    def _chain(self, table: str, context: Context) -> set[str]:
        """The lookups of a table's chain: itself, those it looks up, and the lookups that look it up."""
        routes = self.catalog.opening(context.opened).routes
        ones = {each.one.table for each in self.catalog.declaration.relationships}
        up = {place.table for place in routes.lookups(Place(table))}
        down = {
            other
            for other in self.catalog.declaration.tables
            if other in ones and any(place.table == table for place in routes.lookups(Place(other)))
        }
        return {table} | up | down

    # -- rankings -----------------------------------------------------------------------------------------------------

    def _ranked(self, ranked: Ranked, context: Context) -> tuple[PlanNode | None, Findings]:
        shown = self.formula(ranked.formula, context)[1]
        taken = replace(_taken_up(context, frozenset(context.filters)), ranked=replace(shown, notes=()))
        if self._hidden_current(ranked, context):
            return None, taken
        current = self._current(ranked, context)
        if current is None:
            return None, replace(taken, notes=(notes.no_current_member(ranked),))
        key, without = current
        members = self._grain(ranked.grain, without, row_tables([ranked.formula]))
        formula, found = self.formula(ranked.formula, members.inner)
        by, by_found = (None, NO_FINDINGS) if ranked.by is None else self.formula(ranked.by, members.inner)
        node = RankedAmong(
            visible=members.visible,
            function=ranked.function,
            formula=formula,
            by=by,
            descending=ranked.descending,
            current=key,
            type=ranked.type,
            order=ranked.order,
            text=ranked.text,
        )
        return node, together([found.inside(), by_found.inside(), taken])

    def _hidden_current(self, ranked: Ranked, context: Context) -> bool:
        """Whether the cell's member of the grain is several at once: those that a grid leaves out beside the best."""
        column = ranked.grain.columns[0] if ranked.grain.columns else None
        table = column[0] if column else ranked.grain.table
        own = [
            each
            for each in context.filters
            if each.origin in ("axis", "member", "row") and each.table == table
            if column is None or each.column == column[1]
        ]
        return bool(own) and own[-1].origin == "axis" and any(isinstance(each.by, ByHidden) for each in own)

    def _current(self, ranked: Ranked, context: Context) -> tuple[int | Formula, Context] | None:
        """The key or row of the current member, and the context without it."""
        if ranked.grain.columns:
            (column,) = ranked.grain.columns
            own = [
                each
                for each in context.filters
                if each.origin in ("axis", "member") and (each.table, each.column) == column
            ]
            kept = tuple(each for each in context.filters if each not in own)
            return (_key_of(own[-1]), replace(context, filters=kept)) if own else None
        table = ranked.grain.table
        groups = {key for name, key in context.rows if name == table}
        own = [
            each
            for each in context.filters
            if each.group in groups or (each.origin in ("axis", "member", "row") and each.table == table)
        ]
        if not own:
            return None
        without = replace(context, filters=tuple(each for each in context.filters if each not in own))
        held = [key for name, key in context.rows if name == table and any(each.group == key for each in own)]
        if held:
            return held[-1], without
        bounds = Bounder(self.catalog, context).bounded(table).bounds
        row = Aggregation(bounds, "sole_row", (), 0.0, ranked.type)
        return formula_of(Slot(row, ranked.type)), without


class _Members(Struct, frozen=True):
    """A grain's visible members, the context at a member, the bounds of the grain's tables, and its keys."""

    visible: Visible
    inner: Context
    owners: list[Bounded]
    keys: list[int]


def _held(node: PlanNode | None, findings: Findings, type_: Type) -> Compiled:
    return Compiled(Constant(None, type_) if node is None else Slot(node, type_), findings)


def _key_of(one: Filter) -> int:
    if isinstance(one.by, ByHidden):
        return one.by.hidden.key
    assert isinstance(one.by, ByMember), "an axis and a member of a grain are held by a key"
    return one.by.key


def _taken_up(context: Context, taken: Added) -> Findings:
    """What an aggregate took up of its context, and what it could not."""
    every: Added = frozenset[Filter | PinnedEdge]((*context.filters, *context.edges))
    return Findings(taken=taken, missed=every - taken, aggregates=True)


def _refuse_idle(added: Iterable[tuple[Change, Added]], inside: Findings) -> None:
    """Refuse a where or pin that no aggregate of its formula can take up."""
    for change, parts in added:
        if not parts & inside.taken and (parts & inside.missed or not inside.aggregates):
            source = change.source
            raise FormulaError(
                f"{source.text} reaches no aggregate of its formula.",
                text=source.formula,
                span=source.span,
                owner=source.owner,
                fix="No filter travels from it to the aggregated rows: relate the tables, or leave it out."
                if inside.aggregates
                else "The brackets follow a formula without an aggregate. "
                f"Write sum(…)[{source.text}] around the value to sum.",
            )


def _found_within(naming: tuple[tuple[int, ...], tuple[Formula, ...]], found: Findings) -> Findings:
    """What was found of a formula that uses named values, for where these are not known."""
    ranked = None if found.ranked is None else _found_within(naming, found.ranked)
    return replace(found, judged=_within(naming, found.judged), ranked=ranked)


def _within(naming: tuple[tuple[int, ...], tuple[Formula, ...]], nodes: Iterable[PlanNode]) -> tuple[PlanNode, ...]:
    """Nodes that use named values, with these: they can only be judged where those are named."""
    numbers, values = naming
    return tuple(
        Naming(numbers, values, formula_of(Slot(node, node_type(node)))) if node_names(node) & set(numbers) else node
        for node in nodes
    )


def _bears(narrowed: Narrowed, context: Context) -> bool:
    wanted = (narrowed.table, narrowed.column)
    for each in context.filters:
        if each.origin != "row" and (each.table, each.column) == wanted:
            return True
        if isinstance(each.by, ByCondition) and any(
            isinstance(value, ColumnValue) and (value.table, value.column) == wanted
            for value in columns_in(each.by.part.expression)
        ):
            return True
    return False
