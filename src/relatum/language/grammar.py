"""Formula text to syntax tree, and syntax errors as sentences: what a text that was not parsed before goes through."""

from __future__ import annotations

import re
from functools import cache
from importlib import resources
from typing import Any

import lark
from lark import Lark, Token, Transformer, UnexpectedInput, UnexpectedToken
from lark.exceptions import UnexpectedCharacters
from msgspec.structs import replace

from relatum.data.types import BOOLEAN, DATE, NULL, TEXT
from relatum.errors import FormulaError, Span
from relatum.language.advice import LABELS
from relatum.language.build_calls import build_call, build_call_at, build_call_over_time
from relatum.language.build_changes import build_change
from relatum.language.build_request import RequestBuilder, span_of
from relatum.language.literals import day_literal, moment_literal, number_literal, piece_error
from relatum.language.tree import (
    Call,
    Case,
    Changed,
    Clause,
    Condition,
    Let,
    Literal,
    ManySide,
    Name,
    Operation,
    Over,
    Syntax,
)
from relatum.model.names import KEYWORDS, unquoted
from relatum.runtime.paths import person_cache
from relatum.wording import nearest

MAX_DEPTH = 100

#: What a text is called in messages, by where its grammar starts.
_WHAT = {"formula": "formula", "condition": "condition", "axis": "axis", "values": "list of values", "keeps": "keep"}


def tree_of(text: str, start: str) -> Any:
    """The syntax tree of a text.

    Parameters
    ----------
    text : str
        The text.
    start : str
        What it is: formula, condition, axis, values or keeps.

    Raises
    ------
    FormulaError
        It is not what it should be, or is nested too deeply.
    """
    try:
        return _tree(text, start)
    except UnexpectedInput as error:
        raise _syntax_error(error, text, _WHAT[start]) from None


@cache
def _parser() -> Lark:
    grammar = resources.files("relatum.language").joinpath("grammar.lark").read_text(encoding="utf-8")
    return build_parser(grammar, cache=_tables_file())


def _tables_file() -> str | bool:
    """Where lark keeps the tables of the grammar, which take longer to compute than most requests to answer."""
    folder = person_cache()
    return str(folder / f"grammar-{lark.__version__}.tables") if folder is not None else False


def build_parser(grammar: str, **options: Any) -> Lark:
    """The parser for a grammar text; ``options`` are lark's own (the tests ask for its strict mode)."""
    return Lark(
        grammar,
        parser="lalr",
        lexer="basic",
        start=["formula", "condition", "axis", "values", "keeps"],
        maybe_placeholders=False,
        keep_all_tokens=True,
        lexer_callbacks={"IDENT": _keyword},
        transformer=_Builder(),
        **options,
    )


def _keyword(token: Token) -> Token:
    # Keywords ignore case, names do not: so keywords are recognised here rather than by a pattern.
    lower = token.value.lower()
    return Token.new_borrow_pos(lower.upper(), token.value, token) if lower in KEYWORDS else token


def _span(items: list[Any]) -> Span:
    return span_of(items[0]).to(span_of(items[-1]))


