"""Formulas, conditions and the parts of requests as syntax trees: each text is parsed once."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from relatum.errors import FormulaError
from relatum.language.habits import meant
from relatum.language.known_trees import known_trees
from relatum.language.tree import AxisItem, Condition, KeepItem, Syntax, ValueList, children, item_formulas

#: Chains such as a + b + c lean to one side: as many operands as this are followed before a formula is refused.
MAX_CHAIN = 200


def parse_formula(text: str, owner: str = "") -> Syntax:
    """Read a formula.

    Parameters
    ----------
    text : str
        The formula.
    owner : str
        What the formula belongs to, for messages: ``measure revenue``.

    Returns
    -------
    Syntax
        The root of its syntax tree.

    Raises
    ------
    FormulaError
        The text is not a formula, or is nested too deeply.

    Examples
    --------
    >>> parse_formula("1 + 2").operator
    '+'
    """
    root: Syntax = _parse(text, "formula", owner)
    return root


def parse_condition(text: str, owner: str = "") -> Condition:
    """Read a condition.

    Parameters
    ----------
    text : str
        A row expression, with ``over TABLE`` after a part where it states one.
    owner : str
        What the condition belongs to, for messages.

    Raises
    ------
    FormulaError
        The text is not a condition, or is nested too deeply.
    """
    condition: Condition = _parse(text, "condition", owner)
    return condition


def parse_axis(text: str, owner: str = "") -> tuple[AxisItem, ...]:
    """Read the fields of an axis with their options.

    Parameters
    ----------
    text : str
        Fields separated by commas.
    owner : str
        What the axis belongs to, for messages: ``rows``.

    Raises
    ------
    FormulaError
        The text is not an axis, or an option is there twice.
    """
    items: tuple[AxisItem, ...] = _parse(text, "axis", owner)
    return items


def parse_values(text: str, owner: str = "") -> ValueList:
    """Read the values of a request, labels and formats with them. Raises as :func:`parse_formula` does."""
    values: ValueList = _parse(text, "values", owner)
    return values


def parse_keeps(text: str, owner: str = "") -> tuple[KeepItem, ...]:
    """Read the keeps of a request. Raises as :func:`parse_formula` does."""
    keeps: tuple[KeepItem, ...] = _parse(text, "keeps", owner)
    return keeps


def _parse(text: str, start: str, owner: str) -> Any:
    try:
        return _parsed(text, start)
    except FormulaError as error:
        problem = FormulaError(error.reason, text=text, span=error.span, fix=error.fix, owner=owner)
    problem.fix = meant(text, start, problem.span, lambda new: _is_readable(new, start)) or problem.fix
    raise problem


def _is_readable(text: str, start: str) -> bool:
    try:
        _parsed(text, start)
    except FormulaError:
        return False
    return True


@lru_cache(maxsize=8192)
def _parsed(text: str, start: str) -> Any:
    """The tree of a text; each text is parsed once, however many edits of a model follow."""
    known = known_trees()
    tree = known.find(text, start)
    if tree is None:
        from relatum.language.grammar import tree_of  # noqa: PLC0415 - the parser takes longer to load than most models

        tree = tree_of(text, start)
        for formula in _formulas_of(tree):
            _refuse_chain(formula)
        known.add(text, start, tree)
    return tree


def _formulas_of(tree: Any) -> Iterator[Syntax]:
    """The formulas in a parsed text: a formula, a condition, or a part of a request."""
    match tree:
        case Condition(formula):
            yield formula
        case ValueList(items=items):
            yield from (item.formula for item in items)
        case tuple():
            for item in tree:
                yield from item_formulas(item)
        case _:
            yield tree


def _refuse_chain(root: Syntax) -> None:
    pending = [(root, 1)]
    while pending:
        node, depth = pending.pop()
        if depth > MAX_CHAIN:
            raise FormulaError(
                f"The formula chains more than {MAX_CHAIN} operations.",
                text="",
                span=node.span,
                fix="Use in (…) for a long list, or split the formula into several measures.",
            )
        pending.extend((child, depth + 1) for child in children(node))
