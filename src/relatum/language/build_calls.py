"""Functions with the words that may follow their arguments: from the parser's pieces to nodes."""

from __future__ import annotations

from typing import Any

from lark import Token
from msgspec.structs import replace

from relatum.calendar.steps import Shift
from relatum.errors import FormulaError, Span
from relatum.language.build_changes import UNITS, count, expect, unit
from relatum.language.literals import piece_error
from relatum.language.register import PERIODS, SHARES
from relatum.language.tree import CalendarClause, Call, Name


def build_call(items: list[Any], span: Span, name_span: Span) -> Call:
    """The node of a function call."""
    function = items[0].value.lower()
    extras = {item[0]: item[1] for item in items if isinstance(item, tuple) and isinstance(item[0], str)}
    words = {item.type for item in items if isinstance(item, Token)}
    nodes = [item for item in items[1:] if not isinstance(item, Token | tuple)]
    if "DISTINCT" in words:
        return Call(function, tuple(nodes), span, name_span, distinct=True, **extras)
    if "OF" in words:
        call = Call(function, (nodes[1],), span, name_span, of=nodes[0], **extras)
        return _share(call) if function == "share" else call
    if "AMONG" in words:
        by, direction = nodes[2] if len(nodes) > 2 else None, direction_of(items[-2])
        return Call(function, (nodes[0],), span, name_span, by=by, among=nodes[1], descending=direction == "desc")
    lists = [item[0] for item in items if isinstance(item, tuple) and isinstance(item[0], tuple)]
    call = Call(function, lists[0] if lists else (), span, name_span, **extras)
    return _period(call) if function == "period" else call


def build_call_at(items: list[Any], span: Span, name_span: Span) -> Call:
    """``band(x at 0, 10)``."""
    function, word = items[0].value.lower(), expect(items[3], ("at",))
    if function != "band":
        raise _wrong(items[0].value, span, "Only band takes edges: band(x at 0, 10, 100).")
    over = next((item[1] for item in items if isinstance(item, tuple) and item[0] == "over"), None)
    return Call(function, (items[2], *items[4][0]), span, name_span, word=word, over=over)


def build_call_over_time(items: list[Any], span: Span, name_span: Span) -> Call:
    """``growth(x over 1 year)`` and ``change(x over 1 month)``."""
    function = items[0].value.lower()
    if function not in ("growth", "change") or len(items[2][0]) != 1:
        raise _wrong(items[0].value, span, "Use growth(x over 1 year) or change(x over 1 year).")
    on = items[-2] if isinstance(items[-2], Name) else None
    word = items[5]
    step = Shift(-count(items[4]), unit(word))
    move = CalendarClause(step, on, Span(items[4].start_pos or 0, word.end_pos or 0))
    return Call(function, items[2][0], span, name_span, move=move)


def direction_of(item: Any) -> str:
    """The word that may follow ``by``: ``asc`` or ``desc``."""
    if not isinstance(item, Token) or item.type != "IDENT":
        return "asc"
    word = str(item.value).lower()
    if word not in ("asc", "desc"):
        span = Span(item.start_pos or 0, item.end_pos or 0)
        raise piece_error(f"{item.value} is not a direction.", span, "Write asc or desc.")
    return word


def _share(call: Call) -> Call:
    """The share's value and its word: the word is not a formula, even where a measure has its name."""
    word = _word(call.arguments[0])
    if word not in SHARES or call.over or call.per or call.of is None:
        raise _wrong("share", call.arguments[0].span, f"Write share(x of {' | '.join(SHARES)}).")
    return replace(call, arguments=(call.of,), of=None, word=word)


def _period(call: Call) -> Call:
    word = _word(call.by) if call.by is not None else ""
    if word not in PERIODS or len(call.arguments) != 1 or call.weight or call.over or call.per:
        known = ", ".join(each for each in UNITS if each in PERIODS)
        raise _wrong("period", call.span, f"Write period(d by month); there are {known}.")
    return replace(call, by=None, word=word)


def _word(node: object) -> str:
    return node.parts[0].lower() if isinstance(node, Name) and len(node.parts) == 1 else ""


def _wrong(name: str, span: Span, fix: str) -> FormulaError:
    return piece_error(f"Invalid use of {name}.", span, fix)
