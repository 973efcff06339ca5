"""Functions that stand for other formulas: what each is, as a tree and as text."""

from __future__ import annotations

from collections.abc import Iterator

from relatum.data.types import INTEGER
from relatum.errors import Span
from relatum.language.parse import parse_formula
from relatum.language.register import SHARES, SHORTHAND_NAMES, SHORTHANDS
from relatum.language.tree import (
    Call,
    Changed,
    IgnoringClause,
    Name,
    Operation,
    Syntax,
    children,
)
from relatum.language.tree import Literal as Constant


def is_whole(node: Call) -> bool:
    """Whether a shorthand is written as it has to be."""
    return bool(node.word) if node.function == "share" else node.move is not None


def ways_of(function: str) -> str:
    """How a shorthand is written."""
    return ", ".join(each.signature for each in SHORTHANDS if each.name == function)


def expanded(node: Call) -> Syntax:
    """The formula that a shorthand is short for."""
    (value,) = node.arguments
    span = node.span
    if node.function == "share":
        word = Name((SHARES[node.word],), Span(span.start, span.start))
        return Operation("/", (value, Changed(value, (IgnoringClause((word,), span),), span)), span)
    assert node.move is not None, "growth and change say how far they look back"
    before = Changed(value, (node.move,), span)
    if node.function == "change":
        return Operation("-", (value, before), span)
    rate = Operation("/", (value, before), span)
    return Operation("-", (rate, Constant(1, INTEGER, span)), span)


def expansion(text: str) -> str:
    """A formula's text with every shorthand written out.

    Raises
    ------
    FormulaError
        The text is not a formula.

    Examples
    --------
    >>> expansion("share(revenue of parent) * 100")
    '(revenue / revenue[ignoring innermost]) * 100'
    """
    root = parse_formula(text)
    written = _written(text, root)
    if isinstance(root, Call) and root.function in SHORTHAND_NAMES:
        written = written[1:-1]
    return " ".join(written.split())


def _written(text: str, node: Syntax) -> str:
    """The text of a node, its shorthands written out in brackets."""
    pieces, at = [], node.span.start
    for inner in _outermost(node):
        pieces += [text[at : inner.span.start], _bracketed(text, inner)]
        at = inner.span.stop
    return "".join([*pieces, text[at : node.span.stop]])


def _outermost(node: Syntax) -> Iterator[Call]:
    if isinstance(node, Call) and node.function in SHORTHAND_NAMES and is_whole(node):
        yield node
        return
    for child in sorted(children(node), key=lambda each: each.span.start):
        yield from _outermost(child)


def _bracketed(text: str, node: Call) -> str:
    (value,) = node.arguments
    own = _written(text, value)
    if not isinstance(value, Name | Call) and not own.startswith("("):
        own = f"({own})"
    if node.function == "share":
        return f"({own} / {own}[ignoring {SHARES[node.word]}])"
    assert node.move is not None
    back = text[node.move.span.start : node.move.span.stop]
    on = "" if node.move.on is None else f" on {_written(text, node.move.on)}"
    before = f"{own}[back {back}{on}]"
    return f"({own} - {before})" if node.function == "change" else f"({own} / {before} - 1)"
