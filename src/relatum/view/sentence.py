"""A request as a sentence: its words apart, so that each can be changed, and as lines of text that can be typed."""

from __future__ import annotations

import re
from typing import Any, Literal

import msgspec
from msgspec import Struct

from relatum.errors import FormulaError, RequestError, Span
from relatum.language.parse import parse_axis, parse_condition, parse_keeps, parse_values
from relatum.language.tree import (
    AxisItem,
    Name,
    Operation,
    Ordering,
    Over,
    Syntax,
    TotalPlace,
    ValueItem,
    conjuncts,
)
from relatum.language.tree import Literal as Constant
from relatum.model.looks import said_of
from relatum.model.names import column_name, literal
from relatum.pivot.request import Request, ask
from relatum.pivot.turning import saved_as
from relatum.view.protocol import Parts
from relatum.wording import suggestion

#: What begins a line of a request, in the order in which they are written.
SECTIONS = ("values", "rows", "columns", "where", "keep", "totals", "show_empty")
#: The members of a column without a value of their own, as a choice names them.
NULL, NO_MATCH = "null", "no match"


class OrderWords(Struct, frozen=True):
    """One thing that members are ordered by."""

    formula: str
    descending: bool


class BestWords(Struct, frozen=True):
    """Which members are shown: how many, from which end, by what."""

    edge: Literal["top", "bottom"]
    number: int
    by: list[OrderWords]


class FieldWords(Struct, frozen=True):
    """A field of an axis, its options apart. ``closing`` is ``closed`` or ``open (…)``."""

    text: str
    label: str
    field: str
    upto: str
    by: list[OrderWords]
    best: BestWords | None
    others: bool
    total: TotalPlace | None
    closing: str


class ValueWords(Struct, frozen=True):
    """A value: its label, formula and the words that say how it is shown."""

    text: str
    label: str
    formula: str
    options: dict[str, str | int]


class Choice(Struct, frozen=True):
    """Members of one column: whether the rest of them stay, and those that do otherwise.

    Members are written as formulas write them; ``null`` and ``no match`` stand for those without a value.
    """

    rest: bool
    members: list[str]


class FilterWords(Struct, frozen=True):
    """A part of the condition; ``column`` and ``choice`` where it chooses members of one column.

    ``loose`` says that it must be bracketed before something else is added.
    """

    text: str
    loose: bool
    column: str
    choice: Choice | None


class Words(Struct, frozen=True):
    """A request's words."""

    values: list[ValueWords]
    rows: list[FieldWords]
    columns: list[FieldWords]
    where: list[FilterWords]
    keep: list[str]


def parts_of(request: Request) -> Parts:
    """A request as texts."""
    saved = saved_as("", request)
    return Parts(
        rows=list(saved.rows),
        columns=list(saved.columns),
        values=list(saved.values),
        where=saved.where,
        keep=saved.keep,
        totals=saved.totals,
        show_empty=saved.show_empty,
        values_on=request.values_on,
        style=[msgspec.to_builtins(rule) for rule in saved.style],
    )


def request_of(parts: Parts) -> Request:
    """The request that texts say.

    Raises
    ------
    FormulaError, RequestError
        A text cannot be read.
    """
    return ask(
        parts.rows,
        parts.columns,
        parts.values,
        parts.where,
        parts.keep,
        parts.totals,
        parts.show_empty,
        parts.values_on,
        style=parts.style,
    )


def words_of(parts: Parts) -> Words:
    """The words of a request.

    Raises
    ------
    FormulaError
        A text cannot be read.
    """
    return Words(
        values=[_value(text, item) for text in parts.values for item in parse_values(text).items],
        rows=[_field(text, item) for text in parts.rows for item in parse_axis(text)],
        columns=[_field(text, item) for text in parts.columns for item in parse_axis(text)],
        where=_filters(parts.where),
        keep=[_cut(parts.keep, item.span) for item in parse_keeps(parts.keep)] if parts.keep.strip() else [],
    )


def _cut(text: str, span: Span) -> str:
    return text[span.start : span.stop]


def _value(text: str, item: ValueItem) -> ValueWords:
    return ValueWords(_cut(text, item.span), item.label, _cut(text, item.formula.span), said_of(item.format))


def _field(text: str, item: AxisItem) -> FieldWords:
    stop = item.formula.span if item.over is None else item.over.span
    best = item.best
    return FieldWords(
        text=_cut(text, item.span),
        label=item.label,
        field=_cut(text, item.formula.span.to(stop)),
        upto="" if item.upto is None else _cut(text, item.upto.span),
        by=_orders(text, item.by),
        best=None if best is None else BestWords(best.edge, best.number, _orders(text, best.by)),
        others=item.others,
        total=item.total,
        closing="" if item.closing is None else _cut(text, item.closing),
    )


