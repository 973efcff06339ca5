"""The syntax tree of a formula, as written. Every node knows the stretch of text it came from."""

from __future__ import annotations

import typing
from collections.abc import Container, Iterator
from typing import assert_never

from msgspec import Struct

from relatum.calendar.steps import Step
from relatum.data.types import Type
from relatum.errors import Span
from relatum.model.looks import Format


class Node(Struct, frozen=True, tag=True, tag_field="node"):
    """A part of a tree, which says what it is where it is written down."""


class Literal(Node, frozen=True):
    """A constant. Decimals are whole numbers times ten to their type's scale; dates are days since 1970."""

    value: int | float | str | bool | None
    type: Type
    span: Span


class Name(Node, frozen=True):
    """A measure or table (one part), or ``table.column`` (two)."""

    parts: tuple[str, ...]
    span: Span


class Operation(Node, frozen=True):
    """An operator with its operands: arithmetic, comparison, logic, ``in``, ``between``, ``like``, ``is null``."""

    operator: str
    operands: tuple[Syntax, ...]
    span: Span


class Case(Node, frozen=True):
    """``case when … then … else … end``: conditions and values in pairs, and what holds otherwise."""

    branches: tuple[tuple[Syntax, Syntax], ...]
    otherwise: Syntax | None
    span: Span


class Call(Node, frozen=True):
    """A function with its arguments and the words that may follow them."""

    function: str
    arguments: tuple[Syntax, ...]
    span: Span
    name_span: Span
    distinct: bool = False
    of: Syntax | None = None
    by: Syntax | None = None
    weight: Syntax | None = None
    over: Name | None = None
    per: tuple[Name, ...] = ()
    among: Name | None = None
    descending: bool = False
    #: The word that says how: ``at`` of a band, ``month`` of a period, ``parent`` of a share.
    word: str = ""
    #: How far back a growth or change looks.
    move: CalendarClause | None = None


class WhereClause(Node, frozen=True):
    """``where C``."""

    condition: Condition
    span: Span


class PinClause(Node, frozen=True):
    """``pin c = v`` and ``pin c in (…)``."""

    column: Name
    values: tuple[Syntax, ...]
    span: Span


class PinNullClause(Node, frozen=True):
    """``pin c is null``."""

    column: Name
    span: Span


class PinNoMatchClause(Node, frozen=True):
    """``pin c is no match``, of a column or a table."""

    name: Name
    span: Span


class PinEdgeClause(Node, frozen=True):
    """``pin first c`` and ``pin last c``."""

    edge: typing.Literal["first", "last"]
    column: Name
    span: Span


class IgnoringClause(Node, frozen=True):
    """``ignoring`` tables, columns or words such as ``axes``."""

    names: tuple[Name, ...]
    span: Span


class OnlyClause(Node, frozen=True):
    """``only`` tables or columns."""

    names: tuple[Name, ...]
    span: Span


class ManySide(Node, frozen=True):
    """The columns that name a relationship: ``s.c``, or ``s.(a, b)``."""

    table: Name
    columns: tuple[Name, ...]
    span: Span


class ViaClause(Node, frozen=True):
    """``via`` a standby relationship."""

    side: ManySide
    span: Span


class BothWaysClause(Node, frozen=True):
    """``both ways`` along a relationship."""

    side: ManySide
    span: Span


class KeepWhereClause(Node, frozen=True):
    """``keep g where F``."""

    grain: Name
    condition: Syntax
    span: Span


class Ordering(Node, frozen=True):
    """A formula that members are ordered by, and whether the largest comes first."""

    formula: Syntax
    descending: bool
    span: Span


class KeepBestClause(Node, frozen=True):
    """``keep top N g by F`` and ``keep bottom N g by F``; further parts of ``by`` tell tied members apart."""

    edge: typing.Literal["top", "bottom"]
    number: int
    grain: Name
    by: tuple[Ordering, ...]
    span: Span


class CalendarClause(Node, frozen=True):
    """A move along the calendar, and the table that ``on`` names."""

    step: Step
    on: Name | None
    span: Span


Clause = (
    WhereClause
    | PinClause
    | PinNullClause
    | PinNoMatchClause
    | PinEdgeClause
    | IgnoringClause
    | OnlyClause
    | ViaClause
    | BothWaysClause
    | KeepWhereClause
    | KeepBestClause
    | CalendarClause
)


class Changed(Node, frozen=True):
    """``formula[change, …]``: a formula in another context."""

    formula: Syntax
    changes: tuple[Clause, ...]
    span: Span


class Let(Node, frozen=True):
    """``let name = formula, … then formula``."""

    bindings: tuple[tuple[Name, Syntax], ...]
    body: Syntax
    span: Span


class Over(Node, frozen=True):
    """``part over table``: a part of a condition with the table whose rows it tests."""

    part: Syntax
    table: Name
    span: Span


Syntax = Literal | Name | Operation | Case | Call | Changed | Let | Over


#: A ``keep`` of a request.
KeepItem = KeepWhereClause | KeepBestClause
#: A member named in ``open (…)``: a constant, or one of these words.
NO_MATCH = "no match"
TotalPlace = typing.Literal["none", "before", "after"]


