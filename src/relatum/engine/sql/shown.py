"""The combinations that a grid shows, grain by grain, as relations; with what its tops leave out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace
from sqlglot import exp

from relatum.data.types import BOOLEAN, INTEGER, Kind, Type
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
from relatum.model.routes import reach_of
from relatum.plan.nodes import (
    Aggregation,
    AxisBounds,
    Closing,
    EveryMember,
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
from relatum.plan.parts import ensures


class SettledTop(Struct, frozen=True, eq=False):
    """A top once its hidden members are a relation; ``competing`` are the members that it chooses from."""

    top: Top
    hidden: str
    ranked: str


class Shown:
    """The combinations of a plan's axes that its grid shows.

    Parameters
    ----------
    plan : Plan
        What is asked.
    cells : Cells
        Works out the nodes that decide.
    """

    def __init__(self, plan: Plan, cells: Cells) -> None:
        self.plan = plan
        self.cells = cells
        self.parts = cells.parts
        self.settled: list[SettledTop] = []
        self._allowed: dict[int, str | None] = {}

    def frames(self) -> list[Frame]:
        """For each grain the relation of its combinations."""
        found: dict[GridGrain, Frame] = {}
        for grain in self.plan.grains:
            if not grain.others:
                found[grain] = self._grain(grain, found)
        left = self._settle(found)
        for grain in self.plan.grains:
            if grain.others:
                left[grain] = self._others(grain, found, left)
        return [left[grain] for grain in self.plan.grains]

    # -- grains -------------------------------------------------------------------------------------------------------

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

    def _ensured(self, grain: GridGrain, key: int) -> bool:
        """Whether the rows that decide what is shown have no member of a key that may not be shown."""
        return all(ensures(judged, self.plan.axes[key], key) for judged in grain.judged)

    def _grain(self, grain: GridGrain, finer: Mapping[GridGrain, Frame]) -> Frame:
        if not grain.keys:
            return self.cells.one()
        direct = self._direct(grain, finer)
        if direct is not None:
            return direct
        parts = [self._of_frame(own, grain.keys) for other, own in finer.items() if set(grain.keys) <= set(other.keys)]
        parts += [self._valued(grain, judged) for judged in grain.judged]
        if grain.bare is not None:
            parts += self._bare(grain, grain.bare)
        left_open = [key for key in grain.keys if grain.bare is not None or not self._ensured(grain, key)]
        return self._together(grain, parts, [key for key in left_open if self._may_be_shown(key) is not None])

    def _together(self, grain: GridGrain, parts: Sequence[exp.Select], bounded: Iterable[int] = ()) -> Frame:
        """The distinct combinations of several selects, as far as they may be shown."""
        keys = {key: KeyColumn(f"k{key}", f"k{key}s") for key in grain.keys}
        if not parts:
            nothing = exp.Select(expressions=[
                each for key in grain.keys for each in (
                    aliased(blank(self.cells.key_type(key)), f"k{key}"), aliased(number(0), f"k{key}s"))
            ])  # fmt: skip
            nothing.set("where", exp.Where(this=exp.false()))
            parts = [nothing]
        bounded = list(bounded)
        conditions = [
            *(self._openness(key, True) for key in grain.opened),
            *(self._openness(key, False) for key in grain.unopened),
        ]
        whole = united(parts, distinct=True)
        hint = "shown_" + "_".join(self._word(key) for key in grain.keys)
        if isinstance(whole, exp.Select):
            whole.set("distinct", exp.Distinct())
        if not bounded and not conditions:
            return self.cells.frame(hint, whole, keys)
        frame = self.cells.frame("found", whole, keys)
        reading = Reading(self.cells, frame)
        for key in bounded:
            allowed = self._may_be_shown(key)
            assert allowed is not None, "a bounded key has members that may be shown"
            own = KeyColumn("k", "ks")
            reading.join(allowed, [(Entry(key, (), "", self.cells.key_type(key)), own)], left=False)
        for made in conditions:
            reading.rows.where.append(_at(made, reading.alias))
        return self.cells.frame(hint, reading.rows.select(*reading.columns()), keys)

    def _word(self, key: int) -> str:
        return self.cells.fields[key].column or self.cells.fields[key].table

    def _of_frame(self, frame: Frame, keys: Sequence[int]) -> exp.Select:
        reading = Reading(self.cells, frame)
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

    def _has_unmatched(self, key: int, *, valued: bool = False) -> bool:
        axis = self.plan.axes[key]
        hops = (*axis.lookups, *axis.levels) if valued else axis.lookups
        return any(self.parts.tables.unmatched(hop) for hop in hops)

    # -- where something has a value ----------------------------------------------------------------------------------

    def _valued(self, grain: GridGrain, judged: Judged) -> exp.Select:
        node = judged.node
        match judged.among:
            case Occurring():
                assert isinstance(node, Aggregation), "only rows occur"
                return self._group_keys(grain, node, valued=True)
            case WithRows(aggregation, free, members):
                if members is None and aggregation == node:
                    return self._group_keys(grain, aggregation, valued=True)
                select = self._group_keys(grain, aggregation, valued=False, free=free, members=members)
                select.set("distinct", exp.Distinct())
                return self._where_valued(grain, node, self._framed(grain, select))
            case EveryMember():
                return self._where_valued(grain, node, self._every_member(grain, unmatched=True, valued=True))
            case _:
                assert_never(judged.among)

    def _framed(self, grain: GridGrain, select: exp.Select | exp.Union) -> Frame:
        keys = {key: KeyColumn(f"k{key}", f"k{key}s") for key in grain.keys}
        return self.cells.frame("candidates", select, keys)

    def _where_valued(self, grain: GridGrain, node: PlanNode, frame: Frame) -> exp.Select:
        reading = Reading(self.cells, frame)
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
        for name, keys in self._chains(members, unmatched=True, valued=True) if members is not None else ():
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

    # -- bare members -------------------------------------------------------------------------------------------------

    def _bare(self, grain: GridGrain, values: Iterable[Formula]) -> list[exp.Select]:
        """The visible members, and no match by itself where some value of the request is not null."""
        real = self._of_frame(self._every_member(grain, unmatched=False), grain.keys)
        if not any(self._has_unmatched(key) for key in grain.keys):
            return [real]
        reading = Reading(self.cells, self._every_member(grain, unmatched=True))
        none = [equal(column(reading.alias, f"k{key}s"), number(2)) for key in grain.keys]
        reading.rows.where.append(any_of(none))
        reading.rows.where.append(any_of(is_there(reading.value(each).sql) for each in values))
        return [real, reading.rows.select(*self._columns(reading, grain.keys))]

    def _every_member(self, grain: GridGrain, *, unmatched: bool, valued: bool = False) -> Frame:
        """The visible members, those of one chain as they occur; with ``unmatched`` also each chain's no match."""
        return self._framed(grain, self._crossed(self._chains(grain.members, unmatched=unmatched, valued=valued)))

    def _chains(self, members: Visible, *, unmatched: bool, valued: bool = False) -> list[tuple[str, list[int]]]:
        """For each lookup chain its keys, and the relation of the combinations of their members that rows have.

        With ``unmatched`` no match of the whole chain is one of them where some row finds nothing there; with
        ``valued`` also where some row of a coarser fact finds nothing.
        """
        names: list[tuple[str, list[int]]] = []
        for bounds, matches in members.parts:
            keys = [match.key for match in matches]
            groups, own = self.cells.part_members(bounds, matches, self.cells.one())
            rows = Rows(self.parts, "m", self.parts.sheet.table(groups.name, "m"))
            columns = []
            for key, kept in zip(keys, own, strict=True):
                columns.append(aliased(column("m", kept.value), f"k{key}"))
                columns.append(aliased(number(0) if kept.state is None else column("m", kept.state), f"k{key}s"))
            whole: exp.Select | exp.Union = rows.select(*columns)
            if unmatched and all(self._has_unmatched(key, valued=valued) for key in keys):
                virtual = exp.Select(expressions=[each for key in keys for each in (
                    aliased(blank(self.cells.key_type(key)), f"k{key}"), aliased(number(2), f"k{key}s"))])  # fmt: skip
                whole = united([whole, virtual], distinct=True)
            names.append((self.parts.sheet.add("occurring", whole), keys))
        return names

    def _crossed(self, relations: Sequence[tuple[str, Sequence[int]]]) -> exp.Select:
        """Every combination of the rows of relations, each with its keys."""
        rows: Rows | None = None
        columns: list[Sql] = []
        for at, (name, keys) in enumerate(relations):
            alias = f"p{at}"
            source = self.parts.sheet.table(name, alias)
            if rows is None:
                rows = Rows(self.parts, alias, source)
            else:
                rows.join(source, [], left=False)
            columns += copied(alias, [each for key in keys for each in (f"k{key}", f"k{key}s")])
        assert rows is not None, "a grain with keys has members"
        return rows.select(*columns)

    # -- tops ---------------------------------------------------------------------------------------------------------

    def _settle(self, found: Mapping[GridGrain, Frame]) -> dict[GridGrain, Frame]:
        """The grains without hidden members."""
        left = dict(found)
        for top in self.plan.tops:
            prefix = (*top.outer, top.key)
            frame = next(own for grain, own in left.items() if grain.keys == prefix and not grain.unopened)
            settled = self._settle_one(top, frame)
            self.settled.append(settled)
            for grain, own in left.items():
                if set(prefix) <= set(grain.keys):
                    left[grain] = self._without(own, settled)
        return left

    def _settle_one(self, top: Top, frame: Frame) -> SettledTop:
        cells = self.cells
        keys = (*top.outer, top.key)
        own = Reading(cells, frame)
        own.rows.where.append(less(column(own.alias, f"k{top.key}s"), number(2)))
        competing = cells.frame("competing", own.rows.select(*own.columns()), frame.keys)
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

    def _without(self, frame: Frame, settled: SettledTop) -> Frame:
        keys = (*settled.top.outer, settled.top.key)
        reading = Reading(self.cells, frame)
        reading.rows.where.append(self._not_hidden(reading, keys, settled))
        return self.cells.frame("left", reading.rows.select(*reading.columns()), frame.keys)

    def _not_hidden(self, reading: Reading, keys: Sequence[int], settled: SettledTop) -> Sql:
        alias = self.parts.alias("hidden")
        on = [part for key in keys for part in same_key(self._hidden_key(alias, key), reading.key(key))]
        return exists_not(self.parts.sheet.table(settled.hidden, alias), on)

    def _hidden_key(self, alias: str, key: int) -> Key:
        return Key(column(alias, f"k{key}"), column(alias, f"k{key}s"), self.cells.key_type(key))

    # -- others -------------------------------------------------------------------------------------------------------

    def _others(self, grain: GridGrain, found: Mapping[GridGrain, Frame], left: Mapping[GridGrain, Frame]) -> Frame:
        """The combinations that others are shown in: where a hidden member is, and where others have a value."""
        parts = self._hidden_combinations(grain, found)
        every = self._framed(grain, self._halves(grain, found))
        reading = Reading(self.cells, every)
        reading.rows.where.append(any_of([is_there(reading.node(judged.node)) for judged in grain.judged]))
        parts.append(reading.rows.select(*self._columns(reading, grain.keys)))
        for other, own in left.items():
            if set(grain.keys) < set(other.keys):
                parts.append(self._of_frame(own, grain.keys))
        return self._together(grain, parts)

    def _hidden_combinations(self, grain: GridGrain, found: Mapping[GridGrain, Frame]) -> list[exp.Select]:
        """The combinations of a grain with others in which a hidden member's own combination lies."""
        of = {each.top.others: each for each in self.settled if each.top.others is not None}
        plain = tuple(of[key].top.key if key in grain.others else key for key in grain.keys)
        selects = []
        for other, frame in found.items():
            if not set(plain) <= set(other.keys):
                continue
            reading = Reading(self.cells, frame)
            columns: dict[int, list[Sql]] = {}
            for settled in self.settled:
                keys = (*settled.top.outer, settled.top.key)
                if not set(keys) <= set(plain):
                    continue
                if settled.top.others not in grain.others:
                    reading.rows.where.append(self._not_hidden(reading, keys, settled))
                    continue
                alias = self.parts.alias("hidden")
                on = [part for key in keys for part in same_key(self._hidden_key(alias, key), reading.key(key))]
                reading.rows.join(self.parts.sheet.table(settled.hidden, alias), on, left=False)
                assert settled.top.others is not None, "others have a key"
                columns[settled.top.others] = [
                    aliased(column(alias, "hidden_set"), f"k{settled.top.others}"),
                    aliased(number(0), f"k{settled.top.others}s"),
                ]
            made = [each for key in grain.keys for each in columns.get(key) or self._columns(reading, [key])]
            selects.append(reading.rows.select(*made))
        return selects

    def _halves(self, grain: GridGrain, found: Mapping[GridGrain, Frame]) -> exp.Select:
        """Every combination that others could have: each set beside each combination of the other axis."""
        rows_of = [
            [key for key in grain.keys if (self._field(key) < self.plan.row_count) == on] for on in (True, False)
        ]
        return self._crossed([(self._half(keys, found), keys) for keys in rows_of if keys])

    def _field(self, key: int) -> int:
        return next((top.key for top in self.plan.tops if top.others == key), key)

    def _half(self, keys: list[int], found: Mapping[GridGrain, Frame]) -> str:
        for settled in self.settled:
            if settled.top.others in keys:
                rows = Rows(self.parts, "h", self.parts.sheet.table(settled.hidden, "h"))
                columns = []
                for key in keys:
                    if key == settled.top.others:
                        columns += [aliased(column("h", "hidden_set"), f"k{key}"), aliased(number(0), f"k{key}s")]
                    else:
                        columns += copied("h", (f"k{key}", f"k{key}s"))
                return self.parts.sheet.add("sets", rows.select(*columns, distinct=True))
        selects = []
        for other, frame in found.items():
            if set(keys) <= set(other.keys):
                reading = Reading(self.cells, frame)
                for settled in self.settled:
                    prefix = (*settled.top.outer, settled.top.key)
                    if set(prefix) <= set(keys):
                        reading.rows.where.append(self._not_hidden(reading, prefix, settled))
                selects.append(reading.rows.select(*self._columns(reading, keys), distinct=True))
        return self.parts.sheet.add("beside", united(selects, distinct=True))


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
