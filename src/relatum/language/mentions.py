"""What a formula mentions by name, with where in the text; and the text with a name changed, or its bare meaning."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, fields, is_dataclass
from typing import assert_never

from relatum.errors import Span
from relatum.language.parse import parse_condition, parse_formula
from relatum.language.register import aggregating
from relatum.language.tree import (
    BothWaysClause,
    Call,
    Case,
    Changed,
    Condition,
    Let,
    Literal,
    ManySide,
    Name,
    Operation,
    Over,
    Syntax,
    ViaClause,
    children,
    clause_formulas,
    clause_names,
)

_IDENT = re.compile(r'"(?:[^"]|"")+"|[^\W\d]\w*')


@dataclass(frozen=True, slots=True)
class Mention:
    """A name in a formula: of a table, of a measure, or of a column of ``table``; ``span`` is that name alone."""

    kind: str
    table: str
    name: str
    span: Span


@dataclass(frozen=True, slots=True)
class Known:
    """The names that a model has: what a name of one part can stand for."""

    tables: Mapping[str, Collection[str]]
    measures: Collection[str]


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
        The text is no formula.
    """
    found: list[Mention] = []
    if condition:
        whole = parse_condition(text)
        found += _in_condition(text, whole, known, frozenset())
    else:
        found += _in_node(text, parse_formula(text), known, home, frozenset())
    return sorted(set(found), key=lambda each: each.span.start)


def _in_condition(text: str, condition: Condition, known: Known, lets: frozenset[str]) -> Iterator[Mention]:
    yield from _in_node(text, condition.formula, known, "", lets)


def _in_node(text: str, node: Syntax, known: Known, home: str, lets: frozenset[str]) -> Iterator[Mention]:
    match node:
        case Name():
            yield from _in_name(text, node, known, home, lets)
        case Call():
            # Inside an aggregate the rows are others: a name alone is no column of the home table there.
            inner = "" if aggregating(node.function) else home
            for child in children(node):
                yield from _in_node(text, child, known, inner, lets)
            for name in (node.over, *node.per, node.among):
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
        case Literal() | Operation() | Case():
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
    """The text with mentions spelled anew; ``spelling`` gives None for one that stays as it is."""
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
        The text is no formula.

    Examples
    --------
    >>> meaning("sum( a.b )+1 -- why") == meaning("SUM(a.b) + 1")
    True
    """
    return _without_places(parse_formula(text))


def _without_places(node: object) -> object:
    if isinstance(node, tuple):
        return tuple(_without_places(each) for each in node)
    if is_dataclass(node):
        inner = (getattr(node, each.name) for each in fields(node))
        return type(node).__name__, *(_without_places(each) for each in inner if not isinstance(each, Span))
    return node
