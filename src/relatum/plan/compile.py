"""From resolved formulas, axis fields and filters to a plan, with what the reader should know about it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from relatum.data.types import Type
from relatum.errors import FormulaError, ModelError, Span
from relatum.language.catalog import Catalog
from relatum.language.expression import (
    Aggregate,
    Apply,
    ColumnValue,
    Constant,
    ContextChange,
    Expression,
    FilterPart,
    Grain,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
    columns_in,
    is_plain,
    rewritten,
)
from relatum.language.functions import SCALARS
from relatum.model.names import column_name, quoted
from relatum.model.routes import Place
from relatum.plan.bounds import Bounded, Bounder, attached, row_route
from relatum.plan.context import Context, Filter, changed, conditions, request_filters
from relatum.plan.dependencies import formula_keys, formula_names, node_names
from relatum.plan.nodes import (
    Aggregation,
    Combine,
    Field,
    Formula,
    Kept,
    KeyColumn,
    Match,
    Named,
    Naming,
    Nested,
    Node,
    Plan,
    RankedAmong,
    Visible,
)

#: Stands among what a bracket's aggregates took up, to say that there are any.
_AGGREGATE = "an aggregate"


@dataclass(frozen=True, slots=True)
class Note:
    """Something true about a result that the reader should know."""

    kind: str
    text: str


@dataclass(frozen=True, slots=True)
class Grid:
    """What a plan is made from: axis fields (rows first), values, filters, and the grains wanted, finest first."""

    fields: tuple[Field, ...]
    formulas: tuple[Expression, ...]
    filters: tuple[FilterPart, ...]
    grains: tuple[tuple[int, ...], ...]
    row_count: int = 0
    show_empty: bool = False
    cell_limit: int = 1_000_000


def compile_plan(catalog: Catalog, grid: Grid) -> tuple[Plan, list[Note]]:
    """The plan that answers a grid.

    Parameters
    ----------
    catalog : Catalog
        Columns and routes.
    grid : Grid
        The resolved request.

    Returns
    -------
    tuple of Plan and list of Note
        The plan, and a note for every aggregate that has no value at a grain because nothing relates it.
    """
    compiler = Compiler(catalog, grid.fields)
    combines: list[Combine] = []
    judged: tuple[Node, ...] = ()
    any_judged = False
    for number, keys in enumerate(grid.grains):
        context = compiler.grain_context(keys, grid)
        compiler.axes, compiler.judged, compiler.any_judged = context.filters[: len(keys)], {}, False
        combines.append(Combine(keys, tuple(compiler.formula(each, context) for each in grid.formulas)))
        if not number:
            judged, any_judged = tuple(compiler.judged), compiler.any_judged
    bare = Context(tuple(request_filters(grid.filters)))
    members = compiler.members(grid.fields, range(len(grid.fields)), bare)
    show = bool(grid.fields) and (grid.show_empty or not any_judged)
    fields = tuple(compiler.fields)
    return (
        Plan(fields, len(grid.fields), tuple(combines), judged, members, show, grid.cell_limit),
        list(compiler.notes),
    )


def compile_rows(catalog: Catalog, table: str, expression: Expression) -> tuple[tuple[Field, ...], Formula]:
    """The formula of a derived column: its cells are the rows of a table, held by key 0."""
    compiler = Compiler(catalog, (Field(table),))
    context = Context().with_row(catalog, table, 0, "row")
    formula = compiler.formula(expression, context)
    return tuple(compiler.fields), formula


class Compiler:
    """Compiles formulas in contexts; keys that it adds are numbered after the grid's fields."""

    def __init__(self, catalog: Catalog, fields: Iterable[Field]) -> None:
        self.catalog = catalog
        self.fields = list(fields)
        self.notes: dict[Note, None] = {}
        self.judged: dict[Node, None] = {}
        self.any_judged = False
        self.axes: tuple[Filter, ...] = ()
        self._depth = 0
        self._reached: list[set[Filter]] = []
        #: For each bracket in hand: the filters and pins that an aggregate in it took up, and those that one could not.
        self._brackets: list[tuple[set[object], set[object]]] = []

    def grain_context(self, keys: tuple[int, ...], grid: Grid) -> Context:
        """The context of one grain's cells."""
        axes = [
            Filter(
                "axis",
                self.fields[key].table,
                frozenset([self.fields[key].column]),
                key,
                axis="rows" if key < grid.row_count else "columns",
            )
            for key in keys
        ]
        return Context((*axes, *request_filters(grid.filters)))

    def _new_key(self, table: str, column: str = "") -> int:
        self.fields.append(Field(table, column))
        return len(self.fields) - 1

    # -- formulas -----------------------------------------------------------------------------------------------------

    def formula(self, expression: Expression, context: Context) -> Formula:
        """A formula in a context."""
        inputs: dict[Node, int] = {}
        resolved = self._rewrite(expression, context, inputs)
        nodes = tuple(inputs)
        return Formula(resolved, nodes, formula_keys(nodes), formula_names(nodes), _strict(resolved, nodes))

    def _inside(self, expression: Expression, context: Context) -> Formula:
        self._depth += 1
        try:
            return self.formula(expression, context)
        finally:
            self._depth -= 1

    def _rewrite(self, expression: Expression, context: Context, inputs: dict[Node, int]) -> Expression:
        def leaf(part: Expression) -> Expression:
            match part:
                case InContext(formula, changes):
                    self._note_finer_axes(changes, context)
                    after = changed(self.catalog, context, changes, self._keep)
                    self._brackets.append((set(), set()))
                    inside = self._rewrite(formula, after, inputs)
                    self._refuse_idle(changes, *self._brackets.pop())
                    return inside
                case LetIn(numbers, values, body):
                    # Each value is worked out where the let stands; a later one may use an earlier one.
                    formulas = tuple(self.formula(value, context) for value in values)
                    before = set(self.judged)
                    node: Node | None = Naming(numbers, formulas, self.formula(body, context))
                    self._name_judged(before, numbers, formulas)
                case LetValue(number, type_):
                    node = Named(number, type_)
                case Narrowed():
                    bears = _bears(part, context)
                    self._take_up(context, context.filters if bears else ())
                    return Constant(bears, part.type)
                case ColumnValue() | NoMatch():
                    node = self._key_column(part, context)
                case Aggregate():
                    node = self._aggregate(part, context)
                case Ranked():
                    node = self._ranked(part, context)
                case _:
                    return part
            if node is None:
                return Constant(None, part.type)
            return Slot(inputs.setdefault(node, len(inputs)), part.type)

        return rewritten(expression, leaf)

    def _take_up(self, context: Context, filters: Iterable[Filter], bounded: Bounded | None = None) -> None:
        """Record what an aggregate took up of its context, and what it could not, for the bracket around it."""
        if self._brackets:
            pins = {(each.word, each.table, each.column) for each in bounded.bounds.pinned} if bounded else set()
            taken, missed = self._brackets[-1]
            taken |= {_AGGREGATE, *filters, *pins}
            missed |= {*context.filters, *context.pinned} - {*filters, *pins}

    def _refuse_idle(self, changes: tuple[ContextChange, ...], taken: set[object], missed: set[object]) -> None:
        """Refuse a where or pin that no aggregate of its formula can take up; tell the bracket around."""
        for change in changes:
            parts: set[object] = set()
            if change.kind in ("where", "pin"):
                first_or_last = change.word in ("first", "last")
                parts = {(change.word, *change.targets[0])} if first_or_last else set(conditions(change))
            if parts and not parts & taken and (parts & missed or _AGGREGATE not in taken):
                raise FormulaError(
                    f"{change.text} reaches no aggregate of its formula.",
                    text=change.within,
                    span=change.span,
                    owner=change.owner,
                    fix="No filter travels from there to the rows aggregated: relate the tables, or leave it out."
                    if _AGGREGATE in taken
                    else "The brackets follow a formula that an aggregate belongs in; it has none.",
                )
        if self._brackets:
            self._brackets[-1][0].update(taken)
            self._brackets[-1][1].update(missed)

    def _note_finer_axes(self, changes: tuple[ContextChange, ...], context: Context) -> None:
        """Note a calendar column set aside while a finer one stays on an axis: the finer one still says which."""
        for change in changes:
            for table, column in (
                change.targets if change.kind in ("pin", "ignoring") and change.word in ("", "=", "null") else ()
            ):
                if not table or not column or not self.catalog.is_calendar(table):
                    continue
                for axis in context.filters:
                    finer = axis.kind == "axis" and axis.table == table and axis.column not in ("", column)
                    if finer and self.catalog.determines(Place(table, (axis.column,)), column):
                        self._note(
                            "finer",
                            f"{change.text} has no effect beside {column_name(table, axis.column)} on an axis, "
                            f"which settles {column_name(table, column)}.",
                        )

    def _name_judged(self, before: set[Node], numbers: tuple[int, ...], formulas: tuple[Formula, ...]) -> None:
        """Aggregates that use named values can only be judged where those are named."""
        judged: dict[Node, None] = {}
        for node in self.judged:
            if node not in before and node_names(node) & set(numbers):
                body = Formula(Slot(0, node_type(node)), (node,), formula_keys((node,)), node_names(node))
                judged[Naming(numbers, formulas, body)] = None
            else:
                judged[node] = None
        self.judged = judged

    def _key_column(self, value: ColumnValue | NoMatch, context: Context) -> KeyColumn:
        catalog = self.catalog.opening(context.opened)
        column = value.column if isinstance(value, ColumnValue) else ""
        for table, key in reversed(context.rows):
            if isinstance(value, NoMatch):
                if any(place.table == value.table for place in catalog.routes.lookups(Place(table))):
                    return KeyColumn(key, row_route(catalog, table, value.table), value.table, "", value.type, True)
            else:
                route = catalog.lookup(table, value.table, column)
                if route is not None:
                    return KeyColumn(key, route, value.table, column, value.type)
        for name, key in reversed(context.columns):
            if name == (value.table, column):
                return KeyColumn(key, (), value.table, column, value.type)
        raise AssertionError("resolved columns can be read")

    # -- aggregates ---------------------------------------------------------------------------------------------------

    def _aggregate(self, aggregate: Aggregate, context: Context) -> Node | None:
        try:
            node = self._per(aggregate, context) if aggregate.grain else self._over_rows(aggregate, context)
        except ModelError as error:
            raise FormulaError(error.reason, text=aggregate.text, span=_whole(aggregate.text), fix=error.fix) from None
        return node

    def _over_rows(self, aggregate: Aggregate, context: Context) -> Node | None:
        source = aggregate.row_table
        catalog = self.catalog.opening(context.opened)
        bounder = Bounder(self.catalog, context, _sources(aggregate.arguments))
        bounded = bounder.bounded(source)
        if all(map(is_plain, aggregate.arguments)) and not bounded.keyed:
            if not self._has_value(aggregate, context, bounded, bounded.reached):
                return None
            arguments = tuple(attached(argument, source, catalog) for argument in aggregate.arguments)
            node: Node = Aggregation(bounded.bounds, aggregate.function, arguments, aggregate.fraction, aggregate.type)
            return self._judge(node, aggregate, bounded.reached)
        key = self._new_key(source)
        carried, _ = bounder.carried_out([source])
        inner = carried.with_row(self.catalog, source, key, "row")
        self._reached.append(set())
        arguments_inside = tuple(self._inside(argument, inner) for argument in aggregate.arguments)
        conditions = tuple(self._inside(part.expression, inner) for part in bounded.keyed)
        reached = bounded.reached | self._reached.pop()
        if not self._has_value(aggregate, context, bounded, reached):
            return None
        visible = Visible(((bounded.bounds, (Match(key, (), (), source, ""),)),))
        nested = Nested(
            visible, aggregate.function, arguments_inside, conditions, aggregate.fraction, aggregate.type, False
        )
        return self._judge(nested, aggregate, reached)

    def _per(self, aggregate: Aggregate, context: Context) -> Node | None:
        assert aggregate.grain is not None
        visible, inner, owners, _ = self._grain(aggregate.grain, context, _sources(aggregate.arguments))
        self._reached.append(set())
        (argument,) = aggregate.arguments
        formula = self._inside(argument, inner)
        reached = frozenset(self._reached.pop()).union(*(owner.reached for owner in owners))
        if not self._has_value(aggregate, context, owners[0], reached):
            return None
        node = Nested(
            visible, aggregate.function, (formula,), (), aggregate.fraction, aggregate.type, True, aggregate.text
        )
        return self._judge(node, aggregate, reached)

    def _grain(
        self, grain: Grain, context: Context, ends: tuple[str, ...]
    ) -> tuple[Visible, Context, list[Bounded], list[int]]:
        """A grain's visible members, the context at a member, the bounds of its tables, and its keys."""
        bounder = Bounder(self.catalog, context, ends)
        if grain.table:
            bounded = bounder.bounded(grain.table)
            key = self._new_key(grain.table)
            carried, _ = bounder.carried_out([grain.table])
            visible = Visible(((bounded.bounds, (Match(key, (), (), grain.table, ""),)),))
            return visible, carried.with_row(self.catalog, grain.table, key, "member"), [bounded], [key]
        keys = [self._new_key(*column) for column in grain.columns]
        fields = tuple(Field(*column) for column in grain.columns)
        owners = self._owners(fields, context)
        parts, all_bounds = [], []
        for owner, positions in owners.items():
            bounded = bounder.bounded(owner)
            matches = tuple(self._own_match(owner, fields[at], keys[at], context) for at in positions)
            parts.append((bounded.bounds, matches))
            all_bounds.append(bounded)
        inner, _ = bounder.carried_out(owners)
        for field, key in zip(fields, keys, strict=True):
            inner = inner.with_member(field.table, field.column, key)
        return Visible(tuple(parts)), inner, all_bounds, keys

    def _own_match(self, owner: str, field: Field, key: int, context: Context) -> Match:
        route = self.catalog.opening(context.opened).filter(field.table, frozenset([field.column]), owner)
        assert route is not None
        return Match(key, (), route, field.table, field.column)

    def members(self, fields: tuple[Field, ...], keys: Iterable[int], context: Context) -> Visible:
        """The visible combinations of columns: those of one chain as they occur, those of different chains freely."""
        numbers = list(keys)
        parts = []
        for owner, positions in self._owners(fields, context).items():
            bounded = Bounder(self.catalog, context).bounded(owner)
            matches = tuple(self._own_match(owner, fields[at], numbers[at], context) for at in positions)
            parts.append((bounded.bounds, matches))
        return Visible(tuple(parts))

    def _owners(self, fields: tuple[Field, ...], context: Context) -> dict[str, list[int]]:
        catalog = self.catalog.opening(context.opened)
        tables = list(dict.fromkeys(field.table for field in fields))

        def finds(start: str, other: str) -> bool:
            columns = [field.column for field in fields if field.table == other]
            routes = [catalog.filter(other, frozenset([column]), start) for column in columns]
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
        for at, field in enumerate(fields):
            owner = next(table for table in finest if table == field.table or finds(table, field.table))
            owners.setdefault(owner, []).append(at)
        return owners

    # -- blanks and notes ---------------------------------------------------------------------------------------------

    def _has_value(self, aggregate: Aggregate, context: Context, bounded: Bounded, reached: Iterable[Filter]) -> bool:
        """Whether an aggregate has a value in its context; notes why not."""
        reached = set(reached)
        if self._reached:
            self._reached[-1] |= reached
        self._take_up(context, reached, bounded)
        in_force = self._depth == 0 and all(axis in context.filters or axis in reached for axis in self.axes)
        if bounded.empty:
            self.any_judged |= in_force and aggregate.function != "sole"
            self._note(
                "period",
                f"{aggregate.text} has no value: no period of {quoted(bounded.empty)} is chosen that could be moved. "
                "Put a period on an axis or in a condition.",
            )
            return False
        if aggregate.repeat:
            return True
        missed = [each for each in context.filters if each.kind not in ("row", "dates") and each not in reached]
        for each in missed:
            self._note_unrelated(aggregate, each)
        self.any_judged |= bool(missed) and in_force
        return not missed

    def _judge(self, node: Node, aggregate: Aggregate, reached: Iterable[Filter]) -> Node:
        reached = set(reached)
        if self._depth == 0 and aggregate.function != "sole" and all(axis in reached for axis in self.axes):
            self.judged[node] = None
            self.any_judged = True
        return node

    def _note(self, kind: str, text: str) -> None:
        self.notes[Note(kind, text)] = None

    def _note_unrelated(self, aggregate: Aggregate, each: Filter) -> None:
        start = aggregate.row_table or (aggregate.grain.table if aggregate.grain else "") or "its rows"
        source = quoted(start) if start != "its rows" else start
        found = self.catalog.routes.lookups(Place(start)) if start != "its rows" else {}
        coarse = any(place.table == each.table and place.level for place in found)
        where = f"where {each.text}" if each.part is not None else f"by {column_name(each.table, each.column)}"
        if each.part is None and not each.column:
            where = f"by {quoted(each.table)}"
        reason = (
            f"{source} is related to {quoted(each.table)} at a coarser level"
            if coarse
            else f"no relationship leads from {source} to {quoted(each.table)}"
        )
        self._note(
            "unrelated",
            f"{aggregate.text} has no value {where}: {reason}. "
            'Relate them, or repeat the value with unrelated = "repeat" on its measure.',
        )

    # -- keep and rank ------------------------------------------------------------------------------------------------

    def _keep(self, change: ContextChange, context: Context) -> Filter:
        ((table, column),) = change.targets
        assert change.formula is not None
        grain = Grain(table) if not column else Grain("", ((table, column),))
        if change.word:
            chain = self._chain(table, context)
            aside = tuple(
                each for each in context.filters if not (each.kind in ("axis", "member", "row") and each.table in chain)
            )
            context = replace(context, filters=aside)
        visible, inner, _, (key,) = self._grain(grain, context, _sources([change.formula]))
        self._reached.append(set())
        formula = self._inside(change.formula, inner)
        bears = frozenset(self._reached.pop())
        kept = Kept(visible, formula, change.word, change.number, Match(key, (), (), table, column), change.text)
        return Filter("keep", table, frozenset([column]) if column else None, kept=kept, bears=bears, text=change.text)

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

    def _ranked(self, ranked: Ranked, context: Context) -> Node | None:
        self._take_up(context, context.filters)
        current = self._current(ranked, context)
        if current is None:
            grain = ranked.grain.table or column_name(*ranked.grain.columns[0])
            self._note("among", f"{ranked.text} has no value where {grain} has no current member.")
            return None
        key, without = current
        visible, inner, _, _ = self._grain(ranked.grain, without, _sources([ranked.formula]))
        self._reached.append(set())
        formula = self._inside(ranked.formula, inner)
        by = None if ranked.by is None else self._inside(ranked.by, inner)
        inside = self._reached.pop()
        if self._reached:
            self._reached[-1] |= inside
        return RankedAmong(visible, ranked.function, formula, by, ranked.descending, key, ranked.type, ranked.text)

    def _current(self, ranked: Ranked, context: Context) -> tuple[int | Formula, Context] | None:
        """The key or row of the current member, and the context without it."""
        if ranked.grain.columns:
            (column,) = ranked.grain.columns
            own = [
                each
                for each in context.filters
                if each.kind in ("axis", "member") and (each.table, each.column) == column
            ]
            kept = tuple(each for each in context.filters if each not in own)
            return (own[-1].key, replace(context, filters=kept)) if own else None
        table = ranked.grain.table
        groups = {key for name, key in context.rows if name == table}
        own = [
            each
            for each in context.filters
            if each.group in groups or (each.kind in ("axis", "member", "row") and each.table == table)
        ]
        if not own:
            return None
        without = replace(context, filters=tuple(each for each in context.filters if each not in own))
        held = [key for name, key in context.rows if name == table and any(each.group == key for each in own)]
        if held:
            return held[-1], without
        bounds = Bounder(self.catalog, context).bounded(table).bounds
        row = Aggregation(bounds, "sole row", (), 0.0, ranked.type)
        return Formula(Slot(0, ranked.type), (row,), formula_keys((row,)), frozenset(), True), without


