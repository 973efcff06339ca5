"""Resolved formulas: every name is a column or an aggregate, every part has a type."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from functools import lru_cache
from typing import ClassVar, Literal, assert_never

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.calendar.steps import Step
from relatum.data.types import BOOLEAN, Type
from relatum.errors import Span
from relatum.immutable import Immutable
from relatum.model.declaration import Relationship
from relatum.model.routes import Route

_NOWHERE = Span(0, 0)


class Constant(Immutable, frozen=True):
    """A value that is the same everywhere, as columns of its type hold it inside; None is null."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    value: int | float | str | bool | None
    type: Type
    span: Span = _NOWHERE


class Choices(Immutable, frozen=True):
    """The constants of a list in ``in (…)``, all of one type: however many, they are one record."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    values: tuple[int | float | str | bool, ...]
    type: Type
    span: Span = _NOWHERE


class ColumnValue(Immutable, frozen=True):
    """The current row's value of a column of its own table, or of a table that it looks up.

    ``route`` is how it is looked up, known once the formula's context is.
    """

    aside: ClassVar[tuple[str, ...]] = ("span",)

    table: str
    column: str
    type: Type
    span: Span = _NOWHERE
    route: Route | None = None


class NoMatch(Immutable, frozen=True):
    """Whether the current row's lookup of a table found nothing."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    table: str
    type: Type = BOOLEAN
    span: Span = _NOWHERE
    route: Route | None = None


class Apply(Immutable, frozen=True):
    """A scalar function of the register, applied."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    function: str
    arguments: tuple[Expression, ...]
    type: Type
    span: Span = _NOWHERE


class Grain(Immutable, frozen=True):
    """What a formula is evaluated per: the rows of a table, or the values of columns (pairs of table and column)."""

    table: str = ""
    columns: tuple[tuple[str, str], ...] = ()


class Aggregate(Immutable, frozen=True):
    """An aggregate over the visible rows of ``row_table``, or over the visible members of ``grain``.

    ``fraction`` is the argument of ``percentile``. ``repeat`` says that the value is repeated, not blank, where a
    grain or filter is not related to it. ``text`` is how it was written, for notes.
    """

    aside: ClassVar[tuple[str, ...]] = (
        "text",
        "span",
    )

    function: str
    arguments: tuple[Expression, ...]
    row_table: str
    type: Type
    fraction: float = 0.0
    repeat: bool = False
    grain: Grain | None = None
    text: str = ""
    span: Span = _NOWHERE


class MemberOrder(Immutable, frozen=True):
    """The order in which a column's members are, where it is not that of their values.

    ``by`` is another column of the same table and ``inner`` the order of that one's members, ``listed`` are the members
    in order, and ``banded`` says that they are bands, which stand by their lower edges.
    """

    by: str = ""
    inner: MemberOrder | None = None
    listed: tuple[str, ...] = ()
    banded: bool = False


class Ranked(Immutable, frozen=True):
    """A ranking of the register (``rank``, ``running``, ``previous``) of a formula among a grain's visible members."""

    aside: ClassVar[tuple[str, ...]] = (
        "text",
        "span",
    )

    function: str
    formula: Expression
    grain: Grain
    by: Expression | None
    descending: bool
    type: Type
    order: MemberOrder = field(default=MemberOrder())
    text: str = ""
    span: Span = _NOWHERE


class Narrowed(Immutable, frozen=True):
    """Whether an axis or a filter bears on a column."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    table: str
    column: str
    type: Type = BOOLEAN
    span: Span = _NOWHERE


class Written(Struct, frozen=True):
    """Where a change was written, for messages: its text and place in a formula, and what that belongs to."""

    text: str = ""
    span: Span = _NOWHERE
    formula: str = ""
    owner: str = ""


class Where(Immutable, frozen=True):
    """Keeps every filter and adds these."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    parts: tuple[FilterPart, ...]
    source: Written = Written()


