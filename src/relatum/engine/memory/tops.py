"""Which members of a grid are among the best, and which are hidden."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.groups import marked, number_groups
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.hidden import HiddenSets
from relatum.engine.memory.ranks import top_mask, top_ranks
from relatum.plan.engine import LeftOut, Tied
from relatum.plan.nodes import Plan, Top


class SettledTop(Struct, frozen=True, eq=False):
    """A top once its hidden members are known; ``outer`` is the combination of outer members of each set of them."""

    top: Top
    hidden: HiddenSets
    outer: Array

    def sets_of(self, keys: Sequence[int], codes: Array) -> Array:
        """For each combination of some keys the set of hidden members that it is in; -1 where it is in none."""
        return self.hidden.sets_of([codes[:, keys.index(key)] for key in self.hidden.keys])


def settle_top(plan: Plan, evaluator: Evaluator, top: Top, codes: Array) -> tuple[SettledTop, LeftOut]:
    """Find the members that a top hides, for the evaluator too, and what is to be said of them.

    Parameters
    ----------
    plan : Plan
        What is asked.
    evaluator : Evaluator
        Works out what ranks.
    top : Top
        One of the plan's.
    codes : numpy.ndarray of int, two dimensions
        The combinations of the outer members and, in the last column, the member.
    """
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
    listed = hidden if plan.tells_hidden else None
    members = int(marked(hidden[:, -1], evaluator.sizes[top.key]).sum())
    above = [hidden[:, at] for at in range(len(top.outer))]
    distinct, sets = number_groups(above, [evaluator.sizes[key] for key in top.outer], len(hidden))
    found = HiddenSets(keys, hidden, sets, tuple(evaluator.sizes[key] for key in keys))
    if top.others is not None:
        evaluator.hidden[top.others] = found
        evaluator.sizes[top.others] = max(len(distinct), 1)
    return SettledTop(top, found, distinct), LeftOut(top.key, members, unranked, tied, listed)


def _tied(parents: Array, number: int, by: Sequence[tuple[Column, bool]]) -> Tied | None:
    """The note that ties keep more members than asked for, for some parents and their ranking."""
    kept = np.bincount(parents)
    tied = np.flatnonzero(kept > number)
    if len(tied) != 1:
        return Tied(len(tied)) if len(tied) else None
    (value, down), *ties = by
    place = int(top_ranks(parents, value, down, ties)[parents == tied[0]].max())
    return Tied(1, place, int(kept[tied[0]]) - place + 1)
