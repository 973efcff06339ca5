"""The combinations that a grid shows, grain by grain, as relations; with what its tops leave out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace
from sqlglot import exp

from relatum.data.types import BOOLEAN, INTEGER, Kind, Type
from relatum.engine.shown import ShownGrains
from relatum.engine.sql.cells import Cells, Reading, is_fixed
from relatum.engine.sql.rows import Key, Rows, same_key
from relatum.engine.sql.seen import Entry, SetRelation
from relatum.engine.sql.sheet import Frame, KeyColumn
from relatum.engine.sql.terms import (
    Sql,
    Value,
    aliased,
    all_of,
    any_of,
    blank,
    cast,
    column,
    constant,
    copied,
    equal,
    exists_not,
    is_there,
    less,
    negated,
    null,
    number,
    sql_type,
    united,
)
from relatum.engine.sql.windows import call_window, comparable, ordered, window
from relatum.language.expression import ColumnValue, Expression, NoMatch
from relatum.language.register import AGGREGATES
from relatum.model.routes import Hop, reach_of
from relatum.plan.nodes import (
    Aggregation,
    AxisBounds,
    Bounds,
    Closing,
    Formula,
    GridGrain,
    Judged,
    Match,
    Occurring,
    Plan,
    PlanNode,
    Restriction,
    Top,
    Visible,
    WithRows,
)


class SettledTop(Struct, frozen=True, eq=False):
    """A top once its hidden members are a relation; ``competing`` are the members that it chooses from."""

    top: Top
    hidden: str
    ranked: str


class Shown(ShownGrains[Frame, exp.Select, str, SettledTop]):
    """The combinations of a plan's axes that its grid shows: for each grain a relation.

    Parameters
    ----------
    plan : Plan
        What is asked.
    cells : Cells
        Works out the nodes that decide.
    """

    def __init__(self, plan: Plan, cells: Cells) -> None:
        super().__init__(plan)
        self.cells = cells
        self.parts = cells.parts
        self._allowed: dict[int, str | None] = {}

    def _one(self) -> Frame:
        return self.cells.one()

    # -- grains -------------------------------------------------------------------------------------------------------

    def _grain(self, grain: GridGrain, finer: Mapping[GridGrain, Frame]) -> Frame:
        direct = self._direct(grain, finer) if grain.keys else None
        return super()._grain(grain, finer) if direct is None else direct

    def _direct(self, grain: GridGrain, finer: Mapping[GridGrain, Frame]) -> Frame | None:
        """The groups of a grain's aggregates themselves, where its combinations are just those that have a value."""
        plain = not self.plan.tops and not grain.bare and not grain.opened and not grain.unopened
        if not plain or not grain.judged or not all(map(self._settles, grain.judged)):
            return None
        for other in finer:
            if set(grain.keys) <= set(other.keys) and not all(
                any(_coarser(one.node, judged.node) for one in grain.judged) for judged in other.judged
            ):
                return None
        if not all(self._ensured(grain, key) for key in grain.keys):
            return None
        found = [self.cells.groups(judged.node, self.cells.one()) for judged in grain.judged]  # type: ignore[arg-type]
        if len({groups.name for groups in found}) > 1 or len(found[0].entries) != len(grain.keys):
            return None
        keys = {entry.key: own for entry, own in found[0].entries}
        return Frame(found[0].name, keys, {}, tuple(dict.fromkeys(groups.value for groups in found)))

    def _settles(self, judged: Judged) -> bool:
        """Whether an aggregate's own groups are all the combinations in which it has a value."""
        return isinstance(judged.among, Occurring) or (
            isinstance(judged.among, WithRows)
            and judged.among.members is None
            and judged.among.aggregation == judged.node
        )

    def _together(self, grain: GridGrain, parts: Sequence[exp.Select], bounded: Sequence[int]) -> Frame:
        keys = {key: KeyColumn(f"k{key}", f"k{key}s") for key in grain.keys}
        if not parts:
            nothing = exp.Select(expressions=[
                each for key in grain.keys for each in (
                    aliased(blank(self.cells.key_type(key)), f"k{key}"), aliased(number(0), f"k{key}s"))
            ])  # fmt: skip
            nothing.set("where", exp.Where(this=exp.false()))
            parts = [nothing]
        allowed = {key: name for key in bounded if (name := self._may_be_shown(key)) is not None}
        conditions = [
            *(self._openness(key, True) for key in grain.opened),
            *(self._openness(key, False) for key in grain.unopened),
        ]
        whole = united(parts, distinct=True)
        hint = "shown_" + "_".join(self._word(key) for key in grain.keys)
        if isinstance(whole, exp.Select):
            whole.set("distinct", exp.Distinct())
        if not allowed and not conditions:
            return self.cells.frame(hint, whole, keys)
        frame = self.cells.frame("found", whole, keys)
        reading = Reading(self.cells, frame)
        for key, name in allowed.items():
            own = KeyColumn("k", "ks")
            reading.join(name, [(Entry(key, (), "", self.cells.key_type(key)), own)], left=False)
        for made in conditions:
            reading.rows.where.append(_at(made, reading.alias))
        return self.cells.frame(hint, reading.rows.select(*reading.columns()), keys)

    def _word(self, key: int) -> str:
        return self.cells.fields[key].column or self.cells.fields[key].table

    def _projected(self, own: Frame, held: Sequence[int], keys: Sequence[int]) -> exp.Select:
        reading = Reading(self.cells, own)
        return reading.rows.select(*self._columns(reading, keys))

    def _columns(self, reading: Reading, keys: Sequence[int]) -> list[Sql]:
        columns = []
        for key in keys:
            own = reading.key(key)
            columns.append(aliased(own.value, f"k{key}"))
            columns.append(aliased(own.state or number(0), f"k{key}s"))
        return columns

    def _openness(self, key: int, wanted: bool) -> Sql:
        """Whether a member of a field is open, as a condition on cells under the name ``?``."""
        closing = next(each for each in self.plan.closings if each.key == key)
        value, state = column("?", f"k{key}"), column("?", f"k{key}s")
        parts: list[Sql] = []
        known = _closing_values(closing, self.cells.key_type(key))
        if known:
            parts.append(all_of([equal(state, number(0)), exp.In(this=value, expressions=known)]))
        if closing.null:
            parts.append(equal(state.copy(), number(1)))
        if closing.no_match:
            parts.append(equal(state.copy(), number(2)))
        opened = any_of(parts)
        return opened if wanted else negated(opened)

    # -- what may be shown --------------------------------------------------------------------------------------------

    def _may_be_shown(self, key: int) -> str | None:
        """The members of an axis that the request's own condition leaves in its table; None where it leaves all."""
        if key not in self._allowed:
            axis = self.plan.axes[key]
            restricted = axis.bounds.restrictions or axis.bounds.kept
            self._allowed[key] = self._left(axis, key) if restricted else None
        return self._allowed[key]

    def _left(self, axis: AxisBounds, key: int) -> str:
        field = self.plan.fields[key]
        own = Match(key, (), (), field.table, field.column)
        noted = bool(axis.bounds.kept)
        groups, (kept,) = self.cells.part_members(axis.bounds, (own,), self.cells.one(), noted=noted)
        rows = Rows(self.parts, "m", self.parts.sheet.table(groups.name, "m"))
        state = number(0) if kept.state is None else column("m", kept.state)
        real = rows.select(aliased(column("m", kept.value), "k"), aliased(state, "ks"))
        unmatched = not any(reach_of(each.match.route) < 0 for each in axis.bounds.kept)
        judged = [each for each in axis.bounds.restrictions if reach_of(each.route) < 0]
        if not unmatched:
            return self.parts.sheet.add("may_be_shown", real)
        virtual = exp.Select(expressions=[aliased(blank(self.cells.key_type(key)), "k"), aliased(number(2), "ks")])
        passes = [self._unmatched_passes(each) for each in judged]
        if passes:
            virtual.set("where", exp.Where(this=all_of(passes)))
        return self.parts.sheet.add("may_be_shown", united([real, virtual], distinct=True))

    def _unmatched_passes(self, restriction: Restriction) -> Sql:
        """Whether the virtual row of no match passes a condition: every column is null there."""
        one = self.cells.one()
        rows = Rows(self.parts, "w", self.parts.sheet.table(one.name, "w"))

        def leaf(expression: Expression) -> Value:
            match expression:
                case ColumnValue(type=type_):
                    return Value(null(type_), type_)
                case NoMatch():
                    return Value(exp.true(), BOOLEAN)
                case _:
                    raise AssertionError(f"{expression} is not a column")

        return rows.value(restriction.part.expression, leaf).sql

    def _unmatched(self, hop: Hop) -> bool:
        return bool(self.parts.tables.unmatched(hop))

    # -- where something has a value ----------------------------------------------------------------------------------

    def _occurring(self, grain: GridGrain, node: Aggregation) -> exp.Select:
        return self._group_keys(grain, node, valued=True)

    def _with_rows(self, grain: GridGrain, node: Aggregation) -> exp.Select:
        return self._group_keys(grain, node, valued=True)

    def _reached(self, grain: GridGrain, node: Aggregation, free: frozenset[int], members: Visible | None) -> Frame:
        select = self._group_keys(grain, node, valued=False, free=free, members=members)
        select.set("distinct", exp.Distinct())
        return self._framed(grain, select)

    def _framed(self, grain: GridGrain, select: exp.Select | exp.Union) -> Frame:
        keys = {key: KeyColumn(f"k{key}", f"k{key}s") for key in grain.keys}
        return self.cells.frame("candidates", select, keys)

    def _where_valued(self, grain: GridGrain, node: PlanNode, every: Frame, *, whole: bool) -> exp.Select:
        reading = Reading(self.cells, every)
        reading.rows.where.append(is_there(reading.node(node)))
        return reading.rows.select(*self._columns(reading, grain.keys))

    def _group_keys(
        self,
        grain: GridGrain,
        node: Aggregation,
        *,
        valued: bool,
        free: frozenset[int] = frozenset(),
        members: Visible | None = None,
    ) -> exp.Select:
        """The combinations of an aggregation's groups; the keys that it is free of take members as rows have them."""
        groups = self.cells.groups(node, self.cells.one())
        rows = Rows(self.parts, "g", self.parts.sheet.table(groups.name, "g"))
        if valued:
            rows.where.append(is_there(column("g", groups.value)))
        own = {
            entry.key: Key(
                column("g", kept.value),
                None if kept.state is None else column("g", kept.state),
                self.cells.key_type(entry.key),
            )
            for entry, kept in groups.entries
            if not entry.at
        }
        for keys, name in self._chains(members, unmatched=True, valued=True) if members is not None else ():
            if not free.isdisjoint(keys):
                alias = self.parts.alias("free")
                there = {
                    key: Key(column(alias, f"k{key}"), column(alias, f"k{key}s"), self.cells.key_type(key))
                    for key in keys
                }
                on = [part for key in keys if key not in free for part in same_key(there[key], own[key])]
                rows.join(self.parts.sheet.table(name, alias), on, left=False)
                own.update((key, there[key]) for key in keys if key in free)
        columns = []
        for key in grain.keys:
            columns.append(aliased(own[key].value, f"k{key}"))
            columns.append(aliased(own[key].state or number(0), f"k{key}s"))
        return rows.select(*columns)

    def _unmatched_valued(self, grain: GridGrain, every: Frame, values: Iterable[Formula]) -> exp.Select:
        reading = Reading(self.cells, every)
        none = [equal(column(reading.alias, f"k{key}s"), number(2)) for key in grain.keys]
        reading.rows.where.append(any_of(none))
        reading.rows.where.append(any_of(is_there(reading.value(each).sql) for each in values))
        return reading.rows.select(*self._columns(reading, grain.keys))

    def _any_valued(self, grain: GridGrain, every: Frame) -> exp.Select:
        reading = Reading(self.cells, every)
        reading.rows.where.append(any_of([is_there(reading.node(judged.node)) for judged in grain.judged]))
        return reading.rows.select(*self._columns(reading, grain.keys))

    # -- members ------------------------------------------------------------------------------------------------------

    def _chain(self, bounds: Bounds, matches: Sequence[Match], none: bool) -> str:
        groups, own = self.cells.part_members(bounds, tuple(matches), self.cells.one())
        rows = Rows(self.parts, "m", self.parts.sheet.table(groups.name, "m"))
        columns = []
        for match, kept in zip(matches, own, strict=True):
            columns.append(aliased(column("m", kept.value), f"k{match.key}"))
            columns.append(aliased(number(0) if kept.state is None else column("m", kept.state), f"k{match.key}s"))
        whole: exp.Select | exp.Union = rows.select(*columns)
        if none:
            virtual = exp.Select(expressions=[each for match in matches for each in (
                aliased(blank(self.cells.key_type(match.key)), f"k{match.key}"),
                aliased(number(2), f"k{match.key}s"))])  # fmt: skip
            whole = united([whole, virtual], distinct=True)
        return self.parts.sheet.add("occurring", whole)

    def _crossed(self, grain: GridGrain, parts: Sequence[tuple[Sequence[int], str]], *, hidden: bool) -> Frame:
        rows: Rows | None = None
        columns: list[Sql] = []
        for at, (keys, name) in enumerate(parts):
            alias = f"p{at}"
            source = self.parts.sheet.table(name, alias)
            if rows is None:
                rows = Rows(self.parts, alias, source)
            else:
                rows.join(source, [], left=False)
            columns += copied(alias, [each for key in keys for each in (f"k{key}", f"k{key}s")])
        assert rows is not None, "a grain with keys has members"
        return self._framed(grain, rows.select(*columns))

    # -- tops ---------------------------------------------------------------------------------------------------------

    def _settle(self, top: Top, own: Frame) -> SettledTop:
        cells = self.cells
        keys = (*top.outer, top.key)
        real = Reading(cells, own)
        real.rows.where.append(less(column(real.alias, f"k{top.key}s"), number(2)))
        competing = cells.frame("competing", real.rows.select(*real.columns()), own.keys)
        valued, names = cells.with_values(competing, [formula for formula, _ in top.by], "competing_values")
        outer = [each for key in top.outer for each in (f"k{key}", f"k{key}s")]
        by = [(name, formula, down) for name, (formula, down) in zip(names, top.by, strict=True)]
        rows = Rows(self.parts, "m", self.parts.sheet.table(valued.name, "m"))
        order = [
            ordered(self.parts.dialect, column("m", name), formula.expression.type, down) for name, formula, down in by
        ]
        place = window(call_window("RANK"), outer, order)
        columns = [each for key in keys for each in (f"k{key}", f"k{key}s")]
        kept = copied("m", [*columns, names[0]])
        ranked = self.parts.sheet.add("ranked_members", rows.select(*kept, aliased(place, "place")))
        rows = Rows(self.parts, "m", self.parts.sheet.table(ranked, "m"))
        best = all_of(
            [is_there(column("m", names[0])), exp.LTE(this=column("m", "place"), expression=number(top.number))]
        )
        rows.where.append(negated(best))
        sets: Sql = number(1)
        if outer:
            window_order = [
                exp.Ordered(this=comparable(self.parts.dialect, column("m", f"k{key}"), cells.key_type(key)))
                for key in top.outer
            ]
            window_order += [exp.Ordered(this=column("m", f"k{key}s")) for key in top.outer]
            sets = window(call_window("DENSE_RANK"), [], window_order)
        hidden = self.parts.sheet.add(
            "hidden", rows.select(*copied("m", columns), aliased(cast(sets, sql_type(INTEGER)), "hidden_set"))
        )
        if top.others is not None:
            field = self.plan.fields[top.key]
            entry = Entry(top.others, (), field.table, INTEGER)
            held = ((entry, KeyColumn("hidden_set", None)),)
            cells.hidden[top.others] = SetRelation(hidden, held, (f"k{top.key}", f"k{top.key}s"))
        return SettledTop(top, hidden, ranked)

    def _without(self, own: Frame, held: Sequence[int], settled: SettledTop) -> Frame:
        reading = Reading(self.cells, own)
        reading.rows.where.append(self._is_left(reading, settled))
        return self.cells.frame("left", reading.rows.select(*reading.columns()), own.keys)

    def _is_left(self, reading: Reading, settled: SettledTop) -> Sql:
        alias = self.parts.alias("hidden")
        return exists_not(self.parts.sheet.table(settled.hidden, alias), self._as_hidden(reading, settled, alias))

    def _as_hidden(self, reading: Reading, settled: SettledTop, alias: str) -> list[Sql]:
        """What holds where a combination is that of a hidden member."""
        on: list[Sql] = []
        for key in (*settled.top.outer, settled.top.key):
            hidden = Key(column(alias, f"k{key}"), column(alias, f"k{key}s"), self.cells.key_type(key))
            on += same_key(hidden, reading.key(key))
        return on

    # -- others -------------------------------------------------------------------------------------------------------

    def _among_hidden(self, grain: GridGrain, own: Frame, held: Sequence[int], plain: Sequence[int]) -> exp.Select:
        reading = Reading(self.cells, own)
        columns: dict[int, list[Sql]] = {}
        for settled in self._within(plain):
            others = settled.top.others
            if others is None or others not in grain.others:
                reading.rows.where.append(self._is_left(reading, settled))
                continue
            alias = self.parts.alias("hidden")
            on = self._as_hidden(reading, settled, alias)
            reading.rows.join(self.parts.sheet.table(settled.hidden, alias), on, left=False)
            columns[others] = [
                aliased(column(alias, "hidden_set"), f"k{others}"),
                aliased(number(0), f"k{others}s"),
            ]
        made = [each for key in grain.keys for each in columns.get(key) or self._columns(reading, [key])]
        return reading.rows.select(*made)

    def _sets(self, settled: SettledTop, keys: Sequence[int]) -> str:
        rows = Rows(self.parts, "h", self.parts.sheet.table(settled.hidden, "h"))
        columns: list[Sql] = []
        for key in keys:
            if key == settled.top.others:
                columns += [aliased(column("h", "hidden_set"), f"k{key}"), aliased(number(0), f"k{key}s")]
            else:
                columns += copied("h", (f"k{key}", f"k{key}s"))
        return self.parts.sheet.add("sets", rows.select(*columns, distinct=True))

    def _not_hidden(self, own: Frame, held: Sequence[int], keys: Sequence[int]) -> exp.Select:
        reading = Reading(self.cells, own)
        reading.rows.where += [self._is_left(reading, settled) for settled in self._within(keys)]
        return reading.rows.select(*self._columns(reading, keys), distinct=True)

    def _beside(self, keys: Sequence[int], parts: Sequence[exp.Select]) -> str:
        return self.parts.sheet.add("beside", united(parts, distinct=True))


def _coarser(coarse: PlanNode, fine: PlanNode) -> bool:
    """Whether an aggregate has a value wherever a finer one has, of which it is the same with fewer keys."""
    if not isinstance(coarse, Aggregation) or not isinstance(fine, Aggregation):
        return False
    if not AGGREGATES[fine.function].grows or not is_fixed(fine.bounds) or fine.bounds.pinned:
        return False
    if not set(coarse.bounds.matches) <= set(fine.bounds.matches):
        return False
    return replace(fine, bounds=replace(fine.bounds, matches=coarse.bounds.matches)) == coarse


def _closing_values(closing: Closing, type_: Type) -> list[Sql]:
    if type_.kind is Kind.TEXT:
        return [constant(each, type_) for each in closing.members]
    # A fraction is not a member of a column of whole numbers.
    fraction = type_.kind is Kind.FLOAT
    return [constant(each, type_) for each in closing.members if isinstance(each, float) == fraction]


def _at(condition: Sql, alias: str) -> Sql:
    """A condition on cells under the name ``?``, on those of an alias."""
    for each in condition.find_all(exp.Column):
        if each.table == "?":
            each.set("table", exp.Identifier(this=alias, quoted=True))
    return condition
