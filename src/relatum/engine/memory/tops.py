"""Which members of a grid are among the best, which are hidden, and the combinations that others have."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.groups import marked, number_groups
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.hidden import HiddenSets
from relatum.engine.memory.member_limit import refuse_many
from relatum.engine.memory.ranks import top_mask, top_ranks
from relatum.plan.engine import LeftOut, Tied
from relatum.plan.nodes import GridGrain, Plan, Top


class _Settled(Struct, frozen=True, eq=False):
    """A top once its hidden members are known; ``outer`` is the combination of outer members of each set of them."""

    top: Top
    hidden: HiddenSets
    outer: Array


class Tops:
    """Settles the tops of a plan.

    Parameters
    ----------
    plan : Plan
        What is asked.
    evaluator : Evaluator
        Works out what ranks.
    """

    def __init__(self, plan: Plan, evaluator: Evaluator) -> None:
        self.plan = plan
        self.evaluator = evaluator
        self.settled: list[_Settled] = []
        self.left_out: list[LeftOut] = []

    def settle(self, found: Mapping[GridGrain, Array]) -> dict[GridGrain, Array]:
        """The combinations of grains without those of hidden members."""
        left = dict(found)
        for top in self.plan.tops:
            prefix = (*top.outer, top.key)
            codes = next(own for grain, own in left.items() if grain.keys == prefix and not grain.unopened)
            settled = self._settle(top, codes)
            self.settled.append(settled)
            if len(settled.hidden.codes):
                for grain, own in left.items():
                    if set(prefix) <= set(grain.keys):
                        left[grain] = own[self._sets_of(settled, grain.keys, own) < 0]
        return left

    def _settle(self, top: Top, codes: Array) -> _Settled:
        evaluator = self.evaluator
        keys = (*top.outer, top.key)
        competing = codes[codes[:, -1] != evaluator.sizes[top.key] - 1]
        frame = Frame(len(competing), {key: competing[:, at] for at, key in enumerate(keys)})
        outer = [competing[:, at] for at in range(len(top.outer))]
        _, parents = number_groups(outer, [evaluator.sizes[key] for key in top.outer], len(competing))
        ranked, *ties = [(evaluator.values(formula, frame), down) for formula, down in top.by]
        best = top_mask(parents, ranked[0], top.number, ranked[1], ties)
        hidden = competing[~best]
        unranked = bool(len(competing)) and not bool(v.there(ranked[0]).any())
        tied = _tied(
            parents[best], top.number, [(column.take(np.flatnonzero(best)), down) for column, down in (ranked, *ties)]
        )
        listed = hidden if self.plan.tells_hidden else None
        members = int(marked(hidden[:, -1], evaluator.sizes[top.key]).sum())
        self.left_out.append(LeftOut(top.key, members, unranked, tied, listed))
        above = [hidden[:, at] for at in range(len(top.outer))]
        distinct, sets = number_groups(above, [evaluator.sizes[key] for key in top.outer], len(hidden))
        sizes = tuple(evaluator.sizes[key] for key in keys)
        found = HiddenSets(keys, hidden, sets, sizes)
        if top.others is not None:
            evaluator.hidden[top.others] = found
            evaluator.sizes[top.others] = max(len(distinct), 1)
        return _Settled(top, found, distinct)

    def set_under(self, top: Top, outer: Sequence[int]) -> int | None:
        """The number of the set of hidden members under some outer ones."""
        settled = next(each for each in self.settled if each.top == top)
        found = np.flatnonzero((settled.outer == np.array(outer, np.int64)).all(axis=1))
        return int(found[0]) if len(found) else None

    def _sets_of(self, settled: _Settled, keys: Sequence[int], codes: Array) -> Array:
        """For each combination the set of hidden members that it is in; -1 where it is in none."""
        return settled.hidden.sets_of([codes[:, list(keys).index(key)] for key in settled.hidden.keys])

    # -- others -------------------------------------------------------------------------------------------------------

    def hidden_combinations(self, grain: GridGrain, found: Mapping[GridGrain, Array]) -> Array:
        """The combinations of a grain with others in which a hidden member's own combination lies."""
        of = {each.top.others: each for each in self.settled if each.top.others is not None}
        plain = tuple(of[key].top.key if key in grain.others else key for key in grain.keys)
        codes = _projected(found, plain)
        result, keep = codes.copy(), np.ones(len(codes), np.bool_)
        for settled in self.settled:
            if not {*settled.top.outer, settled.top.key} <= set(plain):
                continue
            sets = self._sets_of(settled, plain, codes)
            if settled.top.others in grain.others:
                result[:, plain.index(settled.top.key)] = sets
                keep &= sets >= 0
            else:
                keep &= sets < 0
        return result[keep]

    def combinations(self, grain: GridGrain, found: Mapping[GridGrain, Array], rows: int) -> Array:
        """Every combination that others could have: each set beside each combination of the other axis."""
        halves = [
            self._half(grain, [key for key in grain.keys if (self._field(key) < rows) == on_rows], found)
            for on_rows in (True, False)
        ]
        refuse_many(len(halves[0]) * len(halves[1]))
        one = np.repeat(np.arange(len(halves[0])), len(halves[1]))
        other = np.tile(np.arange(len(halves[1])), len(halves[0]))
        return np.concatenate([halves[0][one], halves[1][other]], axis=1)

    def _field(self, key: int) -> int:
        """The field whose members, or sets of hidden ones, a key holds."""
        return next((top.key for top in self.plan.tops if top.others == key), key)

    def _half(self, grain: GridGrain, keys: list[int], found: Mapping[GridGrain, Array]) -> Array:
        """The combinations of one axis: sets with their surroundings, or the members shown."""
        for settled in self.settled:
            if settled.top.others in keys:
                return np.concatenate([settled.outer, np.arange(len(settled.outer))[:, None]], axis=1)
        if not keys:
            return np.zeros((1, 0), np.int64)
        sizes = [self.evaluator.sizes[key] for key in keys]
        every = _projected(found, tuple(keys))
        for settled in self.settled:
            if {*settled.top.outer, settled.top.key} <= set(keys):
                every = every[self._sets_of(settled, keys, every) < 0]
        return number_groups([every[:, at] for at in range(len(keys))], sizes, len(every))[0]

    def valued(self, grain: GridGrain, codes: Array) -> NDArray[np.bool_]:
        """In which combinations of a grain with others some deciding aggregate has a value."""
        frame = Frame(len(codes), {key: codes[:, at] for at, key in enumerate(grain.keys)})
        found = np.zeros(len(codes), np.bool_)
        for judged in grain.judged:
            found |= v.there(self.evaluator.node(judged.node, frame))
        return found


def _tied(parents: Array, number: int, by: Sequence[tuple[Column, bool]]) -> Tied | None:
    """The note that ties keep more members than asked for, for some parents and their ranking."""
    kept = np.bincount(parents)
    tied = np.flatnonzero(kept > number)
    if len(tied) != 1:
        return Tied(len(tied)) if len(tied) else None
    (value, down), *ties = by
    place = int(top_ranks(parents, value, down, ties)[parents == tied[0]].max())
    return Tied(1, place, int(kept[tied[0]]) - place + 1)


def _projected(found: Mapping[GridGrain, Array], keys: tuple[int, ...]) -> Array:
    """The combinations of some keys contained in those of any grain."""
    parts = [np.zeros((0, len(keys)), np.int64)]
    for grain, codes in found.items():
        if set(keys) <= set(grain.keys):
            parts.append(codes[:, [grain.keys.index(key) for key in keys]])
    return np.concatenate(parts)
