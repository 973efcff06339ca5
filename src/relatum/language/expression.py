"""Resolved formulas: every name is a column or an aggregate, every part has a type."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from relatum.data.types import BOOLEAN, Type
from relatum.errors import Span
from relatum.model.declaration import Relationship
from relatum.model.routes import Route

_NOWHERE = Span(0, 0)


@dataclass(frozen=True, slots=True)
class Constant:
    """A value that is the same everywhere, as columns of its type hold it inside; None is null."""

    value: int | float | str | bool | None
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class ColumnValue:
    """The current row's value of a column of its own table, or of one that it looks up.

    ``route`` is how it is looked up, known once the formula's context is.
    """

    table: str
    column: str
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)
    route: Route | None = None


@dataclass(frozen=True, slots=True)
class NoMatch:
    """Whether the current row's lookup of a table found nothing."""

    table: str
    type: Type = BOOLEAN
    span: Span = field(default=_NOWHERE, compare=False)
    route: Route | None = None


@dataclass(frozen=True, slots=True)
class Apply:
    """A scalar function of the register, applied."""

    function: str
    arguments: tuple[Expression, ...]
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Grain:
    """What a formula is worked out per: the rows of a table, or the values of columns (pairs of table and column)."""

    table: str = ""
    columns: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Aggregate:
    """An aggregate over the visible rows of ``row_table``, or over the visible members of ``grain``.

    ``fraction`` is the argument of ``percentile``. ``repeat`` says that the value is repeated, not blank, where a
    grain or filter is not related to it. ``text`` is how it was written, for notes.
    """

    function: str
    arguments: tuple[Expression, ...]
    row_table: str
    type: Type
    fraction: float = 0.0
    repeat: bool = False
    grain: Grain | None = None
    text: str = field(default="", compare=False)
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Ranked:
    """``rank`` or ``running`` of a formula among the visible members of a grain."""

    function: str
    formula: Expression
    grain: Grain
    by: Expression | None
    descending: bool
    type: Type
    text: str = field(default="", compare=False)
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Narrowed:
    """Whether an axis or a filter bears on a column."""

    table: str
    column: str
    type: Type = BOOLEAN
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class ContextChange:
    """One change in square brackets, its names known.

    ``targets`` are pairs of table and column (empty for a whole table), or special words such as ``axes`` with an
    empty column. ``parts`` are the conditions of ``where`` and ``pin``; ``formula`` is that of ``keep``.
    """

    kind: str
    targets: tuple[tuple[str, str], ...] = ()
    parts: tuple[FilterPart, ...] = ()
    formula: Expression | None = None
    word: str = ""
    number: int = 0
    relationship: Relationship | None = None
    text: str = field(default="", compare=False)
    span: Span = field(default=_NOWHERE, compare=False)
    #: The formula that it stands in, and what that belongs to, for messages.
    within: str = field(default="", compare=False)
    owner: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class InContext:
    """A formula in a changed context."""

    formula: Expression
    changes: tuple[ContextChange, ...]
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class LetIn:
    """Named values, and a formula that uses them. ``numbers`` tell the names apart from all others."""

    numbers: tuple[int, ...]
    values: tuple[Expression, ...]
    body: Expression
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class LetValue:
    """A value named by ``let``."""

    number: int
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


@dataclass(frozen=True, slots=True)
class Slot:
    """A value that a plan works out elsewhere: the input of this number."""

    number: int
    type: Type
    span: Span = field(default=_NOWHERE, compare=False)


Expression = (
    Constant | ColumnValue | NoMatch | Apply | Aggregate | Ranked | Narrowed | InContext | LetIn | LetValue | Slot
)


def columns_in(expression: Expression) -> Iterator[ColumnValue | NoMatch]:
    """Every column that an expression reads from its own current row; aggregates have rows of their own."""
    match expression:
        case ColumnValue() | NoMatch():
            yield expression
        case Apply(arguments=arguments):
            for argument in arguments:
                yield from columns_in(argument)
        case InContext(formula=formula):
            yield from columns_in(formula)
        case LetIn(values=values, body=body):
            for value in (*values, body):
                yield from columns_in(value)


def is_plain(expression: Expression) -> bool:
    """Whether an expression reads nothing but constants and columns of its own row."""
    if isinstance(expression, Apply):
        return all(is_plain(argument) for argument in expression.arguments)
    return isinstance(expression, Constant | ColumnValue | NoMatch)


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
