"""Which keys of cells, and which named values, a part of a plan depends on."""

from __future__ import annotations

from collections.abc import Iterable

from relatum.plan.nodes import (
    Aggregation,
    Bounds,
    DateSet,
    Formula,
    Kept,
    KeyColumn,
    Named,
    Naming,
    Nested,
    Node,
    RankedAmong,
    Visible,
)


def formula_keys(nodes: Iterable[Node]) -> frozenset[int]:
    """The keys that any of the nodes depends on."""
    return frozenset().union(*(node_keys(node) for node in nodes))


def formula_names(nodes: Iterable[Node]) -> frozenset[int]:
    """The named values that any of the nodes uses."""
    return frozenset().union(*(node_names(node) for node in nodes))


def node_keys(node: Node) -> frozenset[int]:
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
    return frozenset()


def node_names(node: Node) -> frozenset[int]:
    """The named values that one node uses."""
    match node:
        case Aggregation(bounds=bounds):
            return _bounds_names(bounds)
        case Nested(visible=visible):
            formulas = [*node.arguments, *node.conditions]
        case RankedAmong(visible=visible):
            formulas = [node.formula, *([node.by] if node.by else [])]
            formulas += [] if isinstance(node.current, int) else [node.current]
        case Named(number=number):
            return frozenset([number])
        case Naming():
            inside = node.body.names.union(*(value.names for value in node.values))
            return inside - frozenset(node.numbers)
        case _:
            return frozenset()
    found = frozenset().union(*(formula.names for formula in formulas))
    return found.union(*(_bounds_names(bounds) for bounds, _ in visible.parts))


def _bounds_names(bounds: Bounds) -> frozenset[int]:
    names: frozenset[int] = frozenset()
    for kept in bounds.kept:
        names |= kept.formula.names.union(*(_bounds_names(inner) for inner, _ in kept.members.parts))
    return names


def bounds_keys(bounds: Bounds) -> frozenset[int]:
    """The keys that decide which rows a cell sees."""
    own = frozenset(match.key for match in bounds.matches)
    return own.union(*(dates_keys(each) for each in bounds.dates), *(kept_keys(each) for each in bounds.kept))


def dates_keys(dates: DateSet) -> frozenset[int]:
    """The keys that decide a set of dates."""
    return frozenset(match.key for match in dates.matches).union(*(dates_keys(each) for each in dates.within))


def kept_keys(kept: Kept) -> frozenset[int]:
    """The keys that decide which members are kept."""
    return visible_keys(kept.members) | (kept.formula.keys - new_keys(kept.members))


def visible_keys(visible: Visible) -> frozenset[int]:
    """The keys that decide which members a cell sees."""
    return frozenset().union(*(bounds_keys(bounds) for bounds, _ in visible.parts))


def new_keys(visible: Visible) -> frozenset[int]:
    """The keys that the visible members themselves are held by."""
    return frozenset(match.key for _, matches in visible.parts for match in matches)


def _all_keys(formulas: Iterable[Formula]) -> frozenset[int]:
    return frozenset().union(*(formula.keys for formula in formulas))
