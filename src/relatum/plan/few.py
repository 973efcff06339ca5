"""Conditions on a number of different values that need not be known beyond two: ``count(distinct x) > 1``."""

from __future__ import annotations

from functools import lru_cache

from msgspec.structs import replace

from relatum.language.expression import Apply, ColumnValue, Constant, Expression, Slot, rebuilt
from relatum.plan.nodes import Aggregation, Formula, Kept
from relatum.plan.slots import formula_of

#: How many different values of a column there are, where it is enough to know up to two.
FEW_DISTINCT = "few_distinct"
#: The numbers that a count is compared with such that every count of two or more compares alike.
_ENOUGH = {"=": (0, 1), "<>": (0, 1), ">": (0, 1), "<=": (0, 1), ">=": (0, 1, 2), "<": (0, 1, 2)}


def formulas_of(kept: Kept) -> tuple[Formula, ...]:
    """The formulas by which kept members are found, the one that decides first."""
    return kept.formulas if kept.best is not None else (with_few_counted(kept.formula),)


@lru_cache(maxsize=256)
def with_few_counted(formula: Formula) -> Formula:
    """The same condition, with counts of different values that are found by the least and greatest of them."""
    return formula_of(_few(formula.expression))


def _few(expression: Expression) -> Expression:
    match expression:
        case Apply(function="and" | "or" | "not"):
            return rebuilt(expression, _few)
        case Apply(function, (Slot(node=Aggregation() as node) as slot, Constant(value=number))):
            distinct = node.function == "count_distinct" and isinstance(node.arguments[0], ColumnValue)
            if not distinct or number not in _ENOUGH.get(function, ()):
                return expression
            few = replace(slot, node=replace(node, function=FEW_DISTINCT))
            return replace(expression, arguments=(few, expression.arguments[1]))
        case _:
            return expression  # whatever else is compared, counted or said is as it was
