"""Ranks, running sums and neighbours among the members of each cell."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.groups import ascends, run_starts
from relatum.data.types import INTEGER, Kind, Type
from relatum.engine.memory.align import taken_at
from relatum.errors import ValueOverflowError

#: So few best members of each cell are sought; more are found by putting all in order.
_FEW = 16


class Members(Struct, frozen=True, eq=False):
    """The members of cells: for each the cell, a formula's value, what it is ordered by, and its place among all."""

    parents: Array
    formula: Column
    by: Column | None
    descending: bool
    places: Array


def _rank(type_: Type, members: Members) -> Column:
    parents, formula = members.parents, members.formula
    known = v.there(formula)
    return Column(INTEGER, _ranks(parents, formula.values, known, True), ~known)


def top_mask(
    parents: Array, value: Column, number: int, largest: bool, ties: Sequence[tuple[Column, bool]] = ()
) -> NDArray[np.bool_]:
    """Which members are among the best ``number`` of their cell; ties at the edge all are.

    ``ties`` part them where they can: each with whether its largest value is the better; null is the worst.
    """
    known = v.there(value)
    if ties:
        return np.asarray(known & (top_ranks(parents, value, largest, ties) <= number))
    if len(parents) and parents[0] == parents[-1]:
        # One cell: its best are those that are no worse than the last of them.
        values = value.values[known]
        if len(values) <= number:
            return np.asarray(known)
        at = len(values) - number if largest else number - 1
        edge = np.partition(values, at)[at]
        return np.asarray(known & (value.values >= edge if largest else value.values <= edge))
    if number <= _FEW and ascends(parents):
        return np.asarray(known & _no_worse_than_edge(parents, value.values, known, number, largest))
    return np.asarray(known & (top_ranks(parents, value, largest) <= number))


def _no_worse_than_edge(
    parents: Array, values: Array, known: NDArray[np.bool_], number: int, largest: bool
) -> NDArray[np.bool_]:
    """Which members are no worse than the last of the best few of their cell, found without sorting by value.

    Members come cell by cell.
    """
    starts = run_starts(parents)
    sizes = np.diff(starts, append=len(parents))
    best, no_worse, worse = (
        (np.maximum, np.greater_equal, np.less) if largest else (np.minimum, np.less_equal, np.greater)
    )
    worst = _extremes(values.dtype)[0 if largest else 1]
    competing = np.where(known, values, worst)
    edge = best.reduceat(competing, starts)
    for _ in range(number - 1):
        beyond = np.repeat(edge, sizes)
        full = np.add.reduceat(no_worse(competing, beyond), starts, dtype=np.int64) >= number
        if full.all():
            break
        edge = np.where(full, edge, best.reduceat(np.where(worse(competing, beyond), competing, worst), starts))
    return np.asarray(no_worse(competing, np.repeat(edge, sizes)))


def _extremes(kind: np.dtype[Any]) -> tuple[Any, Any]:
    """The least and the greatest value of a type of numbers."""
    if kind == np.bool_:
        return False, True
    if np.issubdtype(kind, np.floating):
        return -np.inf, np.inf
    return np.iinfo(kind).min, np.iinfo(kind).max


def top_ranks(parents: Array, value: Column, largest: bool, ties: Sequence[tuple[Column, bool]] = ()) -> Array:
    """The place of each member of its cell, the best first: 1 and how many are better; see :func:`top_mask`."""
    known = v.there(value)
    if not ties:
        return _ranks(parents, value.values, known, largest)
    keys = [each for column, down in ((value, largest), *ties) for each in reversed(v.sort_keys(column, down))]
    _, joint = np.unique(np.stack(keys, axis=1), axis=0, return_inverse=True)
    return _ranks(parents, joint.reshape(-1), known, False)


def _ranks(parents: Array, values: Array, known: NDArray[np.bool_], largest: bool) -> Array:
    distinct, places = np.unique(values, return_inverse=True)
    last = len(distinct)
    keys = last - 1 - places if largest else places
    keys = np.where(known, keys, last)
    # One number for a member's cell and its place there: sorting once is sooner done than by one after the other.
    # There are no more of either than members, so that 64 bits hold it.
    _, cells = np.unique(parents, return_inverse=True)
    joint = cells * (last + 1) + keys
    order = np.argsort(joint)
    ascending = joint[order]
    position = np.arange(len(order)) - _firsts(cells[order])
    ranks = np.empty(len(order), np.int64)
    ranks[order] = position[_firsts(ascending)] + 1
    return ranks