def _orders(text: str, by: tuple[Ordering, ...]) -> list[OrderWords]:
    return [OrderWords(_cut(text, each.formula.span), each.descending) for each in by]


# -- filters ----------------------------------------------------------------------------------------------------------


class _Chosen(Struct, frozen=True):
    """A choice while it is read: the column that it is of, whether the rest stay, and which do otherwise."""

    column: str
    rest: bool
    members: frozenset[str]

    def either(self, other: _Chosen) -> _Chosen | None:
        """The members of this choice and of another."""
        if self.column != other.column:
            return None
        match self.rest, other.rest:
            case True, True:
                members = self.members & other.members
            case True, False:
                members = self.members - other.members
            case False, True:
                members = other.members - self.members
            case _:
                members = self.members | other.members
        return _Chosen(self.column, self.rest or other.rest, members)

    def both(self, other: _Chosen) -> _Chosen | None:
        """The members that are in this choice and in another."""
        found = self.turned().either(other.turned())
        return None if found is None else found.turned()

    def turned(self) -> _Chosen:
        """The members that it leaves out."""
        return _Chosen(self.column, not self.rest, self.members)


def _filters(where: str) -> list[FilterWords]:
    if not where.strip():
        return []
    found: list[tuple[str, bool, _Chosen | None]] = []
    for part in conjuncts(parse_condition(where).formula):
        text = _cut(where, part.span)
        chosen = _chosen(part)
        before = found[-1][2] if found else None
        if before is not None and chosen is not None and (both := before.both(chosen)) is not None:
            # Null alone is what is null and not no match: one choice in two parts.
            found[-1] = f"{found[-1][0]} and {text}", False, both
            continue
        loose = isinstance(part, Operation) and part.operator == "or" and not text.startswith("(")
        found.append((text, loose, chosen))
    return [
        FilterWords(text, loose, "", None)
        if chosen is None
        else FilterWords(text, loose, chosen.column, Choice(chosen.rest, sorted(chosen.members)))
        for text, loose, chosen in found
    ]


_WITHOUT = frozenset((NULL, NO_MATCH))


def _chosen(node: Syntax | Over) -> _Chosen | None:
    """The choice of members that a condition is, if it is one."""
    match node:
        case Operation("=" | "in", (Name((table, column)), *constants)):
            members = [_member(each) for each in constants]
            if None in members:
                return None
            return _Chosen(column_name(table, column), False, frozenset(filter(None, members)))
        case Operation("<>" | "!=", operands):
            same = _chosen(Operation("=", operands, node.span))
            return None if same is None else _Chosen(same.column, True, same.members | _WITHOUT)
        case Operation("not", (Operation("in", _) as inner,)):
            same = _chosen(inner)
            return None if same is None else _Chosen(same.column, True, same.members | _WITHOUT)
        case Operation("is_null", (Name((table, column)),)):
            return _Chosen(column_name(table, column), False, _WITHOUT)
        case Operation("is_no_match", (Name((table, column)),)):
            return _Chosen(column_name(table, column), False, frozenset((NO_MATCH,)))
        case Operation("not", (Operation("is_null" | "is_no_match", _) as inner,)):
            same = _chosen(inner)
            return None if same is None else same.turned()
        case Operation("or", (one, other)):
            left, right = _chosen(one), _chosen(other)
            return None if left is None or right is None else left.either(right)
        case Operation("and", (one, other)) if all(each.span != node.span for each in node.operands):
            left, right = _chosen(one), _chosen(other)
            return None if left is None or right is None else left.both(right)
        case _:
            return None


def _member(node: Syntax) -> str | None:
    match node:
        case Constant(value) if value is not None:
            return literal(value)
        case Operation("negate", (Constant(value),)):
            return f"-{literal(value)}"
        case _:
            return None