class _Builder(RequestBuilder, Transformer[Token, Any]):
    """Builds nodes as the parser reduces, bottom up: no recursion, however deep the text."""

    def binary(self, items: list[Any]) -> Operation:
        left, operator, right = items
        name = operator.value.lower()
        return Operation("<>" if name == "!=" else name, (left, right), _span(items))

    def unary(self, items: list[Any]) -> Syntax:
        operator, operand = items
        if operator.value == "+":
            return Operation("plus_sign", (operand,), _span(items))
        return Operation("negate" if operator.value == "-" else "not", (operand,), _span(items))

    def in_list(self, items: list[Any]) -> Operation:
        return Operation("in", (items[0], *items[-2][0]), _span(items))

    def not_in_list(self, items: list[Any]) -> Operation:
        return Operation("not", (self.in_list(items),), _span(items))

    def between(self, items: list[Any]) -> Operation:
        value, low, high = (item for item in items if not isinstance(item, Token))
        span = _span(items)
        return Operation("and", (Operation(">=", (value, low), span), Operation("<=", (value, high), span)), span)

    def not_between(self, items: list[Any]) -> Operation:
        return Operation("not", (self.between(items),), _span(items))

    def like(self, items: list[Any]) -> Operation:
        return Operation("like", (items[0], items[-1]), _span(items))

    def not_like(self, items: list[Any]) -> Operation:
        return Operation("not", (self.like(items),), _span(items))

    def is_null(self, items: list[Any]) -> Operation:
        return Operation("is_null", (items[0],), _span(items))

    def is_not_null(self, items: list[Any]) -> Operation:
        return Operation("not", (self.is_null(items),), _span(items))

    def bracketed(self, items: list[Any]) -> Syntax:
        node: Syntax = items[1]
        return replace(node, span=_span(items))

    def is_words(self, items: list[Any]) -> Operation:
        if (items[-2].value.lower(), items[-1].value.lower()) != ("no", "match"):
            raise piece_error("Write null, not null or no match after is.", _span(items[-2:]))
        return Operation("is_no_match", (items[0],), _span(items))

    def is_not_words(self, items: list[Any]) -> Operation:
        return Operation("not", (self.is_words(items),), _span(items))

    def word(self, items: list[Any]) -> Token:
        token: Token = items[0]
        return token

    def binding(self, items: list[Any]) -> tuple[Name, Syntax, Span]:
        return items[0], items[2], _span(items)

    def let(self, items: list[Any]) -> Let:
        bindings = tuple((item[0], item[1]) for item in items if isinstance(item, tuple))
        return Let(bindings, items[-1], _span(items))

    def names(self, items: list[Any]) -> tuple[tuple[Name, ...], Span]:
        return tuple(item for item in items if isinstance(item, Name)), _span(items)

    def side(self, items: list[Any]) -> ManySide:
        table, *columns = (item for item in items if isinstance(item, Name))
        return ManySide(table, tuple(columns), _span(items))

    def per(self, items: list[Any]) -> tuple[str, tuple[Name, ...], Span]:
        return "per", items[1][0], _span(items)

    def changed(self, items: list[Any]) -> Changed:
        return Changed(items[0], tuple(item for item in items if not isinstance(item, Token))[1:], _span(items))

    def change(self, items: list[Any]) -> Clause:
        return build_change(items, _span(items))

    def branch(self, items: list[Any]) -> tuple[Syntax, Syntax, Span]:
        return items[1], items[3], _span(items)

    def case(self, items: list[Any]) -> Case:
        branches = tuple((item[0], item[1]) for item in items if isinstance(item, tuple))
        otherwise = items[-2] if isinstance(items[-3], Token) and items[-3].type == "ELSE" else None
        return Case(branches, otherwise, _span(items))

    def case_of(self, items: list[Any]) -> Case:
        branches = tuple(
            (Operation("=", (items[1], item[0]), item[0].span), item[1]) for item in items if isinstance(item, tuple)
        )
        otherwise = items[-2] if isinstance(items[-3], Token) and items[-3].type == "ELSE" else None
        return Case(branches, otherwise, _span(items))

    def extract(self, items: list[Any]) -> Call:
        word = _written_so(items[0], "extract", "extract(year from d)")
        part = items[2].value.lower()
        if part not in _PARTS:
            raise piece_error(
                f"There is no part {items[2].value} of a date.", span_of(items[2]), f"Known: {', '.join(_PARTS)}."
            )
        return Call(part, (items[4],), _span(items), word)

    def cast(self, items: list[Any]) -> Operation:
        _written_so(items[0], "cast", "cast(x as integer)")
        digits = [item.value for item in items if isinstance(item, Token) and item.type == "NUMBER"]
        name = items[4].value.lower() + "".join(f"({each})" for each in digits)
        span = _span(items[4:-1])
        return Operation("cast", (items[2], Literal(name, TEXT, span)), _span(items))

    def ident(self, items: list[Any]) -> Name:
        token = items[0]
        text = unquoted(token.value[1:-1]) if token.type == "QUOTED" else token.value
        return Name((text,), _span(items))

    def name(self, items: list[Any]) -> Name:
        return Name(tuple(part for item in items if isinstance(item, Name) for part in item.parts), _span(items))

    def series(self, items: list[Any]) -> tuple[tuple[Syntax, ...], Span]:
        return tuple(item for item in items if not isinstance(item, Token)), _span(items)

    def by(self, items: list[Any]) -> tuple[str, Syntax, Span]:
        return ("weight" if len(items) == 3 else "by"), items[-1], _span(items)

    def over(self, items: list[Any]) -> tuple[str, Name, Span]:
        return "over", items[1], _span(items)

    def call(self, items: list[Any]) -> Call:
        return build_call(items, _span(items), span_of(items[0]))

    def call_at(self, items: list[Any]) -> Call:
        return build_call_at(items, _span(items), span_of(items[0]))

    def call_over_time(self, items: list[Any]) -> Call:
        return build_call_over_time(items, _span(items), span_of(items[0]))

    def condition(self, items: list[Any]) -> Condition:
        return Condition(items[0])

    def over_part(self, items: list[Any]) -> Over:
        return Over(items[0], items[2], _span(items))

    def over_bracketed(self, items: list[Any]) -> Over:
        return Over(items[1], items[3], _span(items))

    def not_part(self, items: list[Any]) -> Syntax:
        operand, span = items[1], _span(items)
        if isinstance(operand, Over):
            return Over(Operation("not", (operand.part,), span), operand.table, span)
        return Operation("not", (operand,), span)

    def literal(self, items: list[Any]) -> Literal:
        token, span = items[0], _span(items)
        text = token.value
        match token.type:
            case "NUMBER":
                return number_literal(text, span)
            case "STRING":
                return Literal(text[1:-1].replace("''", "'"), TEXT, span)
            case "DATE":
                return Literal(day_literal(text[text.index("'") + 1 : -1], span), DATE, span)
            case "TIMESTAMP":
                return moment_literal(text[text.index("'") + 1 : -1], span)
            case "NULL":
                return Literal(None, NULL, span)
        return Literal(token.type == "TRUE", BOOLEAN, span)


