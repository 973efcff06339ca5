"""Formulas on frames: every aggregate, nested or moved, for all cells at once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from types import MappingProxyType
from typing import assert_never

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from relatum.data import vectors as v
from relatum.data.columns import Array, Column, exact_column
from relatum.data.days import day_of
from relatum.data.groups import Links, ascends, number_groups
from relatum.data.types import INTEGER
from relatum.engine.memory.aggregates import (
    Collected,
    Folded,
    Folds,
    MemberCode,
    kernel_of,
    null_column,
    over_rows,
)
from relatum.engine.memory.align import aligned, taken_at, with_bounds
from relatum.engine.memory.date_sets import DateSets, cell_codes
from relatum.engine.memory.frames import Frame, frame_at
from relatum.engine.memory.groups import Groups
from relatum.engine.memory.hidden import HiddenSets
from relatum.engine.memory.keeps import Keeps, same_for_cells
from relatum.engine.memory.member_limit import pairs_of, refuse_many
from relatum.engine.memory.ranks import RANKING_KERNELS, Members
from relatum.engine.memory.rows import evaluate_tree
from relatum.engine.memory.scanned import Coded, Scanned, coded, folds_of, row_values
from relatum.engine.memory.scans import Found, Marked, Scans, before, bundled, stripped
from relatum.engine.memory.store import MemoryStore
from relatum.language.expression import Expression, Slot
from relatum.model.names import column_name
from relatum.model.routes import Place, Route, reach_of
from relatum.plan.dependencies import bounds_keys, dates_keys, kept_keys, new_keys, node_keys, node_names
from relatum.plan.engine import CutPeriod, LeftOutMember, Loss, PartPeriod
from relatum.plan.few import formulas_of
from relatum.plan.nodes import (
    Aggregation,
    Bounds,
    Field,
    Formula,
    Hidden,
    Kept,
    KeyColumn,
    Match,
    Named,
    Naming,
    Nested,
    PlanNode,
    RankedAmong,
    Restriction,
    Visible,
)
from relatum.plan.parts import aggregations, always_kept, carriers, keeps_always, only_aggregation, own_rows_key
from relatum.plan.slots import node_in

_EVERYWHERE: Marked = MappingProxyType({})


class _Wanted(Struct, frozen=True):
    """A coded column of rows; with ``links`` the sets that its codes lead to, of which there are ``size``."""

    key: Coded
    links: Links | None = None
    size: int = 0


class Evaluator:
    """Works out the formulas of a plan.

    Parameters
    ----------
    store : MemoryStore
        The data.
    fields : sequence of Field
        The plan's keys.
    axes : int
        How many of them are a grid's; scans for the grains of a grid are shared.
    """

    def __init__(self, store: MemoryStore, fields: Sequence[Field], axes: int) -> None:
        self.store = store
        self.scans = Scans(store)
        self.axes = axes
        self.sizes = {
            key: store.members(field.table, field.column).size if field.column else store.rows(Place(field.table)) + 1
            for key, field in enumerate(fields)
        }
        self.fields = fields
        self.dates = DateSets(self.scans, self.sizes, self.kept_links)
        #: The sets of hidden members, for each key that holds them.
        self.hidden: dict[int, HiddenSets] = {}
        self._values: dict[Aggregation, tuple[Groups, Column]] = {}
        #: Of which lookups a formula leaves no match out, where that has a value: its text, and the table.
        self.unmatched: dict[tuple[str, str], None] = {}
        self._known: dict[PlanNode, tuple[tuple[int, ...], list[Array], Column]] = {}
        self.keeps = Keeps(self)

    # -- formulas -----------------------------------------------------------------------------------------------------

    def values(self, formula: Formula, frame: Frame) -> Column:
        """A formula's value for each cell of a frame."""

        def leaf(expression: Expression) -> Column:
            assert isinstance(expression, Slot), "the formulas of a plan read cells through slots"
            return with_bounds(self.node(node_in(expression), frame))

        return v.spread(evaluate_tree(formula.expression, leaf), frame.size)

    def node(self, node: PlanNode, frame: Frame) -> Column:
        """A node's value for each cell, computed once for cells that agree in what it depends on."""
        match node:
            case Named(number):
                return frame.names[number]
            case Naming(numbers, values, body):
                for number, value in zip(numbers, values, strict=True):
                    frame = frame.named({number: self.values(value, frame)})
                return self.values(body, frame)
            case KeyColumn():
                return self._key_column(node, frame)
            case Aggregation() | Nested() | RankedAmong():
                return self._shared(node, frame)
            case _:
                assert_never(node)

    def _shared(self, node: Aggregation | Nested | RankedAmong, frame: Frame) -> Column:
        if node in self._known:
            keys, codes, values = self._known[node]
            return aligned(codes, [frame.codes[key] for key in keys], [self.sizes[k] for k in keys], values, frame.size)
        if node_names(node):
            return self._worked_out(node, frame)
        cells, numbers = frame.project(node_keys(node), self.sizes)
        column = self._worked_out(node, cells)
        if not cells.codes and cells.size:
            # It depends on no key: what it is in one cell, it is in all.
            self.remember(node, cells, column)
        return column if numbers is None else column.take(numbers)

    def remember(self, node: PlanNode, cells: Frame, values: Column) -> None:
        """Keep a node's values for all cells in which it has one, so that they are not computed again."""
        keys = tuple(cells.codes)
        self._known[node] = keys, [cells.codes[key] for key in keys], values

    def _worked_out(self, node: Aggregation | Nested | RankedAmong, cells: Frame) -> Column:
        match node:
            case Aggregation():
                return self._aggregation(node, cells)
            case Nested():
                return self._nested(node, cells)
            case RankedAmong():
                return self._ranked(node, cells)
            case _:
                assert_never(node)

    def _key_column(self, node: KeyColumn, frame: Frame) -> Column:
        codes = frame.codes[node.key]
        field = self.fields[node.key]
        if field.column and node.placed is not None:
            if (field.table, field.column) != (node.table, node.column):
                codes = self.store.attribute(field.table, field.column, node.route, node.table, node.column).codes[
                    codes
                ]
            places = self.store.order(node.table, node.column, node.placed)
            return exact_column(INTEGER, places[codes], codes >= self.store.members(node.table, node.column).null)
        if field.column:
            members = self.store.members(field.table, field.column)
            return v.with_nulls_after(members.values, 2).take(codes)
        rows = self.store.positions(node.route, codes)
        place = node.route[-1].target if node.route else Place(field.table)
        if node.no_match:
            return v.truth(rows == self.store.rows(place))
        return self.store.extended(place, node.column).take(rows)

    # -- aggregates over rows -----------------------------------------------------------------------------------------

    def _aggregation(self, node: Aggregation, cells: Frame) -> Column:
        groups, own, values = self.grouped(node, cells)
        return aligned(groups.codes, own, groups.sizes, values, cells.size)

    def grouped(self, node: Aggregation, cells: Frame) -> tuple[Groups, list[Array], Column]:
        """The groups of an aggregation, what cells are compared with them by, and its value in each group.

        Groups that are the same for all cells are found once.
        """
        fixed = same_for_cells(node.bounds)
        if fixed and node in self._values:
            groups, values = self._values[node]
            return groups, cell_codes(self.scans, node.bounds.matches, cells), values
        found = self.found(node, cells, ())
        values = self.group_values(node, found)
        if fixed:
            self._values[node] = found.groups, values
        return found.groups, found.cells, values

    def found(self, node: Aggregation, cells: Frame, extra: Sequence[Match], among: Marked = _EVERYWHERE) -> Found:
        """The groups of an aggregation's rows: by what cells match on, and by more keys; of the rows of some members.

        Parameters
        ----------
        node : Aggregation
            The aggregation.
        cells : Frame
            The cells that its groups will be compared with.
        extra : sequence of Match
            The further keys.
        among : mapping of Among to numpy.ndarray of bool, optional
            The only members whose rows are looked at, a truth for each code.
        """
        bounds = node.bounds
        own = [coded(match) for match in bounds.matches]
        more = [coded(match) for match in extra]
        codes = cell_codes(self.scans, bounds.matches, cells)
        related: list[_Wanted] = []
        for each in bounds.dates:
            numbers, links, size = self.dates.links(each, cells)
            related.append(_Wanted(Coded(each.route, each.calendar.table, ""), links, size))
            codes.append(numbers)
        in_outer: dict[int, Hidden] = {}
        matched = {each.key for each in bounds.matches}
        marked = always_kept(bounds)
        for one in bounds.kept:
            if one in marked:
                continue
            alone = reach_of(one.match.route) < 0
            if isinstance(one, Hidden) and alone and self.hidden[one.key].outer <= matched:
                # A row's own outer members say in which one set it could be: it is not led on to all that hold it. A
                # row that reaches several members is in their set once, so it is led on.
                in_outer[len(own) + len(more) + len(related)] = one
                related.append(_Wanted(coded(one.match)))
                codes.append(cells.codes[one.key])
                continue
            numbers, links, size = self.kept_links(one, cells)
            related.append(_Wanted(coded(one.match), links, size))
            codes.append(numbers)
        pinned = [_Wanted(Coded(each.route, each.table, each.column)) for each in bounds.pinned]
        wanted = [*(_Wanted(key) for key in (*own, *more)), *related, *pinned]
        scanned, groups = self._columns(node, wanted, extra, among)
        for place, one in in_outer.items():
            groups = self._in_hidden_sets(groups, place, one, bounds.matches)
        at = len(own) + len(more) + len(related)
        for pin in bounds.pinned:
            groups = groups.at_edge(at, range(len(own), len(own) + len(more)), pin.edge == "last")
        if more:
            # Extra keys last: what cells are compared with is first.
            order = [*range(len(own)), *range(len(own) + len(more), at), *range(len(own), len(own) + len(more))]
            groups = groups.ordered(order)
        return Found(scanned, groups, codes, len(more))

    def _in_hidden_sets(self, groups: Groups, at: int, one: Hidden, matches: Sequence[Match]) -> Groups:
        """The groups with, for a member, the set that it is hidden in under their outer ones; others are left out."""
        hidden = self.hidden[one.key]
        place = {match.key: number for number, match in enumerate(matches)}
        own = [*(groups.codes[place[key]] for key in hidden.keys[:-1]), groups.codes[at]]
        return groups.recoded(at, hidden.sets_of(own), self.sizes[one.key])

    def _columns(
        self, node: Aggregation, wanted: list[_Wanted], extra: Sequence[Match], among: Marked
    ) -> tuple[Scanned, Groups]:
        """The groups of a scan with a column for each thing wanted, led on to sets where it says so."""
        every = [each.key for each in wanted]
        _, bundles = bundled(every, node.bounds.restrictions)
        keys, family = self._scan_keys(node, every, extra)
        marks = {**self.keeps.marks(node.bounds, tested=True), **among}
        scanned, groups = self.scans.groups(node, keys, marks, family)
        place = {_Wanted(key): at for at, key in enumerate(keys)}
        for route, (inner, parts) in bundles.items():
            own = list(dict.fromkeys(each for each in wanted if each.key in inner))
            at = place[_Wanted(before(route))]
            links = self._reached_links(route, own, parts)
            doubled = groups.ordered([*range(len(groups.codes)), at])
            sizes = [each.size if each.links else self.scans.size(each.key) for each in own]
            groups = doubled.led_on(len(groups.codes), links, sizes)
            place.update({each: len(groups.codes) - len(own) + number for number, each in enumerate(own)})
        order = [place.get(each, place.get(_Wanted(each.key), -1)) for each in wanted]
        if order != list(range(len(groups.codes))):
            groups = groups.ordered(order).merged()
        for at, each in enumerate(wanted):
            if each.links is not None and each not in place:
                groups = groups.led_on(at, each.links, [each.size])
        return scanned, groups

    def _reached_links(self, route: Route, wanted: list[_Wanted], parts: list[Restriction]) -> Links:
        """For each key of a reaching hop, the distinct codes and sets of the rows that it reaches."""
        keys = list(dict.fromkeys(each.key for each in wanted))
        reached = self.scans.reached_codes(route, [stripped(key, len(route)) for key in keys], parts)
        size = len(reached.offsets) - 1
        owners, targets = reached.follow(np.arange(size))
        codes = [targets[:, keys.index(each.key)] for each in wanted]
        for at, each in enumerate(wanted):
            if each.links is not None:
                # A row is in a set once, however many of the rows that it reaches are.
                again, sets = each.links.follow(codes[at])
                owners = owners[again]
                codes = [sets if number == at else own[again] for number, own in enumerate(codes)]
        sizes = [size, *(each.size if each.links else self.scans.size(each.key) for each in wanted)]
        distinct, _ = number_groups([owners, *codes], sizes, len(owners))
        return Links.of(distinct[:, 0], distinct[:, 1:], size)

    def _scan_keys(
        self, node: Aggregation, wanted: list[Coded], extra: Sequence[Match]
    ) -> tuple[tuple[Coded, ...], object]:
        direct, bundles = bundled(wanted, node.bounds.restrictions)
        keys = tuple(dict.fromkeys([*direct, *(before(route) for route in bundles)]))
        plain = not extra and not bundles and not node.bounds.dates and not node.bounds.pinned
        plain = plain and keeps_always(node.bounds)
        on_axes = plain and all(match.key < self.axes for match in node.bounds.matches)
        return keys, "grid" if on_axes else frozenset(keys)

    def prepare(self, formulas: Iterable[Formula]) -> None:
        """Tell the scans what the formulas will ask, so that one scan serves several."""
        every = list(aggregations(formulas, formulas_of))
        self.keeps.prepare(every)
        for node in every:
            bounds = node.bounds
            wanted = [coded(match) for match in bounds.matches]
            wanted += [Coded(each.route, each.calendar.table, "") for each in bounds.dates]
            marked = always_kept(bounds)
            wanted += [coded(each.match) for each in bounds.kept if each not in marked]
            wanted += [Coded(each.route, each.table, each.column) for each in bounds.pinned]
            keys, family = self._scan_keys(node, wanted, ())
            self.scans.want(node, keys, marked, family)

    def group_values(self, node: Aggregation, found: Found) -> Column:
        """The value of an aggregation for each group."""
        groups, scanned = found.groups, found.scanned
        if not groups.count:
            return null_column(node.type, 0)
        kernel = kernel_of(node)
        match kernel:
            case Collected(collect):
                if groups.rows is None or not groups.columns:
                    return null_column(node.type, groups.count)
                columns = [groups.columns[scanned.numbers[value]] for value in row_values(node)]
                return collect(groups.rows, columns, groups.count, node.fraction, node.type)
            case Folded(finish=finish):
                folds = [groups.folds[scanned.folds[fold]] for fold in folds_of(node, scanned.numbers)]
                scale = node.arguments[0].type.scale if node.arguments else 0
                return finish(Folds(node.type, scale, folds, self._members_of(node)))
            case _:
                assert_never(kernel)

    def _members_of(self, node: Aggregation) -> Column | None:
        """The members that codes of an aggregation's argument stand for."""
        for value in row_values(node):
            if isinstance(value, MemberCode):
                return self.store.members(value.value.table, value.value.column).values
        return None

    # -- members of a cell --------------------------------------------------------------------------------------------

    def pairs(self, visible: Visible, cells: Frame, unmatched: bool = False) -> tuple[Array, dict[int, Array]]:
        """The members that each cell sees: for each the cell, and the codes of the new keys."""
        parents = np.arange(cells.size)
        codes: dict[int, Array] = {}
        for number, (bounds, matches) in enumerate(visible.parts):
            owners, own = self._part_pairs(bounds, matches, cells, unmatched)
            if not number:
                # The first part: its own cells, in their order.
                order = slice(None) if ascends(owners) else np.argsort(owners, kind="stable")
                parents, codes = owners[order], {key: each[order] for key, each in own.items()}
                continue
            left, right = pairs_of([parents], [owners], [max(cells.size, 1)])
            codes = {key: each[left] for key, each in codes.items()}
            codes.update({key: each[right] for key, each in own.items()})
            parents = parents[left]
        return parents, codes

    def _part_pairs(
        self, bounds: Bounds, matches: Sequence[Match], cells: Frame, unmatched: bool
    ) -> tuple[Array, dict[int, Array]]:
        if not cells.codes and cells.size == 1 and (key := own_rows_key(bounds, matches)) is not None:
            # Each row is a member of its own: there is nothing to group.
            visible = self.scans.visible_rows(bounds.source, bounds.restrictions, self.keeps.marks(bounds))
            rows = np.flatnonzero(visible)
            refuse_many(len(rows))
            return np.zeros(len(rows), np.int64), {key: rows}
        counted = Aggregation(bounds, "count_rows", (), 0.0, INTEGER)
        return self._occurring(self.found(counted, cells, matches), matches, cells, unmatched)

    def _occurring(
        self, found: Found, matches: Sequence[Match], cells: Frame, unmatched: bool
    ) -> tuple[Array, dict[int, Array]]:
        """The groups of extra keys that each cell has rows in."""
        count = len(found.groups.codes) - found.extra
        own, new = found.groups.codes[:count], found.groups.codes[count:]
        keep = np.ones(found.groups.count, np.bool_)
        for match, each in zip(matches, new, strict=True):
            if not unmatched:
                keep &= each != self.sizes[match.key] - 1
        rows = np.flatnonzero(keep)
        if count:
            owners, positions = pairs_of(found.cells, [each[rows] for each in own], found.groups.sizes[:count])
        else:
            refuse_many(cells.size * len(rows))
            owners = np.repeat(np.arange(cells.size), len(rows))
            positions = np.tile(np.arange(len(rows)), cells.size)
        return owners, {match.key: each[rows][positions] for match, each in zip(matches, new, strict=True)}

    def valued_pairs(self, visible: Visible, formula: Formula, cells: Frame) -> tuple[Array, dict[int, Array], bool]:
        """The members that each cell sees and at which a formula can have a value; and whether no match can have one.

        Where the members that are visible do not depend on the cell, and rows of the formula's aggregates say at which
        of them it can have a value, only these are looked at: not every member for every cell.
        """
        new = new_keys(visible)
        fixed = not any(bounds_keys(bounds) for bounds, _ in visible.parts) and len(visible.parts) == 1
        wanted = carriers(formula, new) if fixed and formula.strict else None
        if wanted is None:
            return *self.pairs(visible, cells), True
        if not cells.codes:
            return self._valued_rows(visible, wanted, cells)
        ((bounds, matches),) = visible.parts
        _, seen = self._part_pairs(bounds, matches, Frame(1, {}), False)
        parts: list[tuple[Array, dict[int, Array]]] = []
        unmatched = False
        for node in wanted:
            extra = tuple(match for match in node.bounds.matches if match.key in new)
            outer = tuple(match for match in node.bounds.matches if match.key not in new)
            # What depends on the member cannot be known before there are members: more are read, none is lost.
            kept = tuple(each for each in node.bounds.kept if not kept_keys(each) & new)
            dates = tuple(each for each in node.bounds.dates if not dates_keys(each) & new)
            wide = replace(node, bounds=replace(node.bounds, matches=outer, pinned=(), kept=kept, dates=dates))
            found = self.found(wide, cells, extra)
            parts.append(self._occurring(found, extra, cells, False))
            codes_of = found.groups.codes[len(found.groups.codes) - found.extra :]
            last = [self.sizes[match.key] - 1 for match in extra]
            unmatched |= any(bool((own == no).any()) for own, no in zip(codes_of, last, strict=True))
        keys = sorted(new)
        owners = np.concatenate([each for each, _ in parts])
        codes = [np.concatenate([own[key] for _, own in parts]) for key in keys]
        sizes = [self.sizes[key] for key in keys]
        inside, _ = pairs_of(codes, [seen[key] for key in keys], sizes)
        columns = [owners[inside], *(each[inside] for each in codes)]
        distinct, _ = number_groups(columns, [max(cells.size, 1), *sizes], len(inside))
        return distinct[:, 0], {key: distinct[:, at] for at, key in enumerate(keys, 1)}, unmatched

    def _valued_rows(
        self, visible: Visible, wanted: Sequence[Aggregation], cells: Frame
    ) -> tuple[Array, dict[int, Array], bool]:
        """The members of a table that are visible, and at which one of the aggregates wanted has rows."""
        ((bounds, matches),) = visible.parts
        key = own_rows_key(bounds, matches) if cells.size == 1 else None
        if key is None or not all(same_for_cells(node.bounds) for node in wanted):
            return *self.pairs(visible, cells), True
        valued = np.zeros(self.sizes[key], np.bool_)
        for node in wanted:
            valued[self.found(node, Frame(0, {key: np.zeros(0, np.int64)}), ()).groups.codes[0]] = True
        rows = np.flatnonzero(valued[:-1])
        rows = self.scans.visible_among(rows, bounds.source, bounds.restrictions, self.keeps.marks(bounds))
        refuse_many(len(rows))
        return np.zeros(len(rows), np.int64), {key: rows}, bool(valued[-1])

    def _nested(self, node: Nested, cells: Frame) -> Column:
        inner_node = only_aggregation(node)
        if inner_node is not None:
            return self._over_groups(node, inner_node, cells)
        unmatched = False
        if node.drops:
            parents, new, unmatched = self.valued_pairs(node.visible, node.arguments[0], cells)
        else:
            parents, new = self.pairs(node.visible, cells)
        inner = cells.expanded(parents, new)
        for condition in node.conditions:
            holds = self.values(condition, inner)
            keep = np.flatnonzero(holds.values & v.known(holds))
            parents, inner = parents[keep], frame_at(inner, keep)
        arguments = [self.values(argument, inner) for argument in node.arguments]
        if unmatched:
            self.find_unmatched(node.text, node.visible, node.arguments[0], cells)
        if node.drops and arguments[0].nulls is not None:
            keep = np.flatnonzero(~arguments[0].nulls)
            parents, arguments = parents[keep], [argument.take(keep) for argument in arguments]
        present, numbers = np.unique(parents, return_inverse=True)
        if not len(present):
            return null_column(node.type, cells.size)
        values = over_rows(node.function, node.type, node.fraction, arguments, numbers, len(present))
        place = np.full(cells.size, -1, np.int64)
        place[present] = np.arange(len(present))
        return taken_at(values, place)

    def find_unmatched(
        self, text: str, visible: Visible, formula: Formula, cells: Frame, condition: bool = False
    ) -> None:
        """Take down the tables of a grain whose no match has a value (or fulfils a condition), which is left out."""
        matches = [match for _, own in visible.parts for match in own]
        for match in matches:
            if (text, match.table) in self.unmatched:
                continue
            unmatched = self.sizes[match.key] - 1
            parents, new = np.arange(cells.size), {match.key: np.full(cells.size, unmatched)}
            if len(matches) > 1:
                parents, new = self.pairs(visible, cells, unmatched=True)
                rows = np.flatnonzero(new[match.key] == unmatched)
                parents, new = parents[rows], {key: codes[rows] for key, codes in new.items()}
            inner = cells.expanded(parents, new)
            valued = np.zeros(inner.size, np.bool_)
            for node in formula.inputs:
                if not isinstance(node, KeyColumn) and match.key in node_keys(node):
                    valued |= v.known(self.node(node, inner))
            value = self.values(formula, inner)
            if bool((valued & v.known(value) & (value.values if condition else True)).any()):
                self.unmatched[text, match.table] = None

    def _over_groups(self, node: Nested, inner: Aggregation, cells: Frame) -> Column:
        """A ``per`` of one aggregate: its groups are the members that have a value, so that no others are looked at."""
        new = {match.key for _, matches in node.visible.parts for match in matches}
        found = self.found(inner, Frame(0, {each.key: np.zeros(0, np.int64) for each in inner.bounds.matches}), ())
        values = self.group_values(inner, found)
        valued = np.ones(found.groups.count, np.bool_) & v.known(values)
        keep, outer = valued.copy(), []
        for at, match in enumerate(inner.bounds.matches):
            if match.key in new:
                unmatched = found.groups.codes[at] == self.sizes[match.key] - 1
                if bool((valued & unmatched).any()):
                    self.unmatched[node.text, match.table] = None
                keep &= ~unmatched
            else:
                outer.append(at)
        rows = np.flatnonzero(keep)
        codes = [found.groups.codes[at][rows] for at in outer]
        sizes = [found.groups.sizes[at] for at in outer]
        if not len(rows):
            return null_column(node.type, cells.size)
        distinct, numbers = number_groups(codes, sizes, len(rows))
        taken = values.take(rows)
        argument = Column(taken.type, taken.values, None, taken.dictionary, taken.lower, taken.upper)
        result = over_rows(node.function, node.type, node.fraction, [with_bounds(argument)], numbers, len(distinct))
        own = cell_codes(self.scans, [inner.bounds.matches[at] for at in outer], cells)
        return aligned([distinct[:, at] for at in range(len(outer))], own, sizes, result, cells.size)

    def _ranked(self, node: RankedAmong, cells: Frame) -> Column:
        keys = node_keys(node)
        if isinstance(node.current, int):
            wanted = cells.codes[node.current]
        else:
            row = self.values(node.current, cells)
            wanted = np.where(v.known(row), row.values.astype(np.int64), -1)
        outer = keys - ({node.current} if isinstance(node.current, int) else frozenset())
        inside = node.formula.keys | (node.by.keys if node.by else frozenset())
        if isinstance(node.current, int) and node.current in inside:
            outer = keys
        narrow, numbers = (cells, None) if node_names(node) else cells.project(outer, self.sizes)
        parents, new = self.pairs(node.visible, narrow)
        inner = narrow.expanded(parents, new)
        formula = self.values(node.formula, inner)
        by = None if node.by is None else self.values(node.by, inner)
        self.find_unmatched(node.text, node.visible, node.formula, narrow)
        ((key, codes),) = new.items()
        field = self.fields[key]
        places = codes if not field.column else self.store.order(field.table, field.column, node.order)[codes]
        figures = RANKING_KERNELS[node.function](node.type, Members(parents, formula, by, node.descending, places))
        own = numbers if numbers is not None else np.arange(cells.size)
        return aligned([parents, codes], [own, wanted], [max(narrow.size, 1), self.sizes[key] + 1], figures, cells.size)

    def kept_links(self, kept: Kept | Hidden, cells: Frame) -> tuple[Array, Links, int]:
        """For each cell the number of its set of members; for each member the sets that hold it."""
        if isinstance(kept, Hidden):
            return cells.codes[kept.key], self.hidden[kept.key].links, self.sizes[kept.key]
        return self.keeps.links(kept, cells)

    def losses(self) -> Iterator[Loss]:
        """What was left out, and what the reader of the values should know."""
        for calendar, end in self.dates.cut:
            yield CutPeriod(calendar, day_of(end))
        yield from self.dates.uneven
        for place in self.dates.partly:
            yield PartPeriod(" and ".join(column_name(place.table, column) for column in place.level))
        for text, table in self.unmatched:
            yield LeftOutMember(text, table)
        yield from self.keeps.nulls
        yield from self.scans.losses()
