"""Which combinations of a grid's members are shown at each grain."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import assert_never

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
from relatum.engine.memory.tops import Tops
from relatum.engine.openings import opened_members
from relatum.errors import LimitError
from relatum.model.routes import reach_of
from relatum.plan.nodes import (
    Aggregation,
    AxisBounds,
    DateSet,
    EveryMember,
    Formula,
    GridGrain,
    Judged,
    Match,
    Occurring,
    Plan,
    PlanNode,
    Restriction,
    Visible,
    WithRows,
)
from relatum.plan.parts import ensures


class Shown:
    """The combinations of a plan's axes that its grid shows, grain by grain.

    Parameters
    ----------
    plan : Plan
        What is asked.
    evaluator : Evaluator
        Works out the nodes that decide.
    """

    def __init__(self, plan: Plan, evaluator: Evaluator) -> None:
        self.plan = plan
        self.evaluator = evaluator
        self._allowed: dict[int, NDArray[np.bool_]] = {}
        self._opened: dict[int, NDArray[np.bool_]] = {}

    def codes(self) -> tuple[list[Array], Tops]:
        """For each grain an array of member codes: a row for each combination, a column for each key, in order.

        With them what each top leaves out.
        """
        found: dict[GridGrain, Array] = {}
        for grain in self.plan.grains:
            if not grain.others:
                found[grain] = self._grain(grain, found.items())
        tops = Tops(self.plan, self.evaluator)
        left = tops.settle(found)
        for grain in self.plan.grains:
            if grain.others:
                left[grain] = self._others(grain, tops, found, left)
        for codes in left.values():
            self._refuse_many(len(codes))
        return [left[grain] for grain in self.plan.grains], tops

    def _others(
        self, grain: GridGrain, tops: Tops, found: Mapping[GridGrain, Array], left: Mapping[GridGrain, Array]
    ) -> Array:
        """The combinations that others are shown in: where a hidden member is, and where others have a value."""
        every = tops.combinations(grain, found, self.plan.row_count)
        parts = [tops.hidden_combinations(grain, found), every[tops.valued(grain, every)]]
        for other, codes in left.items():
            if set(grain.keys) < set(other.keys):
                parts.append(codes[:, [other.keys.index(key) for key in grain.keys]])
        together = np.concatenate(parts)
        for key, wanted in self._openings(grain):
            together = together[self.opened(key)[together[:, grain.keys.index(key)]] == wanted]
        return self._distinct(grain, together)

    def _openings(self, grain: GridGrain) -> list[tuple[int, bool]]:
        return [*((key, True) for key in grain.opened), *((key, False) for key in grain.unopened)]

    def opened(self, key: int) -> NDArray[np.bool_]:
        """Which members of a field are open."""
        if key not in self._opened:
            closing = next(each for each in self.plan.closings if each.key == key)
            field = self.plan.fields[key]
            self._opened[key] = opened_members(closing, self.evaluator.store.members(field.table, field.column))
        return self._opened[key]

    def _grain(self, grain: GridGrain, finer: Iterable[tuple[GridGrain, Array]]) -> Array:
        if not grain.keys:
            return np.zeros((1, 0), np.int64)
        parts = [
            codes[:, [other.keys.index(key) for key in grain.keys]]
            for other, codes in finer
            if set(grain.keys) <= set(other.keys)
        ]
        parts += [self._left_in(grain, self._valued(grain, judged), judged) for judged in grain.judged]
        if grain.bare is not None:
            parts.append(self._left_in(grain, self._bare(grain, grain.bare), None))
        every = np.concatenate(parts) if parts else np.zeros((0, len(grain.keys)), np.int64)
        for key, wanted in self._openings(grain):
            every = every[self.opened(key)[every[:, grain.keys.index(key)]] == wanted]
        shown = self._distinct(grain, every)
        if any(top.key in grain.keys for top in self.plan.tops):
            refuse_many(len(shown))  # most of them are hidden yet
        else:
            self._refuse_many(len(shown))
        return shown

    def _distinct(self, grain: GridGrain, codes: Array) -> Array:
        sizes = [self.evaluator.sizes[key] for key in grain.keys]
        return number_groups([codes[:, at] for at in range(len(grain.keys))], sizes, len(codes))[0]

    def _refuse_many(self, count: int) -> None:
        if count > self.plan.cell_limit:
            raise LimitError(
                f"The grid would have {count:,} combinations; the limit is {self.plan.cell_limit:,}.",
                fix="Use a coarser column, filter, or raise the limit: cells under [limits], --limit-cells, "
                "cell_limit.",
            )

    # -- what may be shown --------------------------------------------------------------------------------------------

    def _left_in(self, grain: GridGrain, codes: Array, judged: Judged | None) -> Array:
        """Those of a grain's combinations whose members the request's own condition leaves in their tables."""
        for at, key in enumerate(grain.keys):
            if judged is None or not ensures(judged, self.plan.axes[key], key):
                codes = codes[self._may_be_shown(key)[codes[:, at]]]
        return codes

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

    def _has_unmatched(self, key: int, *, valued: bool = False) -> bool:
        """Whether some row finds no member of an axis's table, so that ``(no match)`` is there, or a value can be."""
        axis = self.plan.axes[key]
        hops = (*axis.lookups, *axis.levels) if valued else axis.lookups
        return any(self.evaluator.store.index(hop).unmatched > 0 for hop in hops)

    # -- where something has a value ----------------------------------------------------------------------------------

    def _valued(self, grain: GridGrain, judged: Judged) -> Array:
        """The combinations in which a node has a value."""
        node = judged.node
        match judged.among:
            case Occurring():
                assert isinstance(node, Aggregation), "only rows occur"
                empty = Frame(0, {key: np.zeros(0, np.int64) for key in grain.keys})
                groups, _, values = self.evaluator.grouped(node, empty)
                place = {match.key: at for at, match in enumerate(node.bounds.matches)}
                codes = np.stack([groups.codes[place[key]] for key in grain.keys], axis=1)
                return codes if values.nulls is None else codes[~np.broadcast_to(values.nulls, len(codes))]
            case WithRows(aggregation, free, members):
                # Without rows it has no value: what it is at these combinations is all that there is.
                found, codes = self._with_rows(grain, aggregation)
                if members is not None:
                    candidates = self._distinct(grain, self._freely(grain, codes, free, members))
                    return candidates[self._has_value(grain, node, candidates, whole=True)]
                if aggregation == node:
                    values = self.evaluator.group_values(aggregation, found)
                    self.evaluator.remember(node, _frame(grain, codes), values)
                    return codes[np.flatnonzero(v.known(values) & np.ones(len(codes), np.bool_))]
                candidates = self._distinct(grain, codes)
                return candidates[self._has_value(grain, node, candidates, whole=True)]
            case EveryMember():
                candidates = self._distinct(grain, self._members(grain, unmatched=True, valued=True))
                return candidates[self._has_value(grain, node, candidates)]
            case _:
                assert_never(judged.among)

    def _has_value(self, grain: GridGrain, node: PlanNode, codes: Array, *, whole: bool = False) -> NDArray[np.bool_]:
        frame = _frame(grain, codes)
        values = self.evaluator.node(node, frame)
        if whole:
            self.evaluator.remember(node, frame, values)
        return np.asarray(v.known(values) & np.ones(len(codes), np.bool_))

    def _with_rows(self, grain: GridGrain, node: Aggregation) -> tuple[Found, Array]:
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

    # -- bare members -------------------------------------------------------------------------------------------------

    def _bare(self, grain: GridGrain, values: Iterable[Formula]) -> Array:
        """The visible members, and no match by itself where some value of the request is not null."""
        members = self._members(grain, unmatched=False)
        if not any(self._has_unmatched(key) for key in grain.keys):
            return members
        every = self._members(grain, unmatched=True)
        last = np.array([self.evaluator.sizes[key] - 1 for key in grain.keys])
        every = every[(every == last).any(axis=1)]
        frame = _frame(grain, every)
        valued = np.zeros(len(every), np.bool_)
        for formula in values:
            valued |= v.there(self.evaluator.values(formula, frame))
        return np.concatenate([members, every[valued]])

    def _members(self, grain: GridGrain, *, unmatched: bool, valued: bool = False) -> Array:
        """The visible members, those of one chain as they occur; with ``unmatched`` also each chain's no match."""
        place = {key: at for at, key in enumerate(grain.keys)}
        grids = self._chains(grain.members, unmatched=unmatched, valued=valued)
        count = math.prod(len(own) for _, own in grids)
        self._refuse_many(count)
        result = np.zeros((count, len(grain.keys)), np.int64)
        repeat = count
        for keys, own in grids:
            repeat //= max(len(own), 1)
            rows = np.arange(count) // max(repeat, 1) % max(len(own), 1)
            result[:, [place[key] for key in keys]] = own[rows]
        return result

    def _chains(self, members: Visible, *, unmatched: bool, valued: bool = False) -> list[tuple[list[int], Array]]:
        """For each lookup chain its keys, and the combinations of their members that rows have.

        With ``unmatched`` no match of the whole chain is one of them where some row finds nothing there; with
        ``valued`` also where some row of a coarser fact finds nothing.
        """
        evaluator, grids = self.evaluator, []
        for part in members.parts:
            keys = [match.key for match in part[1]]
            _, codes = evaluator.pairs(Visible((part,)), Frame(1, {}), unmatched=True)
            own = np.stack([codes[key] for key in keys], axis=1)
            if unmatched and all(self._has_unmatched(key, valued=valued) for key in keys):
                own = np.concatenate([own, [[evaluator.sizes[key] - 1 for key in keys]]])
            grids.append((keys, number_groups(list(own.T), [evaluator.sizes[key] for key in keys], len(own))[0]))
        return grids


def _frame(grain: GridGrain, codes: Array) -> Frame:
    return Frame(len(codes), {key: codes[:, at] for at, key in enumerate(grain.keys)})
