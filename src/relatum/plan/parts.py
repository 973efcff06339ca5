"""Parts of plans: every aggregation inside, which of them say where a formula has a value, and fixed members."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import chain, islice, product
from typing import assert_never

from msgspec.structs import replace

from relatum.language.expression import (
    Aggregate,
    Apply,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    InContext,
    LetIn,
    LetValue,
    Narrowed,
    NoMatch,
    Ranked,
    Slot,
)
from relatum.language.register import SCALARS
from relatum.model.routes import reach_of
from relatum.plan.dependencies import dates_keys, kept_keys, kept_names
from relatum.plan.nodes import (
    Aggregation,
    AxisBounds,
    Bounds,
    EveryMember,
    Formula,
    Judged,
    Kept,
    KeyColumn,
    Match,
    Named,
    Naming,
    Nested,
    Occurring,
    RankedAmong,
    Restriction,
    WithRows,
)
from relatum.plan.slots import node_in


def carriers(formula: Formula, new: frozenset[int]) -> list[Aggregation] | None:
    """Aggregates matched on the ``new`` keys such that a formula is null wherever all of these are; None for none.

    Parameters
    ----------
    formula : Formula
        A planned formula.
    new : frozenset of int
        Keys of its cells.

    Returns
    -------
    list of Aggregation, or None
        None where the formula can have a value while no such aggregation has one.
    """
    for nodes in _needed(formula.expression):
        if all(_by_members(node.bounds, new) for node in nodes):
            return list(nodes)
    return None


def _by_members(bounds: Bounds, keys: Collection[int]) -> bool:
    """Whether rows are matched by the members of keys themselves, not by what these look up."""
    own = [match for match in bounds.matches if match.key in keys]
    return {match.key for match in own} == set(keys) and len(own) == len(keys) and not any(match.at for match in own)


def decisive(formula: Formula) -> list[Aggregation]:
    """Aggregates without a value of one of which no member is kept: a condition is not true, or there is no figure.

    Parameters
    ----------
    formula : Formula
        The planned formula by which members are kept.

    Returns
    -------
    list of Aggregation
        Empty where a member can be kept without any one of them.
    """
    return [nodes[0] for nodes in _needed_to_hold(formula.expression) if len(nodes) == 1]


#: Sets of aggregates: where all of one set are null, so is what is looked at.
_Needed = list[tuple[Aggregation, ...]]
#: Of what is null only where several parts are, no more sets are put together than these.
_MOST = 64


def _needed_to_hold(expression: Expression) -> _Needed:
    """Sets of aggregates: where all of one set are null, a condition is not true."""
    match expression:
        case Apply(function="and", arguments=arguments):
            return [nodes for argument in arguments for nodes in _needed_to_hold(argument)]
        case Apply(function="or", arguments=arguments):
            return _together(map(_needed_to_hold, arguments))
        case _:
            return _needed(expression)


def _needed(expression: Expression) -> _Needed:
    match expression:
        case Slot():
            node = node_in(expression)
            return [(node,)] if isinstance(node, Aggregation) else []
        case Apply(function, arguments):
            strict = SCALARS[function].strict
            match strict:
                case "any":
                    return [nodes for argument in arguments for nodes in _needed(argument)]
                case "all":
                    return _together(map(_needed, arguments))
                case "first":
                    return _needed(arguments[0])
                case "never":
                    return []
                case _:
                    assert_never(strict)
        case (
            Constant()
            | Choices()
            | ColumnValue()
            | NoMatch()
            | Aggregate()
            | Ranked()
            | Narrowed()
            | InContext()
            | LetIn()
            | LetValue()
        ):
            return []
        case _:
            assert_never(expression)


def _together(parts: Iterable[_Needed]) -> _Needed:
    """The sets for what is null only where all of its parts are: one of each part's."""
    return [tuple(dict.fromkeys(chain(*each))) for each in islice(product(*parts), _MOST)]


def only_aggregation(node: Nested) -> Aggregation | None:
    """The one aggregate that a ``per`` computes, where a member with a value is certain to be visible."""
    if not node.drops or node.conditions:
        return None
    (argument,) = node.arguments
    if not isinstance(argument.expression, Slot) or not isinstance(argument.inputs[0], Aggregation):
        return None
    inner = argument.inputs[0]
    conditions = set(inner.bounds.restrictions)
    if not _by_members(inner.bounds, {match.key for _, matches in node.visible.parts for match in matches}):
        return None
    for seen, _ in node.visible.parts:
        moved = any(bounds.dates or bounds.kept or bounds.pinned for bounds in (seen, inner.bounds))
        alike = seen.source == inner.bounds.source and set(seen.matches) <= set(inner.bounds.matches)
        if moved or (seen.matches and not alike):
            return None
        if not all(each in conditions for each in seen.restrictions):
            return None
    return inner


def _own_formulas(kept: Kept) -> tuple[Formula, ...]:
    return kept.formulas