def _sources(expressions: Iterable[Expression]) -> tuple[str, ...]:
    """The row tables of all aggregates inside formulas."""
    return tuple(dict.fromkeys(source for expression in expressions for source in _sources_in(expression)))


def _sources_in(expression: Expression) -> Iterator[str]:
    match expression:
        case Aggregate(arguments=arguments, row_table=table):
            if table:
                yield table
            for argument in arguments:
                yield from _sources_in(argument)
        case Apply(arguments=arguments):
            for argument in arguments:
                yield from _sources_in(argument)
        case InContext(formula=formula) | Ranked(formula=formula):
            yield from _sources_in(formula)
        case LetIn(values=values, body=body):
            for value in (*values, body):
                yield from _sources_in(value)


def _strict(expression: Expression, nodes: tuple[Node, ...]) -> bool:
    """Whether a formula is null wherever its aggregates all are."""
    if isinstance(expression, Slot):
        node = nodes[expression.number]
        if isinstance(node, Nested):
            return node.drops or node.function not in ("count", "distinct")  # 0 where rows have no value
        return isinstance(node, Aggregation) or (isinstance(node, Naming) and node.body.strict)
    if not isinstance(expression, Apply):
        return False
    each = [_strict(argument, nodes) for argument in expression.arguments]
    if expression.function == "plus":
        return all(each)
    if expression.function == "nullif":
        return each[0]
    return SCALARS[expression.function].null == "any" and any(each)


def _bears(filtered: Narrowed, context: Context) -> bool:
    for each in context.filters:
        if each.kind not in ("row",) and each.table == filtered.table and each.column == filtered.column:
            return True
        if each.part is not None and any(
            isinstance(value, ColumnValue) and (value.table, value.column) == (filtered.table, filtered.column)
            for value in columns_in(each.part.expression)
        ):
            return True
    return False


def node_type(node: Node) -> Type:
    """The type of a node's value."""
    return node.body.expression.type if isinstance(node, Naming) else node.type


def _whole(text: str) -> Span:
    return Span(0, len(text))
