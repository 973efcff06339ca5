"""Formulas in which the names of ``let`` have become the values that they have in one cell."""

from __future__ import annotations

from collections.abc import Mapping
from typing import assert_never

from msgspec.structs import replace

from relatum.language.expression import (
    Aggregate,
    Apply,
    BothWays,
    Change,
    Choices,
    ColumnValue,
    Constant,
    Expression,
    FilterPart,
    Ignoring,
    InContext,
    KeepBest,
    KeepWhere,
    LetIn,
    LetValue,
    MoveDates,
    Narrowed,
    NoMatch,
    Only,
    Pin,
    PinEdge,
    PinNoMatch,
    Ranked,
    Slot,
    Via,
    Where,
    rebuilt,
    uses_names,
)


def with_values(expression: Expression, values: Mapping[int, Constant]) -> Expression:
    """An expression whose named values are constants; numbers that are not given stay names."""
    if not values or not uses_names(expression):
        return expression

    def inner(part: Expression) -> Expression:
        return with_values(part, values)

    match expression:
        case LetValue(number):
            return values.get(number, expression)
        case Aggregate(arguments=arguments):
            return replace(expression, arguments=tuple(map(inner, arguments)))
        case Ranked(formula=formula, by=by):
            return replace(expression, formula=inner(formula), by=None if by is None else inner(by))
        case InContext(changes=changes):
            changed = replace(expression, changes=tuple(_changed(change, values) for change in changes))
            return rebuilt(changed, inner)
        case Apply() | LetIn() | Constant() | Choices() | ColumnValue() | NoMatch() | Narrowed() | Slot():
            return rebuilt(expression, inner)
        case _:
            assert_never(expression)


def _changed(change: Change, values: Mapping[int, Constant]) -> Change:
    match change:
        case Where(parts):
            return replace(change, parts=tuple(_part(part, values) for part in parts))
        case Pin(part=part) | PinNoMatch(part=part):
            return replace(change, part=_part(part, values))
        case KeepWhere(condition=condition):
            return replace(change, condition=with_values(condition, values))
        case KeepBest(by=by, ties=ties):
            parted = tuple((with_values(each, values), down) for each, down in ties)
            return replace(change, by=with_values(by, values), ties=parted)
        case PinEdge() | Ignoring() | Only() | Via() | BothWays() | MoveDates():
            return change
        case _:
            assert_never(change)


def _part(part: FilterPart, values: Mapping[int, Constant]) -> FilterPart:
    return replace(part, expression=with_values(part.expression, values))
