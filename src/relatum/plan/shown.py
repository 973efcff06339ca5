"""What a grid shows: which aggregates decide, and among which combinations those with a value are found."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from msgspec.structs import replace

from relatum.language.catalog import Catalog
from relatum.language.register import AGGREGATES
from relatum.model.routes import Hop, Place
from relatum.plan.bounds import Bounder
from relatum.plan.context import Context
from relatum.plan.dependencies import kept_keys, kept_names, node_keys
from relatum.plan.nodes import (
    Aggregation,
    AxisBounds,
    Bounds,
    Candidates,
    DateSet,
    EveryMember,
    Field,
    Formula,
    Judged,
    KeyColumn,
    Named,
    Naming,
    Nested,
    Occurring,
    PlanNode,
    RankedAmong,
    Visible,
    WithRows,
)


def judged_among(node: PlanNode, keys: tuple[int, ...], members: Callable[[], Visible]) -> Judged:
    """A node that decides at a grain, with where to look for the combinations in which it has a value.

    ``members`` gives the combinations of the grain's keys that rows have.
    """
    if isinstance(node, Aggregation) and _by_axes_alone(node.bounds, keys):
        return Judged(node, Occurring())
    found = candidates(node, keys)
    if isinstance(found, WithRows) and found.free:
        found = replace(found, members=members())
    return Judged(node, found)


def candidates(node: PlanNode, keys: tuple[int, ...]) -> Candidates:
    """Combinations among which are all where a node has a value."""
    match node:
        case Aggregation(bounds=bounds):
            # Pins only remove rows, and so do keeps that differ from cell to cell.
            same = tuple(kept for kept in bounds.kept if not kept_keys(kept) and not kept_names(kept))
            # A key that affects it only through keeps says nothing about its rows: any member may go with any.
            free = frozenset[int]().union(*map(kept_keys, bounds.kept))
            return _with_rows(replace(node, bounds=replace(bounds, kept=same, pinned=())), keys, free)
        case Naming(body=body):
            return candidates(body.inputs[0], keys)
        case Nested(arguments=arguments):
            for argument in arguments if needs_values(node) else ():
                for inner in _aggregations_of(argument):
                    if set(keys) <= node_keys(inner) and not inner.bounds.kept:
                        found = _with_rows(replace(inner, bounds=replace(inner.bounds, pinned=())), keys)
                        if isinstance(found, WithRows):
                            return found
            return EveryMember()
        case RankedAmong() | KeyColumn() | Named():
            raise AssertionError(f"{type(node).__name__} decides over no combination")


def _with_rows(node: Aggregation, keys: tuple[int, ...], free: frozenset[int] = frozenset()) -> Candidates:
    own = {match.key for match in node.bounds.matches}
    moved = {match.key for dates in node.bounds.dates for match in dates.matches}
    settled = all(map(_is_simple, node.bounds.dates)) and len(node.bounds.dates) < 2
    rest = frozenset(keys) - own - moved
    return WithRows(node, rest) if settled and free >= rest and not own & moved else EveryMember()


def _is_simple(dates: DateSet) -> bool:
    alike = not dates.within and not any(map(kept_keys, dates.kept))
    return alike and not any(match.at or not match.column for match in dates.matches)


def _by_axes_alone(bounds: Bounds, keys: tuple[int, ...]) -> bool:
    return not (bounds.dates or bounds.kept or bounds.pinned) and {match.key for match in bounds.matches} == set(keys)


def needs_values(node: Nested) -> bool:
    """Whether it has no value where its arguments have none: a count of members is 0 there."""
    zero = AGGREGATES[node.function].empty == "zero" and not node.drops
    return not zero and all(each.strict for each in node.arguments)


def _aggregations_of(formula: Formula) -> Iterator[Aggregation]:
    """Aggregates without which a formula has no value."""
    for node in formula.inputs:
        match node:
            case Aggregation():
                yield node
            case Nested(arguments=arguments):
                for argument in arguments if needs_values(node) else ():
                    yield from _aggregations_of(argument)
            case Naming(body=body):
                yield from _aggregations_of(body)
            case RankedAmong() | KeyColumn() | Named():
                pass


def axis_of(catalog: Catalog, field: Field, request: Context) -> AxisBounds:
    """Which members of a field the request's own condition leaves in its table."""
    bounds = Bounder(catalog, request).bounded(field.table).bounds
    return AxisBounds(bounds, tuple(_lookups_into(catalog, field, False)), tuple(_lookups_into(catalog, field, True)))


def _lookups_into(catalog: Catalog, field: Field, level: bool) -> Iterable[Hop]:
    """The relationships whose unmatched rows are under ``(no match)`` of a field, through virtual rows too.

    They are those to its table, or those to a level that its column belongs to.
    """
    hops: dict[Hop, None] = {}
    for start in catalog.declaration.tables:
        for place, route in catalog.routes.lookups(Place(start)).items():
            if place.table != field.table or bool(place.level) is not level:
                continue
            if not level or (field.column and catalog.determines(place, field.column)):
                hops.update(dict.fromkeys(hop for hop in route if hop.relationship is not None))
    return hops