class Best(Node, frozen=True):
    """``top N`` or ``bottom N``; without ``by`` the pivot's first value ranks."""

    edge: typing.Literal["top", "bottom"]
    number: int
    by: tuple[Ordering, ...]
    span: Span


class AxisItem(Node, frozen=True):
    """A field of an axis with its options.

    ``upto`` is the level that a hierarchy stops at. ``opened`` are the members named in ``open (…)``, None without it;
    ``closing`` is where ``closed`` or ``open (…)`` is.
    """

    label: str
    formula: Syntax
    over: Name | None
    upto: Name | None
    by: tuple[Ordering, ...]
    best: Best | None
    others: bool
    total: TotalPlace | None
    closed: bool
    opened: tuple[Literal | str, ...] | None
    closing: Span | None
    span: Span


class ValueItem(Node, frozen=True):
    """A value of a request: its label (empty for none), formula and number format."""

    label: str
    formula: Syntax
    format: Format
    span: Span


class ValueList(Node, frozen=True):
    """The values of a request; ``on`` names the axis that their labels are on."""

    items: tuple[ValueItem, ...]
    on: typing.Literal["rows", "columns"] | None
    span: Span


class Condition(Node, frozen=True):
    """A condition; ``Over`` states the table of a part of it."""

    formula: Syntax

    @property
    def span(self) -> Span:
        """The stretch of the condition itself."""
        return self.formula.span


def walk(node: Syntax) -> Iterator[Syntax]:
    """A node and all below it."""
    pending = [node]
    while pending:
        part = pending.pop(0)
        yield part
        pending[:0] = children(part)


def children(node: Syntax) -> Iterator[Syntax]:
    """The nodes directly below a node, in the order of the text."""
    match node:
        case Literal() | Name():
            return
        case Operation(operands=operands):
            yield from operands
        case Over(part):
            yield part
        case Case(branches=branches, otherwise=otherwise):
            for condition, value in branches:
                yield condition
                yield value
            if otherwise is not None:
                yield otherwise
        case Call():
            yield from node.arguments
            yield from (extra for extra in (node.of, node.by, node.weight) if extra is not None)
        case Changed(formula, changes):
            yield formula
            for change in changes:
                yield from clause_formulas(change)
        case Let(bindings, body):
            yield from (formula for _, formula in bindings)
            yield body
        case _:
            assert_never(node)


def clause_formulas(change: Clause) -> tuple[Syntax, ...]:
    """The formulas and conditions that are in one change of context."""
    match change:
        case WhereClause(condition):
            return (condition.formula,)
        case PinClause(values=values):
            return values
        case KeepWhereClause(condition=formula):
            return (formula,)
        case KeepBestClause(by=orderings):
            return tuple(each.formula for each in orderings)
        case (
            PinNullClause()
            | PinNoMatchClause()
            | PinEdgeClause()
            | IgnoringClause()
            | OnlyClause()
            | ViaClause()
            | BothWaysClause()
            | CalendarClause()
        ):
            return ()
        case _:
            assert_never(change)


def item_formulas(item: AxisItem | KeepItem) -> tuple[Syntax, ...]:
    """The formulas of an axis field with its options, or of a keep."""
    if not isinstance(item, AxisItem):
        return clause_formulas(item)
    ranked = item.best.by if item.best is not None else ()
    return item.formula, *(each.formula for each in (*item.by, *ranked))


def clause_names(change: Clause) -> tuple[Name, ...]:
    """The tables and columns that one change of context names outside its formulas; a many side as ``table.column``."""
    match change:
        case WhereClause():
            return ()
        case PinClause(column=name) | PinNullClause(column=name) | PinEdgeClause(column=name) | PinNoMatchClause(name):
            return (name,)
        case IgnoringClause(names) | OnlyClause(names):
            return names
        case ViaClause(side) | BothWaysClause(side):
            return (side.table, *side.columns)
        case KeepWhereClause(grain=name) | KeepBestClause(grain=name):
            return (name,)
        case CalendarClause(on=on):
            return () if on is None else (on,)
        case _:
            assert_never(change)


def names_in(node: Syntax) -> Iterator[Name]:
    """Every name that a formula mentions."""
    pending = [node]
    while pending:
        current = pending.pop()
        if isinstance(current, Name):
            yield current
        pending.extend(children(current))


def bare_names(node: Syntax, known: Container[str]) -> Iterator[Name]:
    """The names of one part that a formula mentions and that are ``known``, but for those that a ``let`` gives."""
    pending: list[tuple[Syntax, frozenset[str]]] = [(node, frozenset())]
    while pending:
        current, lets = pending.pop()
        if isinstance(current, Name):
            if len(current.parts) == 1 and current.parts[0] in known and current.parts[0] not in lets:
                yield current
            continue
        if isinstance(current, Let):
            for name, formula in current.bindings:
                pending.append((formula, lets))
                lets |= {name.parts[0]}
            pending.append((current.body, lets))
            continue
        pending.extend((child, lets) for child in children(current))


def conjuncts(node: Syntax) -> list[Syntax]:
    """A condition split at its outer ``and``s; the two halves of a ``between``, which have its own place, are one."""
    if isinstance(node, Operation) and node.operator == "and" and any(each.span != node.span for each in node.operands):
        return [part for operand in node.operands for part in conjuncts(operand)]
    return [node]
