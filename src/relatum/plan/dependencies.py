"""Which keys of cells, and which named values, a part of a plan depends on."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import assert_never

from relatum.plan.nodes import (
    Aggregation,
    Bounds,
    DateSet,
    Formula,
    Hidden,
    Kept,
    KeyColumn,
    Named,
    Naming,
    Nested,
    PlanNode,
    RankedAmong,
    Visible,
)


def formula_keys(nodes: Iterable[PlanNode]) -> frozenset[int]:
    """The keys that any of the nodes depends on."""
    return frozenset().union(*(node_keys(node) for node in nodes))


def formula_names(nodes: Iterable[PlanNode]) -> frozenset[int]:
    """The named values that any of the nodes uses."""
    return frozenset().union(*(node_names(node) for node in nodes))


def node_keys(node: PlanNode) -> frozenset[int]:
    """The keys that one node depends on."""
    match node:
        case Aggregation(bounds=bounds):
            return bounds_keys(bounds)
        case Nested(visible=visible):
            return visible_keys(visible) | (_all_keys([*node.arguments, *node.conditions]) - new_keys(visible))
        case RankedAmong(visible=visible, formula=formula, by=by, current=current):
            inside = _all_keys([formula] if by is None else [formula, by]) - new_keys(visible)
            own = frozenset([current]) if isinstance(current, int) else current.keys
            return visible_keys(visible) | inside | own
        case KeyColumn(key=key):
            return frozenset([key])
        case Naming():
            return _all_keys([*node.values, node.body])
        case Named():
            return frozenset()
        case _:
            assert_never(node)


def node_names(node: PlanNode) -> frozenset[int]:
    """The named values that one node uses."""
    match node:
        case Aggregation(bounds=bounds):
            return _bounds_names(bounds)
        case Nested(visible=visible):
            return _visible_names(visible).union(*(each.names for each in (*node.arguments, *node.conditions)))
        case RankedAmong(visible=visible, formula=formula, by=by, current=current):
            formulas = [each for each in (formula, by, current) if isinstance(each, Formula)]
            return _visible_names(visible).union(*(each.names for each in formulas))
        case Named(number=number):
            return frozenset([number])
        case Naming(numbers, values, body):
            return body.names.union(*(value.names for value in values)) - frozenset(numbers)
        case KeyColumn():
            return frozenset()
        case _:
            assert_never(node)


def _visible_names(visible: Visible) -> frozenset[int]:
    return frozenset().union(*(_bounds_names(bounds) for bounds, _ in visible.parts))


@lru_cache(maxsize=1 << 14)
def _bounds_names(bounds: Bounds) -> frozenset[int]:
    names: frozenset[int] = frozenset()
    for kept in (each for each in bounds.kept if isinstance(each, Kept)):
        names |= _visible_names(kept.members) | kept_names(kept)
    return names


def kept_names(kept: Kept | Hidden) -> frozenset[int]:
    """The named values that decide which of the visible members are kept."""
    if isinstance(kept, Hidden):
        return frozenset()
    return frozenset().union(*(each.names for each in kept.formulas))


@lru_cache(maxsize=1 << 14)
def bounds_keys(bounds: Bounds) -> frozenset[int]:
    """The keys that decide which rows a cell sees."""
    own = frozenset(match.key for match in bounds.matches)
    return own.union(*map(dates_keys, bounds.dates), *map(kept_keys, bounds.kept))


@lru_cache(maxsize=1 << 14)
def dates_keys(dates: DateSet) -> frozenset[int]:
    """The keys that decide a set of dates."""
    own = frozenset(match.key for match in dates.matches)
    return own.union(*(dates_keys(each) for each in dates.within), *map(kept_keys, dates.kept))


@lru_cache(maxsize=1 << 14)
def kept_keys(kept: Kept | Hidden) -> frozenset[int]:
    """The keys that decide which members are kept."""
    if isinstance(kept, Hidden):
        return frozenset([kept.key])
    return visible_keys(kept.members) | (_all_keys(kept.formulas) - new_keys(kept.members))


def visible_keys(visible: Visible) -> frozenset[int]:
    """The keys that decide which members a cell sees."""
    return frozenset().union(*(bounds_keys(bounds) for bounds, _ in visible.parts))


def new_keys(visible: Visible) -> frozenset[int]:
    """The keys that the visible members themselves are held by."""
    return frozenset(match.key for _, matches in visible.parts for match in matches)


def _all_keys(formulas: Iterable[Formula]) -> frozenset[int]:
    return frozenset().union(*(formula.keys for formula in formulas))