def _firsts(groups: Array) -> Array:
    """For each position of ascending groups, the first position of its group."""
    fresh = np.ones(len(groups), np.bool_)
    fresh[1:] = groups[1:] != groups[:-1]
    return np.maximum.accumulate(np.where(fresh, np.arange(len(groups)), 0))


def _beside(step: int) -> Callable[[Type, Members], Column]:
    """The kernel of the value at the member before or after each one."""

    def kernel(type_: Type, members: Members) -> Column:
        parents = members.parents
        keys = () if members.by is None else v.sort_keys(members.by, members.descending)
        order = np.lexsort((members.places, *keys, parents))
        beside = np.full(len(order), -1)
        if step < 0:
            beside[order[1:]] = np.where(parents[order[1:]] == parents[order[:-1]], order[:-1], -1)
        else:
            beside[order[:-1]] = np.where(parents[order[1:]] == parents[order[:-1]], order[1:], -1)
        return taken_at(members.formula, beside)

    return kernel


def _running(type_: Type, members: Members) -> Column:
    parents, formula, by = members.parents, members.formula, members.by
    assert by is not None, "running has an order"
    known = v.there(formula)
    keys, unordered = v.sort_keys(by, members.descending)
    has_order = ~unordered
    order = np.lexsort((keys, unordered, parents))
    sorted_parents = parents[order]
    amounts = np.where(known, formula.values, formula.values.dtype.type(0))[order]
    starts = np.flatnonzero(_firsts(sorted_parents) == np.arange(len(order)))
    # Tied members come along together: each has the figure of the last of them.
    last = np.ones(len(order), np.bool_)
    same = (sorted_parents[1:] == sorted_parents[:-1]) & (keys[order][1:] == keys[order][:-1])
    same &= has_order[order][1:] == has_order[order][:-1]
    last[:-1] = ~same
    ends = np.flatnonzero(last)
    end = ends[np.searchsorted(ends, np.arange(len(order)))] if len(order) else np.zeros(0, np.int64)
    nulls = np.empty(len(order), np.bool_)
    nulls[order] = (_restarting(known[order].astype(np.int64), starts) == 0)[end]
    if formula.type.kind is Kind.FLOAT:
        floats = np.empty(len(order))
        floats[order] = _restarting_floats(amounts.astype(np.float64), starts)[end]
        return v.finite(floats, nulls)
    # Two limbs: the bits above 31, and the rest, so that neither sum can overflow.
    wide = amounts.astype(np.int64)
    low, high = _restarting(wide & _MASK, starts), _restarting(wide >> _LIMB, starts)
    high = high + (low >> _LIMB)
    if len(high) and (int(high.max()) > v.HIGHEST >> _LIMB or int(high.min()) < v.LOWEST >> _LIMB):
        raise ValueOverflowError("A running sum does not fit in 64 bits.", fix="Sum it in a larger unit.")
    values = np.empty(len(order), np.int64)
    values[order] = ((high << _LIMB) + (low & _MASK))[end]
    return Column(type_, values, nulls if nulls.any() else None)


def _restarting(amounts: Array, starts: Array) -> Array:
    """Whole numbers summed up along, from nothing at each start."""
    sums = np.cumsum(amounts)
    before = np.concatenate(([0], sums))[starts]
    return np.asarray(sums - np.repeat(before, np.diff(np.append(starts, len(amounts)))))


def _restarting_floats(amounts: Array, starts: Array) -> Array:
    """Floats summed up along, from nothing at each start: no cell's digits are lost beside another's.

    In steps of 1, 2, 4, …: after each, every sum covers twice as many members (Hillis and Steele, "Data parallel
    algorithms", Communications of the ACM 29, 1986).
    """
    lengths = np.diff(np.append(starts, len(amounts)))
    place = np.arange(len(amounts)) - np.repeat(starts, lengths)
    result = amounts
    step = 1
    with np.errstate(over="ignore", invalid="ignore"):
        while step < int(lengths.max(initial=0)):
            rows = np.flatnonzero(place >= step)
            longer = result.copy()
            longer[rows] += result[rows - step]
            result, step = longer, 2 * step
    return result


_LIMB = 31
_MASK = (1 << _LIMB) - 1

RankingKernel = Callable[[Type, Members], Column]
RANKING_KERNELS: Mapping[str, RankingKernel] = {
    "rank": _rank,
    "running": _running,
    "previous": _beside(-1),
    "next": _beside(1),
}