def aggregations(
    formulas: Iterable[Formula], formulas_of: Callable[[Kept], tuple[Formula, ...]] = _own_formulas
) -> Iterator[Aggregation]:
    """Every aggregation over rows in formulas, however deep; each formula is looked into once.

    Parameters
    ----------
    formulas : iterable of Formula
        Planned formulas.
    formulas_of : callable
        By which formulas an engine finds kept members.
    """
    pending = list(formulas)
    seen: set[Formula] = set()
    while pending:
        formula = pending.pop()
        if formula in seen:
            continue
        seen.add(formula)
        for node in formula.inputs:
            match node:
                case Aggregation(bounds=bounds):
                    yield node
                    every = (*bounds.kept, *(each for dates in bounds.dates for each in dates.kept))
                    pending += [formula for each in every if isinstance(each, Kept) for formula in formulas_of(each)]
                case Nested(arguments=arguments, conditions=conditions):
                    pending += [*arguments, *conditions]
                case RankedAmong(formula=ranked, by=by):
                    pending += [ranked, *([] if by is None else [by])]
                case Naming(values=values, body=body):
                    pending += [*values, body]
                case KeyColumn() | Named():
                    pass
                case _:
                    assert_never(node)


def always_kept(bounds: Bounds) -> frozenset[Kept]:
    """Kept members that are the same for all cells: rows are tested for them before they are grouped."""
    return frozenset(
        each
        for each in bounds.kept
        if isinstance(each, Kept) and reach_of(each.match.route) < 0 and not kept_keys(each) and not kept_names(each)
    )


def keeps_always(bounds: Bounds) -> bool:
    """Whether all kept members are the same for all cells."""
    return len(always_kept(bounds)) == len(bounds.kept)


def own_rows_key(bounds: Bounds, matches: Sequence[Match]) -> int | None:
    """The key that holds the rows of a table themselves, where nothing but conditions and kept members bounds them.

    Parameters
    ----------
    bounds : Bounds
        What bounds the rows of a table.
    matches : sequence of Match
        The members that the rows are matched on.

    Returns
    -------
    int or None
        None where a row of the table can be left out for another reason than itself, or shared by members.
    """
    if len(matches) != 1 or bounds.matches or bounds.dates or bounds.pinned:
        return None
    (match,) = matches
    own = not match.column and not match.route and match.table == bounds.source
    return match.key if own and keeps_always(bounds) else None


@lru_cache(maxsize=256)
def ensures(judged: Judged, axis: AxisBounds, key: int) -> bool:
    """Whether the rows by which a node has a value have just members that an axis's bounds leave in.

    They do where these rows are bounded by all that bounds the axis, each along the route to the member and on.

    Parameters
    ----------
    judged : Judged
        The node, and the rows by which it has a value.
    axis : AxisBounds
        What bounds the members of an axis.
    key : int
        The key of the axis's field.

    Returns
    -------
    bool
        False where that is not certain.
    """
    if not axis.bounds.restrictions and not axis.bounds.kept:
        return True
    match judged.among:
        case Occurring():
            node = judged.node
        case WithRows(aggregation, free):
            if key in free:
                return False
            node = aggregation
        case EveryMember():
            return False
        case _:
            assert_never(judged.among)
    assert isinstance(node, Aggregation), "only rows occur"
    bounds = node.bounds
    match = next((each for each in bounds.matches if each.key == key), None)
    if match is None or reach_of(match.route) >= 0 or any(key in dates_keys(each) for each in bounds.dates):
        return False
    return lie_within(bounds, match, axis.bounds)


def implied(bounds: Bounds) -> list[Restriction]:
    """The conditions that rows fulfil anyway where they have kept members: those under which the members were found.

    Parameters
    ----------
    bounds : Bounds
        What bounds the rows.

    Returns
    -------
    list of Restriction
        Some of its restrictions.
    """
    found = [
        replace(each, route=kept.match.route + each.route)
        for kept in bounds.kept
        if isinstance(kept, Kept) and len(kept.members.parts) == 1 and own_rows_key(*kept.members.parts[0]) is not None
        for each in kept.members.parts[0][0].restrictions
    ]
    return [each for each in bounds.restrictions if each in found]


def lie_within(bounds: Bounds, match: Match, outer: Bounds) -> bool:
    """Whether rows within ``bounds`` find, along a match, just rows that are within the conditions and keeps of others.

    Parameters
    ----------
    bounds : Bounds
        What bounds the rows.
    match : Match
        How they find the others.
    outer : Bounds
        The bounds of the others, of which conditions and kept members count.
    """
    restrictions = [replace(each, route=match.route + each.route) for each in outer.restrictions]
    kept = [replace(each, match=replace(each.match, route=match.route + each.match.route)) for each in outer.kept]
    return all(each in bounds.restrictions for each in restrictions) and all(each in bounds.kept for each in kept)
