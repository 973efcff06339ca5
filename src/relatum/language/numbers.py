"""Constant numbers in formulas: the widths and edges of bands, and what a count is compared with."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from fractions import Fraction
from typing import Protocol

from msgspec.structs import replace

from relatum.data.types import FLOAT, INTEGER, MAX_SCALE, decimal
from relatum.errors import FormulaError, Span
from relatum.language.advice import written_with
from relatum.language.catalog import Catalog
from relatum.language.expression import Aggregate, Constant, Expression, InContext
from relatum.language.reader import Scope
from relatum.language.register import SCALARS
from relatum.language.tree import (
    Call,
    Case,
    Changed,
    IgnoringClause,
    Let,
    Name,
    Operation,
    PinClause,
    PinNullClause,
    Syntax,
)


class NumberReader(Protocol):
    """The part of a formula's reader that is needed here."""

    catalog: Catalog

    def table(self, node: Name) -> str:
        """Find a table."""
        ...

    def column(self, node: Name) -> tuple[str, str]:
        """Find a column."""
        ...

    def written(self, span: Span) -> str:
        """A stretch of the text."""
        ...

    def resolve(self, node: Syntax, scope: Scope) -> Expression:
        """Resolve a node."""
        ...

    def apply(self, function: str, arguments: list[Expression], span: Span) -> Expression:
        """A function of the register on arguments."""
        ...

    def error(self, reason: str, span: Span, fix: str = "") -> FormulaError:
        """An error that points."""
        ...


def read_band(reader: NumberReader, node: Call, scope: Scope) -> Expression:
    """``band(x by 10)`` and ``band(x at 0, 10)``."""
    plain = not (node.distinct or node.of or node.weight or node.per or node.among)
    if not plain or (node.by is None) == (node.word == "") or (node.by is not None and len(node.arguments) != 1):
        ways = f"{SCALARS['band_by'].signature} or {SCALARS['band_at'].signature}"
        given = reader.written(node.arguments[0].span) if node.arguments else ""
        fix = f"Write {written_with(ways, given, reader.catalog)}."
        raise reader.error("Invalid use of band.", node.span, fix)
    value = reader.resolve(_at_members(reader, node, scope), scope)
    if node.by is not None:
        width = _constant(reader, node.by, "The width of bands", scope)
        if (number_of(width) or 0) <= 0:
            raise reader.error("The width of bands must be a number above 0.", node.by.span)
        return reader.apply("band_by", [value, width], node.span)
    edges = [_constant(reader, each, "An edge of bands", scope) for each in node.arguments[1:]]
    numbers = [number_of(each) or 0 for each in edges]
    for at, each in enumerate(node.arguments[2:], 1):
        if numbers[at] <= numbers[at - 1]:
            raise reader.error("Band edges must ascend: this one is not above the one before.", each.span)
    return reader.apply("band_at", [value, *edges], node.span)


def _at_members(reader: NumberReader, node: Call, scope: Scope) -> Syntax:
    """What is put into bands: on each row, or at the member that the row has in the column after ``over``.

    At a member it is the formula with the current row set aside and the column pinned to what the row has in it.
    """
    (first, over) = node.arguments[0], node.over
    if over is None:
        return first
    if scope.kind != "row" or reader.table(replace(over, parts=over.parts[:1])) not in (scope.home, *scope.rows):
        raise reader.error(
            "Use bands over members as an axis field, or as a derived column of the members' table.", over.span
        )
    if len(over.parts) == 1:
        return first
    reader.column(over)
    # No formula can write these: the name hides no other, and the word names no table.
    member, row = Name(("\0member",), over.span), Name(("row",), Span(over.span.start, over.span.start))
    aside = IgnoringClause((row,), over.span)
    at = Changed(first, (aside, PinClause(over, (member,), over.span)), first.span)
    at_null = Changed(first, (aside, PinNullClause(over, over.span)), first.span)
    known = Let(((member, over),), at, first.span)
    return Case(((Operation("is_null", (over,), over.span), at_null),), known, first.span)


def _constant(reader: NumberReader, node: Syntax, what: str, scope: Scope) -> Constant:
    """A constant number; a float as its shortest decimal."""
    value = reader.resolve(node, scope)
    if not isinstance(value, Constant) or not value.type.numeric:
        raise reader.error(f"{what} must be a constant number.", node.span)
    if value.type != FLOAT:
        return value
    exact = Decimal(repr(value.value)).normalize()
    scale = max(0, -int(exact.as_tuple().exponent))
    if scale > MAX_SCALE or abs(exact) >= 1 << 62:
        raise reader.error(f"{what} is out of range.", node.span)
    return Constant(int(exact.scaleb(scale)), decimal(scale) if scale else INTEGER, value.span)


def never_holds(function: str, arguments: Sequence[Expression]) -> Expression | None:
    """The count in a comparison that only a count of no rows could fulfil: over no rows every aggregate is null."""
    counted = next((each for each in arguments if _counts_rows(each)), None)
    if counted is None or function not in ("=", "<", "<=", ">", ">=", "in"):
        return None
    others = [each for each in arguments if each is not counted]
    limits = [number_of(each) for each in others]
    word = function
    if function != "in" and arguments[0] is not counted:
        word = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "=": "="}[function]
    holds = _HOLDS_FOR_NONE.get(word)
    if holds is None:
        return None  # more than some number: rows that are there can fulfil it
    known = [limit for limit in limits if limit is not None]
    every = len(known) == len(others) and any(map(holds, known)) and (function != "in" or max(known) < 1)
    return counted if known and every else None


def _counts_rows(expression: Expression) -> bool:
    while isinstance(expression, InContext):
        expression = expression.formula
    return isinstance(expression, Aggregate) and expression.function == "count_rows"


def number_of(expression: Expression) -> Fraction | None:
    """The number that an expression equals everywhere; None if it is not constant."""
    if isinstance(expression, Constant) and expression.type.numeric and isinstance(expression.value, int | float):
        return Fraction(expression.value) / Fraction(10**expression.type.scale)
    return None


#: With which numbers a comparison of a count holds for 0 and for no count of rows that are there.
_HOLDS_FOR_NONE: Mapping[str, Callable[[Fraction], bool]] = {
    "=": lambda limit: limit == 0,
    "in": lambda limit: limit == 0,
    "<": lambda limit: 0 < limit <= 1,
    "<=": lambda limit: 0 <= limit < 1,
}