#: Parts of a date or moment, each with its function.
_PARTS = ("year", "quarter", "month", "week", "day", "weekday", "hour", "minute", "second")


def _written_so(token: Token, name: str, signature: str) -> Span:
    """Where a function's name is, which alone is written in this way."""
    if token.value.lower() != name:
        raise piece_error(f"{token.value} cannot be written like this.", span_of(token), f"Write {signature}.")
    return span_of(token)


def _tree(text: str, start: str) -> Any:
    steps = _parser().parse_interactive(text, start=start)
    try:
        return _fed(steps)
    except UnexpectedToken as error:
        # The parser's own list holds whatever could follow in some formula; this one what could follow in this one.
        error.expected = steps.accepts()  # type: ignore[no-untyped-call]
        raise


def _fed(steps: Any) -> Any:
    depth, token = 0, None
    for token in steps.iter_parse():
        if token.type in ("LPAR", "CASE", "LSQB"):
            depth += 1
            if depth > MAX_DEPTH:
                raise piece_error(
                    f"The formula is nested more than {MAX_DEPTH} levels deep.",
                    span_of(token),
                    "Move part of it into a measure or derived column.",
                )
        elif token.type in ("RPAR", "END", "RSQB"):
            depth -= 1
    return steps.feed_eof(token)


#: What people write out of habit, and what to write here.
_SLIPS = {
    "==": "Use a single equals sign to compare: a = b.",
    "&&": "Write and.",
    "&": "Write and between conditions, or || between texts.",
    "|": "Write or between conditions, or || between texts.",
    "!": "Write not, or <> for 'not equal'.",
    "^": "Write power(x, y).",
    "**": "Write power(x, y).",
    ";": "A formula has no semicolon.",
    "[": "A column is written table.column; square brackets follow a formula and change its context.",
    "{": "Lists go in round brackets: in ('a', 'b').",
    "}": "Lists go in round brackets: in ('a', 'b').",
    "`": 'A name with spaces or capitals needs double quotes: "Unit Price".',
    ":": "A colon is used only between a value's label and its formula.",
}


