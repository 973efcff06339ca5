"""Changes of context as written in square brackets: from the parser's pieces to nodes."""

from __future__ import annotations

from typing import Any, Literal, TypeVar

from lark import Token

from relatum.calendar.steps import Before, Shift, ToDate, Trailing, Unit, Whole
from relatum.errors import FormulaError, Span
from relatum.language.tree import (
    BothWaysClause,
    CalendarClause,
    Clause,
    IgnoringClause,
    KeepBestClause,
    KeepWhereClause,
    Name,
    OnlyClause,
    Ordering,
    PinClause,
    PinEdgeClause,
    PinNoMatchClause,
    PinNullClause,
    ViaClause,
    WhereClause,
)
from relatum.wording import suggestion

Word = TypeVar("Word", bound=str)
UNITS: tuple[Unit, ...] = ("year", "quarter", "month", "week", "day", "fiscal_year", "fiscal_quarter")


def build_change(items: list[Any], span: Span) -> Clause:
    """The node of one change.

    Raises
    ------
    FormulaError
        A word is not one that can be there.
    """
    names = tuple(item for item in items if isinstance(item, Name))
    on = names[-1] if any(isinstance(item, Token) and item.type == "ON" for item in items) else None
    first = items[0]
    match first.type:
        case "WHERE":
            return WhereClause(items[1], span)
        case "PIN":
            return _pin(items, names, span)
        case "IGNORING":
            return IgnoringClause(items[1][0], span)
        case "ONLY":
            return OnlyClause(items[1][0], span)
        case "VIA":
            return ViaClause(items[1], span)
        case "BOTH":
            expect(items[1], ("ways",))
            return BothWaysClause(items[2], span)
        case "BACK":
            return CalendarClause(Shift(-count(items[1]), unit(items[2])), on, span)
        case "FORWARD":
            return CalendarClause(Shift(count(items[1]), unit(items[2])), on, span)
        case "TRAILING":
            return CalendarClause(Trailing(count(items[1]), unit(items[2])), on, span)
        case "WHOLE":
            return CalendarClause(Whole(unit(items[1])), on, span)
        case "BEFORE":
            return CalendarClause(Before(), on, span)
        case "TO":
            expect(items[1], ("date",))
            return CalendarClause(ToDate(), on, span)
        case "IDENT":
            expect(items[2], ("date",))
            return CalendarClause(ToDate(unit(first)), on, span)
        case "KEEP":
            if isinstance(items[1], Name):
                return KeepWhereClause(items[1], items[3], span)
            return build_best(items[1:], span)
    raise AssertionError(f"no change begins with {first!r}")


def build_best(items: list[Any], span: Span) -> KeepBestClause:
    """``top N g by F``: the word, the number, the grain, ``by``, and what it is by."""
    edge = expect(items[0], EDGES)
    return KeepBestClause(edge, count(items[1]), items[2], orderings(items[4]), span)


def orderings(item: Any) -> tuple[Ordering, ...]:
    """What follows ``by``: several orderings, or one formula."""
    return item[0] if isinstance(item, tuple) else (Ordering(item, False, item.span),)


EDGES: tuple[Literal["top", "bottom"], ...] = ("top", "bottom")
_ENDS: tuple[Literal["first", "last"], ...] = ("first", "last")


def _pin(items: list[Any], names: tuple[Name, ...], span: Span) -> Clause:
    if isinstance(items[1], Token):
        return PinEdgeClause(expect(items[1], _ENDS), items[2], span)
    match items[2].type:
        case "EQUAL":
            return PinClause(items[1], (items[3],), span)
        case "IN":
            return PinClause(items[1], items[4][0], span)
    if items[3].type == "NULL":
        return PinNullClause(items[1], span)
    if [token.value.lower() for token in items[3:5]] != ["no", "match"]:
        at = Span(items[3].start_pos or 0, items[4].end_pos or 0)
        raise FormulaError("Write null or no match after is.", text="", span=at)
    return PinNoMatchClause(items[1], span)


def unit(token: Token) -> Unit:
    """A unit of the calendar."""
    return expect(token, UNITS)


def expect(token: Token, allowed: tuple[Word, ...]) -> Word:
    """The word that a token is, out of those that can be there."""
    word: str = token.value.lower()
    if "day" in allowed and word.endswith("s"):
        word = word[:-1]  # 1 month, 12 months
    for each in allowed:
        if each == word:
            return each
    at = Span(token.start_pos or 0, token.end_pos or 0)
    raise FormulaError(
        f"{token.value} cannot be used here.", text="", span=at, fix=suggestion(word, allowed, noun="word")
    )


def count(token: Token) -> int:
    """A whole number above 0."""
    if not token.value.isdigit() or not 0 < int(token.value) < 100_000:
        at = Span(token.start_pos or 0, token.end_pos or 0)
        raise FormulaError("Expected a whole number above 0.", text="", span=at)
    return int(token.value)