class Pin(Immutable, frozen=True):
    """Drops all filters on a column and adds one: that it has a value, or is null."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    table: str
    column: str
    part: FilterPart
    source: Written = Written()


class PinNoMatch(Immutable, frozen=True):
    """Drops all filters on the columns of a table (or on one of them) and takes its virtual row."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    table: str
    column: str | None
    part: FilterPart
    source: Written = Written()


class PinEdge(Immutable, frozen=True):
    """Keeps the first or last value of a column on each aggregate's own visible rows."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    edge: Literal["first", "last"]
    table: str
    column: str
    source: Written = Written()


class OnTable(Immutable, frozen=True):
    """The filters on a table and on everything that it looks up."""

    table: str


class OnColumn(Immutable, frozen=True):
    """The filters on one column."""

    table: str
    column: str


FilterSet = Literal["all", "axes", "rows", "columns", "innermost", "row"]


class OfSet(Immutable, frozen=True):
    """The filters of a kind: every one, those of the grid's axes, the innermost current row."""

    word: FilterSet


class Ignoring(Immutable, frozen=True):
    """Drops filters."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    targets: tuple[OnTable | OnColumn | OfSet, ...]
    source: Written = Written()


class Only(Immutable, frozen=True):
    """Drops every filter but these."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    targets: tuple[OnTable | OnColumn, ...]
    source: Written = Written()


class Via(Immutable, frozen=True):
    """A standby relationship replaces the active one between the same tables."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    relationship: Relationship
    source: Written = Written()


class BothWays(Immutable, frozen=True):
    """Filters travel both ways along a relationship."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    relationship: Relationship
    source: Written = Written()


class KeepWhere(Immutable, frozen=True):
    """Of the visible members of a grain, those for which a formula is true."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    grain: Grain
    condition: Expression
    source: Written = Written()


class KeepBest(Immutable, frozen=True):
    """Of the visible members of a grain, the best ``number`` by a formula.

    ``ties`` are further formulas that part tied members; each comes with whether its largest value is the better.
    """

    aside: ClassVar[tuple[str, ...]] = ("source",)

    edge: Literal["top", "bottom"]
    number: int
    grain: Grain
    by: Expression
    ties: tuple[tuple[Expression, bool], ...] = ()
    source: Written = Written()


class MoveDates(Immutable, frozen=True):
    """Moves a calendar; the one that reaches the aggregates unless ``calendar`` names it."""

    aside: ClassVar[tuple[str, ...]] = ("source",)

    step: Step
    calendar: str
    source: Written = Written()


Change = Where | Pin | PinNoMatch | PinEdge | Ignoring | Only | Via | BothWays | KeepWhere | KeepBest | MoveDates


class InContext(Immutable, frozen=True):
    """A formula in a changed context."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    formula: Expression
    changes: tuple[Change, ...]
    type: Type
    span: Span = _NOWHERE


class LetIn(Immutable, frozen=True):
    """Named values, and a formula that uses them. ``numbers`` count the names in scope from the outermost on."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    numbers: tuple[int, ...]
    values: tuple[Expression, ...]
    body: Expression
    type: Type
    span: Span = _NOWHERE


class LetValue(Immutable, frozen=True):
    """A value named by ``let``."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    number: int
    type: Type
    span: Span = _NOWHERE


class Slot(Immutable, frozen=True):
    """A value that a plan computes elsewhere: ``node`` is the plan's own record of it."""

    aside: ClassVar[tuple[str, ...]] = ("span",)

    node: Hashable
    type: Type
    span: Span = _NOWHERE


Expression = (
    Constant
    | Choices
    | ColumnValue
    | NoMatch
    | Apply
    | Aggregate
    | Ranked
    | Narrowed
    | InContext
    | LetIn
    | LetValue
    | Slot
)


def parts_of(expression: Expression) -> tuple[Expression, ...]:
    """The expressions directly inside one that are at the same current row and in the same cell."""
    match expression:
        case Apply(arguments=arguments):
            return arguments
        case InContext(formula=formula):
            return (formula,)
        case LetIn(values=values, body=body):
            return (*values, body)
        case (
            Constant()
            | Choices()
            | ColumnValue()
            | NoMatch()
            | Aggregate()
            | Ranked()
            | Narrowed()
            | LetValue()
            | Slot()
        ):
            return ()
        case _:
            assert_never(expression)


