"""Changes of context as written in square brackets: from the parser's pieces to nodes."""

from __future__ import annotations

from typing import Any

from lark import Token

from relatum.errors import FormulaError, Span
from relatum.language.tree import Change, Condition, Name
from relatum.wording import suggestion

UNITS = ("year", "quarter", "month", "week", "day", "fiscal_year", "fiscal_quarter")


def build_change(items: list[Any], span: Span) -> Change:
    """The node of one change.

    Raises
    ------
    FormulaError
        A word is not one that can stand there.
    """
    kind = items[0].value.lower() if isinstance(items[0], Token) else ""
    names = tuple(item for item in items if isinstance(item, Name))
    on = names[-1] if any(isinstance(item, Token) and item.type == "ON" for item in items) else None
    match items[0].type:
        case "WHERE":
            condition: Condition = items[1]
            return Change(kind, span, condition=condition)
        case "PIN":
            return _pin(items, names, span)
        case "IGNORING" | "ONLY":
            return Change(kind, span, items[1][0])
        case "VIA":
            return Change(kind, span, names)
        case "BOTH":
            _expect(items[1], ("ways",))
            return Change("both_ways", span, names)
        case "BACK" | "FORWARD" | "TRAILING":
            return Change(kind, span, (), (), _expect(items[2], UNITS), _count(items[1]), on)
        case "WHOLE":
            return Change(kind, span, (), (), _expect(items[1], UNITS), 0, on)
        case "BEFORE":
            return Change(kind, span, on=on)
        case "TO":
            _expect(items[1], ("date",))
            return Change("to_date", span, on=on)
        case "KEEP":
            if isinstance(items[1], Name):
                return Change("keep", span, (items[1],), (items[3],))
            word = _expect(items[1], ("top", "bottom"))
            return Change("keep", span, (items[3],), (items[-1],), word, _count(items[2]))
    _expect(items[2], ("date",))
    return Change("to_date", span, (), (), _expect(items[0], UNITS), 0, on)


def _pin(items: list[Any], names: tuple[Name, ...], span: Span) -> Change:
    if isinstance(items[1], Token):
        return Change("pin", span, names, (), _expect(items[1], ("first", "last")))
    if items[2].type == "EQUAL":
        return Change("pin", span, (items[1],), (items[3],), "=")
    if items[2].type == "IN":
        return Change("pin", span, names, items[4][0], "=")
    if items[3].type == "NULL":
        return Change("pin", span, names, (), "null")
    if [token.value.lower() for token in items[3:5]] != ["no", "match"]:
        at = Span(items[3].start_pos or 0, items[4].end_pos or 0)
        raise FormulaError("After is comes null or no match.", text="", span=at)
    return Change("pin", span, names, (), "no match")


def _expect(token: Token, allowed: tuple[str, ...]) -> str:
    word: str = token.value.lower()
    if allowed is UNITS and word.endswith("s"):
        word = word[:-1]  # 1 month, 12 months
    if word not in allowed:
        at = Span(token.start_pos or 0, token.end_pos or 0)
        raise FormulaError(
            f"{token.value} cannot stand here.", text="", span=at, fix=suggestion(word, allowed, noun="word")
        )
    return word


def _count(token: Token) -> int:
    if not token.value.isdigit() or not 0 < int(token.value) < 100_000:
        at = Span(token.start_pos or 0, token.end_pos or 0)
        raise FormulaError("A whole number above 0 belongs here.", text="", span=at)
    return int(token.value)
