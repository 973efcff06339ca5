"""Resolved formulas: every name is a column or an aggregate, every part has a type."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from relatum.data.types import BOOLEAN, Type
from relatum.errors import Span

_NOWHERE = Span(0, 0)


@dataclass(frozen=True, slots=True)
class Constant:
    """A value that is the same everywhere, as columns of its type hold it inside; None is null."""

    value: int | float | str | bool | None
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class ColumnValue:
    """The current row's value of a column of its own table, or of one that it looks up."""

    table: str
    column: str
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Apply:
    """A scalar function of the register, applied."""

    function: str
    arguments: tuple[Expression, ...]
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Aggregate:
    """An aggregate over the visible rows of ``row_table``.

    ``fraction`` is the argument of ``percentile``. ``repeat`` says that the value is repeated, not blank, where a
    grain or filter is not related to it. ``text`` is how it was written, for notes.
    """

    function: str
    arguments: tuple[Expression, ...]
    row_table: str
    type: Type
    fraction: float = 0.0
    repeat: bool = False
    text: str = field(default="", compare=False)
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Filtered:
    """Whether an axis or a filter bears on a column."""

    table: str
    column: str
    type: Type = BOOLEAN
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Slot:
    """A value that a plan works out elsewhere: the input of this number."""

    number: int
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


Expression = Constant | ColumnValue | Apply | Aggregate | Filtered | Slot


def columns_in(expression: Expression) -> Iterator[ColumnValue]:
    """Every column that an expression reads from its own current row; aggregates have rows of their own."""
    if isinstance(expression, ColumnValue):
        yield expression
    elif isinstance(expression, Apply):
        for argument in expression.arguments:
            yield from columns_in(argument)


def aggregates_in(expression: Expression) -> Iterator[Aggregate]:
    """Every aggregate of a formula, in the order of the text."""
    if isinstance(expression, Aggregate):
        yield expression
    elif isinstance(expression, Apply):
        for argument in expression.arguments:
            yield from aggregates_in(argument)


@dataclass(frozen=True, slots=True)
class FilterPart:
    """One part of a condition: a row expression over ``table``.

    ``columns`` are the columns of ``table`` that it mentions, or None when it also reads other tables: such a part
    cannot be judged on a level of the table.
    """

    table: str
    columns: frozenset[str] | None
    expression: Expression
    text: str = field(default="", compare=False)


def rewritten(expression: Expression, leaf: Callable[[Expression], Expression]) -> Expression:
    """An expression with everything but its scalar functions replaced by what ``leaf`` makes of it."""
    if isinstance(expression, Apply):
        arguments = tuple(rewritten(argument, leaf) for argument in expression.arguments)
        return Apply(expression.function, arguments, expression.type, expression.span)
    return leaf(expression)