def rebuilt(expression: Expression, change: Callable[[Expression], Expression]) -> Expression:
    """An expression with another in the place of each of its :func:`parts_of`."""
    match expression:
        case Apply(arguments=arguments):
            return replace(expression, arguments=tuple(map(change, arguments)))
        case InContext(formula=formula):
            return replace(expression, formula=change(formula))
        case LetIn(values=values, body=body):
            return replace(expression, values=tuple(map(change, values)), body=change(body))
        case (
            Constant()
            | Choices()
            | ColumnValue()
            | NoMatch()
            | Aggregate()
            | Ranked()
            | Narrowed()
            | LetValue()
            | Slot()
        ):
            return expression
        case _:
            assert_never(expression)


def inner_of(expression: Expression) -> tuple[Expression, ...]:
    """Every expression directly inside one: those of other rows and members, and of its changes of context, too."""
    match expression:
        case Aggregate(arguments=arguments):
            return arguments
        case Ranked(formula=formula, by=by):
            return (formula,) if by is None else (formula, by)
        case InContext(formula=formula, changes=changes):
            return (formula, *(each for change in changes for each in formulas_of(change)))
        case Apply() | LetIn() | Constant() | Choices() | ColumnValue() | NoMatch() | Narrowed() | LetValue() | Slot():
            return parts_of(expression)
        case _:
            assert_never(expression)


def formulas_of(change: Change) -> tuple[Expression, ...]:
    """The formulas and conditions in a change of context."""
    match change:
        case Where(parts):
            return tuple(part.expression for part in parts)
        case Pin(part=part) | PinNoMatch(part=part):
            return (part.expression,)
        case KeepWhere(condition=formula):
            return (formula,)
        case KeepBest(by=formula, ties=ties):
            return (formula, *(each for each, _ in ties))
        case PinEdge() | Ignoring() | Only() | Via() | BothWays() | MoveDates():
            return ()
        case _:
            assert_never(change)


def columns_in(expression: Expression) -> tuple[ColumnValue | NoMatch, ...]:
    """Every column that an expression reads from its own current row; aggregates have their own rows.

    A part that is shared is looked at once.
    """
    found: list[ColumnValue | NoMatch] = []
    seen: set[int] = set()
    pending = [expression]
    while pending:
        part = pending.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        if isinstance(part, ColumnValue | NoMatch):
            found.append(part)
        pending.extend(reversed(parts_of(part)))
    return tuple(found)


@lru_cache(maxsize=1 << 14)
def uses_names(expression: Expression) -> bool:
    """Whether a value that ``let`` named is used somewhere inside an expression."""
    return isinstance(expression, LetValue) or any(map(uses_names, inner_of(expression)))


def applications(function: str, expression: Expression) -> list[Apply]:
    """Every application of a function to values of the current row within a row expression."""
    found: list[Apply] = []
    pending, seen = [expression], set[int]()
    while pending:
        part = pending.pop()
        if isinstance(part, Apply) and id(part) not in seen:
            seen.add(id(part))
            found += [part] if part.function == function else []
            pending += part.arguments
    return found


@lru_cache(maxsize=1 << 14)
def is_plain(expression: Expression) -> bool:
    """Whether an expression reads nothing but constants and columns of its own row."""
    if isinstance(expression, Apply):
        return all(is_plain(argument) for argument in expression.arguments)
    return isinstance(expression, Constant | Choices | ColumnValue | NoMatch)


class FilterPart(Immutable, frozen=True):
    """One part of a condition: a row expression over ``table``.

    ``columns`` are the columns of ``table`` that it mentions, or None when it also reads other tables: such a part
    cannot be judged on a level of the table.
    """

    aside: ClassVar[tuple[str, ...]] = ("text",)

    table: str
    columns: frozenset[str] | None
    expression: Expression
    text: str = ""
