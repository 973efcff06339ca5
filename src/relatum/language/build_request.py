"""What a pivot is asked, as text: from the parser's pieces to axis fields, values and keeps."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

from lark import Token
from msgspec import Struct
from msgspec.structs import replace

from relatum.errors import ModelError, Span
from relatum.language.build_calls import direction_of
from relatum.language.build_changes import EDGES, build_best, count, expect, orderings
from relatum.language.literals import number_literal, piece_error
from relatum.language.tree import (
    NO_MATCH,
    AxisItem,
    Best,
    KeepItem,
    KeepWhereClause,
    Name,
    Ordering,
    TotalPlace,
    ValueItem,
    ValueList,
)
from relatum.language.tree import Literal as Constant
from relatum.model.looks import FORMAT_WORDS, format_of_words
from relatum.wording import suggestion

#: The options of an axis field in the order in which they are written.
_ORDER = ("to", "by", "best", "others", "total", "closing")
_SHOWN = {
    "to": "to LEVEL",
    "by": "by F",
    "best": "top N",
    "others": "with others",
    "total": "no total, total before, total after",
    "closing": "closed, open (…)",
}
_TOTALS: dict[tuple[str, str], TotalPlace] = {
    ("no", "total"): "none",
    ("total", "before"): "before",
    ("total", "after"): "after",
}


class _Option(Struct, frozen=True):
    """One piece of the flat list behind an axis field."""

    kind: Literal["by", "to", "word", "number", "members"]
    word: str
    value: Any
    span: Span


class RequestBuilder:
    """The part of the tree's builder that reads requests; mixed into the one for formulas."""

    def ordering(self, items: list[Any]) -> Ordering:
        direction = direction_of(items[-1]) if len(items) > 1 else "asc"
        return Ordering(items[0], direction == "desc", _span(items))

    def several_orderings(self, items: list[Any]) -> tuple[tuple[Ordering, ...], Span]:
        return tuple(item for item in items if isinstance(item, Ordering)), _span(items)

    def one_ordering(self, items: list[Any]) -> tuple[tuple[Ordering, ...], Span]:
        return (Ordering(items[1], direction_of(items[2]) == "desc", _span(items)),), _span(items)

    def label(self, items: list[Any]) -> tuple[str, str, Span]:
        return "label", items[0].parts[0], _span(items)

    def member(self, items: list[Any]) -> tuple[Constant | str, Span]:
        span = _span(items)
        if len(items) == 2 and items[0].type == "MINUS":
            positive = number_literal(items[1].value, span)
            return replace(positive, value=-positive.value), span  # type: ignore[operator]
        if len(items) == 2:
            if (items[0].value.lower(), items[1].value.lower()) != ("no", "match"):
                raise piece_error("Expected a member: a constant, null or no match.", span)
            return NO_MATCH, span
        return items[0], span

    def option_by(self, items: list[Any]) -> _Option:
        return _Option("by", "by", orderings(items[1]), _span(items))

    def option_to(self, items: list[Any]) -> _Option:
        return _Option("to", "to", items[1], _span(items))

    def option_word(self, items: list[Any]) -> _Option:
        return _Option("word", items[0].value.lower(), None, _span(items))

    def option_number(self, items: list[Any]) -> _Option:
        edge = expect(items[0], EDGES)
        return _Option("number", edge, count(items[1]), _span(items))

    def option_members(self, items: list[Any]) -> _Option:
        expect(items[0], ("open",))
        members = tuple(item[0] for item in items if isinstance(item, tuple))
        return _Option("members", "open", members, _span(items))

    def axis_item(self, items: list[Any]) -> AxisItem:
        options = [item for item in items if isinstance(item, _Option)]
        rest = [item for item in items if not isinstance(item, _Option)]
        label = rest.pop(0)[1] if isinstance(rest[0], tuple) and rest[0][0] == "label" else ""
        over = rest[1][1] if len(rest) > 1 else None
        item = AxisItem(
            label=label,
            formula=rest[0],
            over=over,
            upto=None,
            by=(),
            best=None,
            others=False,
            total=None,
            closed=False,
            opened=None,
            closing=None,
            span=_span(items),
        )
        return _Options(options).read(item)

    def axis(self, items: list[Any]) -> tuple[AxisItem, ...]:
        return tuple(item for item in items if isinstance(item, AxisItem))

    def value(self, items: list[Any]) -> ValueItem:
        span = _span(items)
        label = items.pop(0)[1] if isinstance(items[0], tuple) else ""
        words: dict[str, Any] = {}
        for option in items[1:]:
            if option.word in words:
                raise piece_error(f"{option.word} appears here twice.", option.span)
            words[option.word] = option.value
        try:
            return ValueItem(label, items[0], format_of_words(words), span)
        except ModelError as error:
            at = next(option.span for option in items[1:] if option.word == error.place[0])
            raise piece_error(error.reason, at, error.fix) from None

    def value_option(self, items: list[Any]) -> _Option:
        word = expect(items[0], FORMAT_WORDS)
        text = items[1].value
        value: Any = text[1:-1].replace("''", "'") if items[1].type == "STRING" else text
        if items[1].type == "NUMBER" and text.isdigit():
            value = int(text)
        return _Option("word", word, value, _span(items))

    def values(self, items: list[Any]) -> ValueList:
        axes: tuple[Literal["rows", "columns"], ...] = ("rows", "columns")
        on = expect(items[-1], axes) if isinstance(items[-1], Token) else None
        return ValueList(tuple(item for item in items if isinstance(item, ValueItem)), on, _span(items))

    def keep(self, items: list[Any]) -> KeepItem:
        span = _span(items)
        rest = items[1:] if isinstance(items[0], Token) and items[0].type == "KEEP" else items
        if isinstance(rest[0], Name):
            return KeepWhereClause(rest[0], rest[2], span)
        if len(rest) > 5:
            raise piece_error(
                f"{rest[5].value} cannot be used here: top keeps the largest, bottom the smallest.",
                _span([rest[5]]),
                "In brackets, only the further parts, which break ties, take a direction: by (F, G desc).",
            )
        return build_best(rest, span)

    def keeps(self, items: list[Any]) -> tuple[KeepItem, ...]:
        return tuple(item for item in items if not isinstance(item, Token))


