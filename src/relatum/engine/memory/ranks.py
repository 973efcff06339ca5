"""Ranks and running sums among the members of each cell."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from relatum.data import vectors as v
from relatum.data.columns import Array, Column
from relatum.data.types import INTEGER, Kind, Type
from relatum.errors import ValueOverflowError


def ranked_among(
    function: str, type_: Type, parents: Array, formula: Column, by: Column | None, descending: bool
) -> Column:
    """The rank or running sum of each member among those of its cell.

    Parameters
    ----------
    function : str
        ``rank`` or ``running``.
    parents : array of int
        The cell of each member; ascending.
    formula, by : Column
        What is ranked or summed, and for a running sum the order of its members.
    """
    known = v.known(formula) & np.ones(len(parents), np.bool_)
    if function == "rank":
        return Column(INTEGER, _ranks(parents, formula.values, known, True), ~known)
    assert by is not None
    return _running(type_, parents, formula, known, by, descending)


def top_mask(parents: Array, value: Column, number: int, largest: bool) -> NDArray[np.bool_]:
    """Which members are among the best ``number`` of their cell; ties at the edge all are."""
    known = v.known(value) & np.ones(len(parents), np.bool_)
    return np.asarray(known & (_ranks(parents, value.values, known, largest) <= number))


def _ranks(parents: Array, values: Array, known: NDArray[np.bool_], largest: bool) -> Array:
    _, places = np.unique(values, return_inverse=True)
    keys = -places if largest else places
    order = np.lexsort((keys, ~known, parents))
    starts = _firsts(parents[order])
    position = np.arange(len(order)) - starts
    tied = np.ones(len(order), np.bool_)
    tied[1:] = (parents[order][1:] != parents[order][:-1]) | (keys[order][1:] != keys[order][:-1])
    first = np.maximum.accumulate(np.where(tied, np.arange(len(order)), 0))
    ranks = np.empty(len(order), np.int64)
    ranks[order] = position[first] + 1
    return ranks


def _firsts(groups: Array) -> Array:
    """For each position of ascending groups, the first position of its group."""
    fresh = np.ones(len(groups), np.bool_)
    fresh[1:] = groups[1:] != groups[:-1]
    return np.maximum.accumulate(np.where(fresh, np.arange(len(groups)), 0))


def _running(
    type_: Type, parents: Array, formula: Column, known: NDArray[np.bool_], by: Column, descending: bool
) -> Column:
    has_order = v.known(by) & np.ones(len(parents), np.bool_)
    _, places = np.unique(by.values, return_inverse=True)
    keys = np.where(has_order, -places if descending else places, 0)
    order = np.lexsort((keys, ~has_order, parents))
    sorted_parents = parents[order]
    amounts = np.where(known, formula.values, formula.values.dtype.type(0))[order]
    exact = formula.type.kind is not Kind.FLOAT
    if exact and float(np.abs(amounts.astype(np.float64)).sum()) > v.HIGHEST * 0.99:
        raise ValueOverflowError("A running sum does not fit 64 bits.", fix="Sum a smaller unit of it.")
    sums = np.cumsum(amounts.astype(np.int64 if exact else np.float64))
    counts = np.cumsum(known[order])
    firsts = _firsts(sorted_parents)
    before = np.where(firsts > 0, firsts - 1, 0)
    sums = sums - np.where(firsts > 0, sums[before], 0) if len(sums) else sums
    counts = counts - np.where(firsts > 0, counts[before], 0) if len(counts) else counts
    # Tied members come along together: each has the figure of the last of them.
    last = np.ones(len(order), np.bool_)
    same = (sorted_parents[1:] == sorted_parents[:-1]) & (keys[order][1:] == keys[order][:-1])
    same &= has_order[order][1:] == has_order[order][:-1]
    last[:-1] = ~same
    ends = np.flatnonzero(last)
    end = ends[np.searchsorted(ends, np.arange(len(order)))] if len(order) else np.zeros(0, np.int64)
    values = np.empty(len(order), sums.dtype)
    nulls = np.empty(len(order), np.bool_)
    values[order] = sums[end]
    nulls[order] = counts[end] == 0
    return v.finite(values, nulls) if not exact else Column(type_, values, nulls if nulls.any() else None)
