"""What a formula mentions by name, with where in the text; and the text with a name changed, or its bare meaning."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping
from typing import Literal, assert_never

from msgspec import Struct

from relatum.errors import Span
from relatum.language.parse import parse_axis, parse_condition, parse_formula, parse_keeps, parse_values
from relatum.language.register import aggregating
from relatum.language.tree import (
    AxisItem,
    BothWaysClause,
    Call,
    Case,
    Changed,
    Condition,
    Let,
    ManySide,
    Name,
    Operation,
    Over,
    Syntax,
    ViaClause,
    children,
    clause_formulas,
    clause_names,
    item_formulas,
)
from relatum.language.tree import Literal as Constant

_IDENT = re.compile(r'"(?:[^"]|"")+"|[^\W\d]\w*')


class Mention(Struct, frozen=True):
    """A name in a formula: of a table, of a measure, or of a column of ``table``; ``span`` is that name alone."""

    kind: Literal["table", "column", "measure", "hierarchy", "pivot"]
    table: str
    name: str
    span: Span


class Known(Struct, frozen=True):
    """The names that a model has: what a name of one part can stand for."""

    tables: Mapping[str, Collection[str]]
    measures: Collection[str]
    hierarchies: Collection[str] = ()


def mentions(text: str, known: Known, home: str = "", *, condition: bool = False) -> list[Mention]:
    """Every table, column and measure that a formula names.

    Parameters
    ----------
    text : str
        The formula.
    known : Known
        The model's names.
    home : str, optional
        The table whose derived column this is: its columns may be named alone.
    condition : bool
        The text is a condition on rows.

    Raises
    ------
    FormulaError
        The text is not a formula.
    """
    found: list[Mention] = []
    if condition:
        whole = parse_condition(text)
        found += _in_condition(text, whole, known, frozenset())
    else:
        found += _in_node(text, parse_formula(text), known, home, frozenset())
    return sorted(set(found), key=lambda each: each.span.start)


RequestPart = Literal["axis", "values", "where", "keep"]


def request_mentions(text: str, part: RequestPart, known: Known) -> list[Mention]:
    """Every table, column, measure and hierarchy that a part of a request names.

    Raises
    ------
    FormulaError
        The text is not such a part.
    """
    found: list[Mention] = []
    match part:
        case "where":
            found += _in_condition(text, parse_condition(text), known, frozenset())
        case "values":
            for value in parse_values(text).items:
                found += _in_node(text, value.formula, known, "", frozenset())
        case "axis":
            for item in parse_axis(text):
                found += _in_axis(text, item, known)
        case "keep":
            for clause in parse_keeps(text):
                for name in clause_names(clause):
                    found += _in_name(text, name, known, "", frozenset())
                for formula in clause_formulas(clause):
                    found += _in_node(text, formula, known, "", frozenset())
        case _:
            assert_never(part)
    return sorted(set(found), key=lambda each: each.span.start)


def _in_axis(text: str, item: AxisItem, known: Known) -> Iterator[Mention]:
    node, *orders = item_formulas(item)
    if isinstance(node, Name) and len(node.parts) == 1 and node.parts[0] in known.hierarchies:
        yield Mention("hierarchy", "", node.parts[0], node.span)
    else:
        yield from _in_node(text, node, known, "", frozenset())
    for formula in orders:
        yield from _in_node(text, formula, known, "", frozenset())
    for name in (item.over, item.upto):
        if name is not None:
            yield from _in_name(text, name, known, "", frozenset())


def _in_condition(text: str, condition: Condition, known: Known, lets: frozenset[str]) -> Iterator[Mention]:
    yield from _in_node(text, condition.formula, known, "", lets)


def _in_node(text: str, node: Syntax, known: Known, home: str, lets: frozenset[str]) -> Iterator[Mention]:
    match node:
        case Name():
            yield from _in_name(text, node, known, home, lets)
        case Call():
            # Inside an aggregate the rows are others: a name alone is not a column of the home table there.
            inner = "" if aggregating(node.function) else home
            for child in children(node):
                yield from _in_node(text, child, known, inner, lets)
            moved = None if node.move is None else node.move.on
            for name in (node.over, *node.per, node.among, moved):
                if name is not None:
                    yield from _in_name(text, name, known, "", frozenset())
        case Over(part, table):
            yield from _in_node(text, part, known, home, lets)
            yield from _in_name(text, table, known, "", frozenset())
        case Changed(formula, changes):
            yield from _in_node(text, formula, known, home, lets)
            for change in changes:
                if isinstance(change, ViaClause | BothWaysClause):
                    yield from _in_side(change.side, known)
                else:
                    for name in clause_names(change):
                        yield from _in_name(text, name, known, "", frozenset())
                for operand in clause_formulas(change):
                    yield from _in_node(text, operand, known, "", lets)
        case Let(bindings, body):
            for name, formula in bindings:
                yield from _in_node(text, formula, known, home, lets)
                lets |= {name.parts[0]}
            yield from _in_node(text, body, known, home, lets)
        case Constant() | Operation() | Case():
            for child in children(node):
                yield from _in_node(text, child, known, home, lets)
        case _:
            assert_never(node)


def _in_side(side: ManySide, known: Known) -> Iterator[Mention]:
    (table,) = side.table.parts
    if table in known.tables:
        yield Mention("table", "", table, side.table.span)
        for column in side.columns:
            yield Mention("column", table, column.parts[0], column.span)


def _in_name(text: str, name: Name, known: Known, home: str, lets: frozenset[str]) -> Iterator[Mention]:
    spans = [Span(match.start(), match.end()) for match in _IDENT.finditer(text, name.span.start, name.span.stop)]
    if len(name.parts) == 2:
        table, column = name.parts
        if table in known.tables:
            yield Mention("table", "", table, spans[0])
            yield Mention("column", table, column, spans[1])
        return
    (word,) = name.parts
    if word in lets:
        return
    if home and word in known.tables.get(home, ()):
        yield Mention("column", home, word, spans[0])
    elif word in known.measures:
        yield Mention("measure", "", word, spans[0])
    elif word in known.tables:
        yield Mention("table", "", word, spans[0])


def respelled(text: str, found: list[Mention], spelling: Callable[[Mention], str | None]) -> str:
    """The text with mentions respelled; ``spelling`` returns None for one that stays unchanged."""
    for mention in sorted(found, key=lambda each: -each.span.start):
        new = spelling(mention)
        if new is not None:
            text = text[: mention.span.start] + new + text[mention.span.stop :]
    return text


def meaning(text: str) -> object:
    """What a formula says, apart from how it is laid out: equal for two texts that differ in blanks or comments.

    Raises
    ------
    FormulaError
        The text is not a formula.

    Examples
    --------
    >>> meaning("sum( a.b )+1 -- why") == meaning("SUM(a.b) + 1")
    True
    """
    return _without_places(parse_formula(text))


def _without_places(node: object) -> object:
    if isinstance(node, tuple):
        return tuple(_without_places(each) for each in node)
    if isinstance(node, Struct):
        inner = (getattr(node, name) for name in node.__struct_fields__)
        return type(node).__name__, *(_without_places(each) for each in inner if not isinstance(each, Span))
    return node