def condition_of(column: str, choice: Choice, there: frozenset[str]) -> str:
    """The condition that a choice of a column's members is; empty where it leaves nothing out.

    Parameters
    ----------
    column : str
        ``table.column``.
    choice : Choice
        What is chosen.
    there : frozenset of str
        Which of ``null`` and ``no match`` the column has; the others need no mention.
    """
    members = [each for each in choice.members if each not in _WITHOUT]
    wanted = {each for each in there if choice.rest != (each in choice.members)}
    if choice.rest and not members and wanted == there:
        return ""
    if choice.rest and not members and wanted == {NULL}:
        return f"not ({column} is no match)"
    own = ""
    if members:
        one, several = ("<>", "not in") if choice.rest else ("=", "in")
        own = f"{column} {one} {members[0]}" if len(members) == 1 else f"{column} {several} ({', '.join(members)})"
    elif choice.rest:
        own = f"{column} is not null"
    empty = ""
    if wanted == {NO_MATCH}:
        empty = f"{column} is no match"
    elif wanted:
        empty = f"{column} is null"
        empty += f" and not ({column} is no match)" if NO_MATCH in there - wanted else ""
    if own and empty:
        return f"({own} or {empty})"
    # Nobody is both: what leaves out every member.
    return own or empty or f"{column} is null and {column} is not null"


def with_choice(where: str, column: str, choice: Choice, there: frozenset[str], *, also: bool) -> str:
    """A condition with a choice of a column's members, beside the choice that it has of that column or instead of it.

    Parameters
    ----------
    where : str
        The condition.
    column : str
        ``table.column``, or a formula.
    choice : Choice
        What is chosen.
    there : frozenset of str
        Which of ``null`` and ``no match`` the column has.
    also : bool
        Whether members must be in the former choice too.
    """
    texts, left = [], _Chosen(column, choice.rest, frozenset(choice.members))
    for each in _filters(where):
        if each.choice is None or each.column != column:
            texts.append(f"({each.text})" if each.loose else each.text)
        elif also:
            both = left.both(_Chosen(column, each.choice.rest, frozenset(each.choice.members)))
            assert both is not None, "the column is the same"
            left = both
    texts.append(condition_of(column, Choice(left.rest, sorted(left.members)), there))
    wanted = [text for text in texts if text]
    return " and ".join(wanted)


# -- as lines ---------------------------------------------------------------------------------------------------------


def text_of(parts: Parts) -> str:
    """A request as lines, each with the word of its part first."""
    values = ", ".join(parts.values) + (" on rows" if parts.values_on == "rows" and parts.values else "")
    lines = [("values", values), ("rows", ", ".join(parts.rows)), ("columns", ", ".join(parts.columns))]
    lines += [("where", parts.where), ("keep", parts.keep)]
    lines += [("totals", "" if parts.totals else "no"), ("show_empty", "yes" if parts.show_empty else "")]
    return "\n".join(f"{word:<8} {text}" for word, text in lines if text)


_LINE = re.compile(r"[ \t]*([a-z_]+)(?:[ \t]+|[ \t]*$)")


def read_text(text: str, style: list[dict[str, Any]]) -> Parts:
    """The request that lines of text say.

    Parameters
    ----------
    text : str
        Lines, each with the word of its part first; a line that begins with none goes on with the part before.
    style : list of dict
        The request's style rules, which lines do not hold.

    Raises
    ------
    FormulaError, RequestError
        A part cannot be read, or is there twice.
    """
    found: dict[str, str] = {}
    word = ""
    for line in text.splitlines():
        begins = _LINE.match(line)
        if begins is not None and begins[1] in SECTIONS:
            word = begins[1]
            if word in found:
                raise RequestError(f"There are two lines for {word}.", fix="Write them as one, with a comma between.")
            found[word] = line[begins.end() :].strip()
        elif line.strip() and not word:
            first = line.split()[0]
            raise RequestError(
                f"A line begins with {first!r}, which is not a part of a request.",
                fix=suggestion(first, SECTIONS, noun="part"),
            )
        elif line.strip():
            found[word] = f"{found[word]}\n{line.strip()}"
    values = found.get("values", "")
    on = parse_values(values).on if values else None
    request = ask(
        found.get("rows", ""),
        found.get("columns", ""),
        values,
        found.get("where", ""),
        found.get("keep", ""),
        _yes_or_no(found, "totals", True),
        _yes_or_no(found, "show_empty", False),
        on or "columns",
        style=style,
    )
    return parts_of(request)


def _yes_or_no(found: dict[str, str], word: Literal["totals", "show_empty"], usual: bool) -> bool:
    match found.get(word, ""):
        case "":
            return usual
        case "yes":
            return True
        case "no":
            return False
        case text:
            raise RequestError(f"{word} is {text!r}; it can be yes or no.")


def place_in(text: str, error: FormulaError) -> Span | None:
    """Where in a text the formula of an error is, and in it the stretch at fault."""
    start = text.find(error.text)
    if start < 0 or not error.text:
        return None
    return Span(start + error.span.start, start + error.span.stop)