class _Options:
    """Reads the flat list of an axis field's options, in their order, each once."""

    def __init__(self, options: Sequence[_Option]) -> None:
        self.left = list(options)
        self.done = -1

    def read(self, item: AxisItem) -> AxisItem:
        while self.left:
            option = self.left.pop(0)
            match option.kind:
                case "to":
                    self._now("to", option)
                    item = replace(item, upto=option.value)
                case "by":
                    self._now("by", option)
                    item = replace(item, by=self._directed(option))
                case "number":
                    self._now("best", option)
                    item = replace(item, best=self._best(option))
                case "members":
                    self._now("closing", option)
                    item = replace(item, opened=option.value, closing=option.span)
                case "word":
                    item = self._word(item, option)
        return item

    def _now(self, stage: str, option: _Option) -> None:
        at = _ORDER.index(stage)
        if at == self.done:
            raise piece_error(f"{option.word} appears here twice.", option.span)
        if at < self.done:
            raise piece_error(
                f"{option.word} comes too late.",
                option.span,
                f"Options go in this order: {'; '.join(_SHOWN[each] for each in _ORDER)}.",
            )
        self.done = at

    def _directed(self, option: _Option) -> tuple[Ordering, ...]:
        """What a ``by`` orders by; ``desc`` after a formula without brackets is its direction."""
        found: tuple[Ordering, ...] = option.value
        if self.left and self.left[0].kind == "word" and self.left[0].word in ("asc", "desc"):
            word = self.left.pop(0)
            if not (len(found) == 1 and found[0].span == found[0].formula.span):
                raise piece_error("In brackets, each part takes its own direction.", word.span, "Write by (F desc, G).")
            found = (Ordering(found[0].formula, word.word == "desc", found[0].span.to(word.span)),)
        return found

    def _best(self, option: _Option) -> Best:
        by: tuple[Ordering, ...] = ()
        edge: Literal["top", "bottom"] = "top" if option.word == "top" else "bottom"
        if self.left and self.left[0].kind == "by":
            ranked = self.left.pop(0)
            by = ranked.value
            if by[0].descending or (self.left and self.left[0].word in ("asc", "desc")):
                raise piece_error(
                    "A direction cannot be used here: top takes the largest, bottom the smallest.",
                    ranked.span if by[0].descending else self.left[0].span,
                    "Further parts in brackets take a direction: top 5 by (F, G desc).",
                )
        return Best(edge, option.value, by, option.span)

    def _word(self, item: AxisItem, option: _Option) -> AxisItem:
        if option.word == "closed":
            self._now("closing", option)
            return replace(item, closed=True, closing=option.span)
        if not self.left or self.left[0].kind != "word":
            fix = suggestion(option.word, _WORDS, noun="option")
            if option.word == "desc":
                fix = "A direction follows what the members are ordered by: by F desc."
            raise piece_error(f"{option.word!r} is not an axis option.", option.span, fix)
        second = self.left.pop(0)
        pair, span = (option.word, second.word), option.span.to(second.span)
        if pair == ("with", "others"):
            self._now("others", option)
            if item.best is None:
                raise piece_error(
                    "others are the members that top or bottom leaves out.", span, "Write top 5 with others."
                )
            return replace(item, others=True)
        if pair in _TOTALS:
            self._now("total", option)
            return replace(item, total=_TOTALS[pair])
        raise piece_error(
            f"'{option.word} {second.word}' is not an axis option.",
            span,
            suggestion(" ".join(pair), _WORDS, noun="option"),
        )


_WORDS = ("closed", "open", "top", "bottom", "with others", "no total", "total before", "total after", "desc")


def _span(items: list[Any]) -> Span:
    return span_of(items[0]).to(span_of(items[-1]))


def span_of(item: Any) -> Span:
    """Where a piece of the parser's is in the text."""
    if isinstance(item, Token):
        return Span(item.start_pos or 0, item.end_pos or 0)
    span: Span = item[-1] if isinstance(item, tuple) else item.span
    return span