def _syntax_error(error: UnexpectedInput, text: str, what: str) -> FormulaError:
    at = error.pos_in_stream if error.pos_in_stream is not None else len(text)
    if isinstance(error, UnexpectedToken) and error.token.type == "$END":
        if not text.strip():
            return FormulaError(f"The {what} is empty.", text=text, span=Span(0, 1))
        end = len(text.rstrip())
        return FormulaError(
            f"The {what} ends too early.", text=text, span=Span(end, end + 1), fix=_missing(error, text)
        )
    if isinstance(error, UnexpectedToken):
        token = error.token
        span, word = span_of(token), token.value
        if token.type.lower() in KEYWORDS and "IDENT" in error.expected and "$END" not in error.expected:
            return FormulaError(
                f"{word} is a word of the language and cannot be used here.",
                text=text,
                span=span,
                fix=f'If it is a name, put it in double quotes: "{word}".',
            )
        if error.expected == {"TO"}:
            # The word before was taken for a unit, as in year to date.
            before = list(re.finditer(r"\w+", text[: span.start]))[-1]
            near = nearest(before.group(), _CHANGE_WORDS)
            if near:
                span, word = Span(*before.span()), before.group()
                return FormulaError(f"{word!r} cannot be used here.", text=text, span=span, fix=f"Did you mean {near}?")
        doubled = text[span.start - 1 : span.stop] if span.start else word
        fix = _SLIPS.get(doubled, _SLIPS.get(text[span.start : span.start + 2], _SLIPS.get(word, "")))
        fix = _habit(token, text[: span.start]) or fix or _expected(error, token)
        return FormulaError(f"{word!r} cannot be used here.", text=text, span=span, fix=fix)
    assert isinstance(error, UnexpectedCharacters)
    character = text[at]
    if character in "'\"":
        kind = "text" if character == "'" else "name"
        return FormulaError(
            f"A {kind} begins here and is never closed.",
            text=text,
            span=Span(at, len(text)),
            fix=f"Close it with {character}" + (", or double any quote inside it." if kind == "text" else "."),
        )
    fix = _SLIPS.get(text[at : at + 2], _SLIPS.get(character, ""))
    return FormulaError(f"{character!r} is not part of the language.", text=text, span=Span(at, at + 1), fix=fix)


def _habit(token: Token, before: str) -> str:
    """What to write for something from other languages, recognised by the token and the text before it."""
    if token.type == "STAR" and re.search(r"\bcount\s*\(\s*\Z", before, re.IGNORECASE):
        return "count needs a table or a value: count(table)."
    kept = re.search(r"\bkeep\s+(?:top|bottom)\s+\d+\s+[^\[\],]+\Z", before, re.IGNORECASE)
    if token.type in ("RSQB", "COMMA") and kept:
        return f"Best by what? Write {kept.group()} by …, with a measure or another formula."
    if token.type == "AS":
        return LABELS
    return ""


_CHANGES = (
    "Square brackets hold changes: where and a condition, pin, ignoring, only, via, keep, "
    "or a move along the calendar such as back 1 year."
)
_CHANGE_WORDS = (
    "where",
    "pin",
    "ignoring",
    "only",
    "via",
    "both",
    "keep",
    "back",
    "forward",
    "trailing",
    "whole",
    "before",
)
_NAMED = "Expected the name of a table or column."

#: What belongs at a place, by the tokens that can be there: exactly these, or these among others.
_EXACTLY = {
    frozenset({"TO"}): _CHANGES,
    frozenset({"NUMBER"}): "Expected a whole number.",
    frozenset({"IDENT"}): "A word is missing here: back 1 year, year to date, is not no match.",
    frozenset({"IDENT", "NULL"}): "Write null or no match after is.",
    frozenset({"IDENT", "QUOTED"}): _NAMED,
    frozenset({"IDENT", "QUOTED", "LPAR"}): _NAMED,
    frozenset({"EQUAL", "IN", "IS"}): "Write = value, in (…), is null or is no match after the column.",
}
_AMONG = (
    ({"PIN", "WHERE"}, _CHANGES),
    ({"THEN", "COMMA"}, "Write then after the names of a let, followed by the formula that uses them."),
    ({"THEN"}, "Write then after when and its condition."),
    ({"END"}, "Close the case with end."),
)


def _belongs(accepts: set[str]) -> str:
    if "IDENT" in accepts:
        accepts = accepts - {"FROM", "AS"}  # names too, where names are
    return _EXACTLY.get(frozenset(accepts)) or next((text for tokens, text in _AMONG if tokens <= accepts), "")


def _missing(error: UnexpectedToken, text: str) -> str:
    opened = sum(map(text.count, "([")) - sum(map(text.count, ")]"))
    if opened > 0:
        return f"{'A bracket is' if opened == 1 else f'{opened} brackets are'} not closed."
    return _belongs(error.expected) or "Expected a number, a column, a measure or an aggregate next."


def _expected(error: UnexpectedToken, token: Token) -> str:
    accepts = error.expected
    if "$END" in accepts:
        accepts = accepts - {"IDENT"}  # what was read is whole: a word could only be an option's
    belongs = _belongs(accepts)
    if belongs:
        return belongs
    if "IDENT" in accepts or "NUMBER" in accepts:
        return "Expected a number, a column, a measure or an aggregate."
    if token.type == "RPAR" and "RPAR" not in accepts:
        return "This bracket has no opening bracket."
    if token.type in ("IDENT", "QUOTED", "NUMBER", "STRING", "DATE"):
        return "An operator or a comma is missing before it."
    return "Expected an operator, or nothing."
