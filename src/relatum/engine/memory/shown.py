"""Which combinations of a grid's members are shown at each grain, as arrays of member codes."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array
from relatum.data.groups import joined, number_groups
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.filters import passes_unmatched
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.member_limit import refuse_many
from relatum.engine.memory.scans import Found
from relatum.engine.memory.tops import SettledTop, settle_top
from relatum.engine.openings import opened_members
from relatum.engine.shown import ShownGrains
from relatum.errors import LimitError
from relatum.model.routes import Hop, reach_of
from relatum.plan.engine import LeftOut
from relatum.plan.nodes import (
    Aggregation,
    AxisBounds,
    Bounds,
    DateSet,
    Formula,
    GridGrain,
    Match,
    Plan,
    PlanNode,
    Restriction,
    Top,
    Visible,
)


class Shown(ShownGrains[Array, Array, Array, SettledTop]):
    """The combinations of a plan's axes that its grid shows, grain by grain.

    For each grain they are an array of member codes: a row for each combination, a column for each key, in order.

    Parameters
    ----------
    plan : Plan
        What is asked.
    evaluator : Evaluator
        Works out the nodes that decide.
    """

    def __init__(self, plan: Plan, evaluator: Evaluator) -> None:
        super().__init__(plan)
        self.evaluator = evaluator
        self.left_out: list[LeftOut] = []
        self._allowed: dict[int, NDArray[np.bool_]] = {}
        self._opened: dict[int, NDArray[np.bool_]] = {}

    def grains(self) -> list[Array]:
        """The combinations of each grain of the plan, in order."""
        left = super().grains()
        for codes in left:
            self._refuse_many(len(codes))
        return left

    def opened(self, key: int) -> NDArray[np.bool_]:
        """Which members of a field are open."""
        if key not in self._opened:
            closing = next(each for each in self.plan.closings if each.key == key)
            field = self.plan.fields[key]
            self._opened[key] = opened_members(closing, self.evaluator.store.members(field.table, field.column))
        return self._opened[key]

    def _one(self) -> Array:
        return np.zeros((1, 0), np.int64)

    def _projected(self, own: Array, held: Sequence[int], keys: Sequence[int]) -> Array:
        return own[:, [held.index(key) for key in keys]]

    def _together(self, grain: GridGrain, parts: Sequence[Array], bounded: Sequence[int]) -> Array:
        every = _below(parts, len(grain.keys))
        for key in bounded:
            every = every[self._may_be_shown(key)[every[:, grain.keys.index(key)]]]
        for key, wanted in (*((key, True) for key in grain.opened), *((key, False) for key in grain.unopened)):
            every = every[self.opened(key)[every[:, grain.keys.index(key)]] == wanted]
        shown = self._distinct(grain.keys, every)
        if any(top.key in grain.keys for top in self.plan.tops):
            refuse_many(len(shown))  # most of them are hidden yet
        else:
            self._refuse_many(len(shown))
        return shown

    def _distinct(self, keys: Sequence[int], codes: Array) -> Array:
        sizes = [self.evaluator.sizes[key] for key in keys]
        return number_groups([codes[:, at] for at in range(len(keys))], sizes, len(codes))[0]

    def _refuse_many(self, count: int) -> None:
        if count > self.plan.cell_limit:
            raise LimitError(
                f"The grid would have {count:,} combinations; the limit is {self.plan.cell_limit:,}.",
                fix="Use a coarser column, filter, or raise the limit: cells under [limits], --limit-cells, "
                "cell_limit.",
            )

    # -- what may be shown --------------------------------------------------------------------------------------------

    def _may_be_shown(self, key: int) -> NDArray[np.bool_]:
        """Which members of an axis the request's own condition leaves in their table."""
        if key not in self._allowed:
            self._allowed[key] = self._left(self.plan.axes[key], key)
        return self._allowed[key]

    def _left(self, axis: AxisBounds, key: int) -> NDArray[np.bool_]:
        size = self.evaluator.sizes[key]
        restrictions, kept = axis.bounds.restrictions, axis.bounds.kept
        if not restrictions and not kept:
            return np.ones(size, np.bool_)
        field = self.plan.fields[key]
        if kept:
            own = Match(key, (), (), field.table, field.column)
            _, seen = self.evaluator.pairs(Visible(((axis.bounds, (own,)),)), Frame(1, {}))
            left = np.zeros(size, np.bool_)
            left[seen[key]] = True
            # Kept members are real ones: what finds none is left out with the rest.
            left[-1] = not any(reach_of(each.match.route) < 0 for each in kept) and self._unmatched_pass(restrictions)
            return left
        rows = self.evaluator.scans.visible_rows(field.table, restrictions)
        left = np.zeros(size, np.bool_)
        left[self.evaluator.store.members(field.table, field.column).codes[rows]] = True
        left[-1] = self._unmatched_pass(restrictions)
        return left

    def _unmatched_pass(self, restrictions: Iterable[Restriction]) -> bool:
        return all(passes_unmatched(each) for each in restrictions if reach_of(each.route) < 0)

    def _unmatched(self, hop: Hop) -> bool:
        return self.evaluator.store.index(hop).unmatched > 0

    # -- where something has a value ----------------------------------------------------------------------------------

    def _occurring(self, grain: GridGrain, node: Aggregation) -> Array:
        empty = Frame(0, {key: np.zeros(0, np.int64) for key in grain.keys})
        groups, _, values = self.evaluator.grouped(node, empty)
        place = {match.key: at for at, match in enumerate(node.bounds.matches)}
        codes = np.stack([groups.codes[place[key]] for key in grain.keys], axis=1)
        return codes if values.nulls is None else codes[~np.broadcast_to(values.nulls, len(codes))]

    def _with_rows(self, grain: GridGrain, node: Aggregation) -> Array:
        found, codes = self._groups(grain, node)
        values = self.evaluator.group_values(node, found)
        self.evaluator.remember(node, _frame(grain, codes), values)
        return codes[np.flatnonzero(v.known(values) & np.ones(len(codes), np.bool_))]

    def _reached(self, grain: GridGrain, node: Aggregation, free: frozenset[int], members: Visible | None) -> Array:
        _, codes = self._groups(grain, node)
        if members is not None:
            codes = self._freely(grain, codes, free, members)
        return self._distinct(grain.keys, codes)

    def _where_valued(self, grain: GridGrain, node: PlanNode, every: Array, *, whole: bool) -> Array:
        frame = _frame(grain, every)
        values = self.evaluator.node(node, frame)
        if whole:
            self.evaluator.remember(node, frame, values)
        valued: NDArray[np.bool_] = np.broadcast_to(v.known(values), len(every))
        return every[valued]

    def _unmatched_valued(self, grain: GridGrain, every: Array, values: Iterable[Formula]) -> Array:
        last = np.array([self.evaluator.sizes[key] - 1 for key in grain.keys])
        every = every[(every == last).any(axis=1)]
        frame = _frame(grain, every)
        valued = np.zeros(len(every), np.bool_)
        for formula in values:
            valued |= v.there(self.evaluator.values(formula, frame))
        return every[valued]

    def _any_valued(self, grain: GridGrain, every: Array) -> Array:
        frame = _frame(grain, every)
        found = np.zeros(len(every), np.bool_)
        for judged in grain.judged:
            found |= v.there(self.evaluator.node(judged.node, frame))
        return every[found]

    def _groups(self, grain: GridGrain, node: Aggregation) -> tuple[Found, Array]:
        """The groups of an aggregation whose dates may be moved, and the combination of each."""
        codes = self._dates_of(node.bounds.dates[0]) if node.bounds.dates else {}
        size = len(next(iter(codes.values()))) if codes else 1
        blank = {match.key: np.zeros(size, np.int64) for match in node.bounds.matches}
        found = self.evaluator.found(node, Frame(size, {**blank, **codes}), ())
        place = {match.key: at for at, match in enumerate(node.bounds.matches)}
        columns = {key: found.groups.codes[place[key]] for key in grain.keys if key in place}
        if codes:
            # The number of a set of dates represents the cells that have it, each reached by its own codes.
            at = len(node.bounds.matches)
            numbers, sets = found.cells[at], found.groups.codes[at]
            first = np.zeros(int(numbers.max(initial=0)) + 1, np.int64)
            first[numbers] = np.arange(size)
            columns.update({key: own[first[sets]] for key, own in codes.items() if key in grain.keys})
        blank_codes = np.zeros(found.groups.count, np.int64)
        return found, np.stack([columns.get(key, blank_codes) for key in grain.keys], axis=1)

    def _freely(self, grain: GridGrain, codes: Array, free: frozenset[int], members: Visible) -> Array:
        """Combinations, each with the members of the free keys that may be shown and that rows have beside the rest."""
        place = {key: at for at, key in enumerate(grain.keys)}
        for keys, own in self._chains(members, unmatched=True, valued=True):
            new = [at for at, key in enumerate(keys) if key in free]
            if not new:
                continue
            for at in new:
                own = own[self._may_be_shown(keys[at])[own[:, at]]]
            held = [at for at in range(len(keys)) if at not in new]
            if not held:
                refuse_many(len(codes) * len(own))
            left = [np.zeros(len(codes), np.int64), *(codes[:, place[keys[at]]] for at in held)]
            right = [np.zeros(len(own), np.int64), *(own[:, at] for at in held)]
            one, other = joined(left, right, [1, *(self.evaluator.sizes[keys[at]] for at in held)])
            codes = codes[one]
            codes[:, [place[keys[at]] for at in new]] = own[other][:, new]
        return codes

    def _dates_of(self, dates: DateSet) -> dict[int, Array]:
        """All combinations of a set of dates' own keys that the calendar has."""
        if not dates.matches:
            return {}
        store = self.evaluator.store
        codes = [store.members(match.table, match.column).codes.astype(np.int64) for match in dates.matches]
        sizes = [self.evaluator.sizes[match.key] for match in dates.matches]
        distinct, _ = number_groups(codes, sizes, len(codes[0]))
        return {match.key: distinct[:, at] for at, match in enumerate(dates.matches)}

    # -- members ------------------------------------------------------------------------------------------------------

    def _chain(self, bounds: Bounds, matches: Sequence[Match], none: bool) -> Array:
        keys = [match.key for match in matches]
        _, codes = self.evaluator.pairs(Visible(((bounds, tuple(matches)),)), Frame(1, {}), unmatched=True)
        own = np.stack([codes[key] for key in keys], axis=1)
        if none:
            own = np.concatenate([own, [[self.evaluator.sizes[key] - 1 for key in keys]]])
        return self._distinct(keys, own)

    def _crossed(self, grain: GridGrain, parts: Sequence[tuple[Sequence[int], Array]], *, hidden: bool) -> Array:
        count = math.prod(len(own) for _, own in parts)
        if hidden:
            refuse_many(count)
        else:
            self._refuse_many(count)
        result = np.zeros((count, len(grain.keys)), np.int64)
        repeat = count
        for keys, own in parts:
            repeat //= max(len(own), 1)
            rows = np.arange(count) // max(repeat, 1) % max(len(own), 1)
            result[:, [grain.keys.index(key) for key in keys]] = own[rows]
        return result

    # -- tops ---------------------------------------------------------------------------------------------------------

    def _settle(self, top: Top, own: Array) -> SettledTop:
        settled, left_out = settle_top(self.plan, self.evaluator, top, own)
        self.left_out.append(left_out)
        return settled

    def set_under(self, top: Top, outer: Sequence[int]) -> int | None:
        """The number of the set of hidden members under some outer ones."""
        settled = next(each for each in self.settled if each.top == top)
        found = np.flatnonzero((settled.outer == np.array(outer, np.int64)).all(axis=1))
        return int(found[0]) if len(found) else None

    def _without(self, own: Array, held: Sequence[int], settled: SettledTop) -> Array:
        return own[settled.sets_of(held, own) < 0] if len(settled.hidden.codes) else own

    def _among_hidden(self, grain: GridGrain, own: Array, held: Sequence[int], plain: Sequence[int]) -> Array:
        codes = self._projected(own, held, plain)
        result, keep = codes.copy(), np.ones(len(codes), np.bool_)
        for settled in self._within(plain):
            sets = settled.sets_of(plain, codes)
            if settled.top.others in grain.others:
                result[:, plain.index(settled.top.key)] = sets
                keep &= sets >= 0
            else:
                keep &= sets < 0
        return result[keep]

    def _sets(self, settled: SettledTop, keys: Sequence[int]) -> Array:
        return np.concatenate([settled.outer, np.arange(len(settled.outer))[:, None]], axis=1)

    def _not_hidden(self, own: Array, held: Sequence[int], keys: Sequence[int]) -> Array:
        codes = self._projected(own, held, keys)
        for settled in self._within(keys):
            codes = codes[settled.sets_of(keys, codes) < 0]
        return codes

    def _beside(self, keys: Sequence[int], parts: Sequence[Array]) -> Array:
        return self._distinct(keys, _below(parts, len(keys)))


def _below(parts: Sequence[Array], width: int) -> Array:
    """The combinations of all parts, one part below the other."""
    return parts[0] if len(parts) == 1 else np.concatenate([np.zeros((0, width), np.int64), *parts])


def _frame(grain: GridGrain, codes: Array) -> Frame:
    return Frame(len(codes), {key: codes[:, at] for at, key in enumerate(grain.keys)})
