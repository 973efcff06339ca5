"""The syntax tree of a formula, as written. Every node knows the stretch of text it came from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from relatum.data.types import Type
from relatum.errors import Span


@dataclass(frozen=True, slots=True)
class Literal:
    """A constant. Decimals are whole numbers times ten to their type's scale; dates are days since 1970."""

    value: int | float | str | bool | None
    type: Type
    span: Span


@dataclass(frozen=True, slots=True)
class Name:
    """A measure or table (one part), or ``table.column`` (two)."""

    parts: tuple[str, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Operation:
    """An operator with its operands: arithmetic, comparison, logic, ``in``, ``between``, ``like``, ``is null``."""

    operator: str
    operands: tuple[Node, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Case:
    """``case when … then … else … end``: conditions and values in pairs, and what holds otherwise."""

    branches: tuple[tuple[Node, Node], ...]
    otherwise: Node | None
    span: Span


@dataclass(frozen=True, slots=True)
class Call:
    """A function with its arguments and the words that may follow them."""

    function: str
    arguments: tuple[Node, ...]
    span: Span
    name_span: Span
    distinct: bool = False
    of: Node | None = None
    by: Node | None = None
    weight: Node | None = None
    over: Name | None = None
    per: tuple[Name, ...] = ()
    among: Name | None = None
    descending: bool = False


@dataclass(frozen=True, slots=True)
class Change:
    """One change of context in square brackets.

    ``kind`` is its first word, or ``to_date``. ``names`` are the tables and columns it speaks of, ``operands`` its
    values or formula, ``word`` a word such as a unit, ``top`` or ``first``, ``number`` how many.
    """

    kind: str
    span: Span
    names: tuple[Name, ...] = ()
    operands: tuple[Node, ...] = ()
    word: str = ""
    number: int = 0
    on: Name | None = None
    condition: Condition | None = None


@dataclass(frozen=True, slots=True)
class Changed:
    """``formula[change, …]``: a formula in another context."""

    formula: Node
    changes: tuple[Change, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Let:
    """``let name = formula, … then formula``."""

    bindings: tuple[tuple[Name, Node], ...]
    body: Node
    span: Span


Node = Literal | Name | Operation | Case | Call | Changed | Let


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition, and the table that ``over`` states for it."""

    formula: Node
    over: Name | None

    @property
    def span(self) -> Span:
        """The stretch of the condition itself."""
        return self.formula.span


def children(node: Node) -> Iterator[Node]:
    """The nodes directly below a node, in the order of the text."""
    match node:
        case Operation(operands=operands):
            yield from operands
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
                yield from change.operands
                if change.condition is not None:
                    yield change.condition.formula
        case Let(bindings, body):
            yield from (formula for _, formula in bindings)
            yield body
        case _:
            return


def names_in(node: Node) -> Iterator[Name]:
    """Every name that a formula mentions."""
    pending = [node]
    while pending:
        current = pending.pop()
        if isinstance(current, Name):
            yield current
        pending.extend(children(current))


def conjuncts(node: Node) -> list[Node]:
    """A condition split at its outer ``and``s."""
    if isinstance(node, Operation) and node.operator == "and":
        return [part for operand in node.operands for part in conjuncts(operand)]
    return [node]
