"""Expressions whose slots hold plan nodes: what a formula is made of, and when it has surely no value."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import assert_never

from relatum.data.types import Type
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
    inner_of,
)
from relatum.language.register import AGGREGATES, SCALARS
from relatum.plan.dependencies import formula_keys, formula_names
from relatum.plan.nodes import Aggregation, Formula, KeyColumn, Named, Naming, Nested, PlanNode, RankedAmong


def formula_of(expression: Expression) -> Formula:
    """The formula of an expression whose slots hold plan nodes."""
    nodes: dict[PlanNode, None] = {}
    seen: set[int] = set()
    pending = [expression]
    while pending:
        part = pending.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        if isinstance(part, Slot):
            nodes[node_in(part)] = None
        pending.extend(reversed(inner_of(part)))
    inputs = tuple(nodes)
    return Formula(expression, inputs, formula_keys(inputs), formula_names(inputs), _strict(expression, {}))


def node_in(slot: Slot) -> PlanNode:
    """The plan node that a slot holds."""
    assert isinstance(slot.node, PlanNode), "slots of plans hold plan nodes"
    return slot.node


def row_tables(expressions: Iterable[Expression]) -> tuple[str, ...]:
    """The row tables of all aggregates inside formulas, in the order of the text."""
    return tuple(dict.fromkeys(_row_tables(expressions)))


def _row_tables(expressions: Iterable[Expression]) -> Iterator[str]:
    seen: set[int] = set()
    pending = list(expressions)[::-1]
    while pending:
        part = pending.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        match part:
            case Aggregate(row_table=table, arguments=arguments):
                if table:
                    yield table
                pending.extend(reversed(arguments))
            case InContext(formula=formula) | Ranked(formula=formula):
                pending.append(formula)
            case (
                Apply()
                | LetIn()
                | Constant()
                | Choices()
                | ColumnValue()
                | NoMatch()
                | Narrowed()
                | LetValue()
                | Slot()
            ):
                pending.extend(reversed(inner_of(part)))
            case _:
                assert_never(part)


def _strict(expression: Expression, known: dict[int, bool]) -> bool:
    """Whether a formula is null wherever its aggregates all are."""
    if id(expression) not in known:
        known[id(expression)] = _strict_of(expression, known)
    return known[id(expression)]


def _strict_of(expression: Expression, known: dict[int, bool]) -> bool:
    match expression:
        case Slot():
            match node_in(expression):
                case Nested(drops=drops, function=function):
                    return drops or AGGREGATES[function].empty == "null"
                case Aggregation():
                    return True
                case Naming(body=body):
                    return body.strict
                case RankedAmong() | KeyColumn() | Named():
                    return False
        case Apply(function, arguments):
            each = [_strict(argument, known) for argument in arguments]
            match SCALARS[function].strict:
                case "any":
                    return any(each)
                case "all":
                    return all(each)
                case "first":
                    return each[0]
                case "never":
                    return False
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
            return False
        case _:
            assert_never(expression)


def node_type(node: PlanNode) -> Type:
    """The type of a node's value."""
    return node.body.expression.type if isinstance(node, Naming) else node.type
