"""What people write out of habit, and the same as it is written here: made of the words of the text itself."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from msgspec import Struct

from relatum.errors import Span
from relatum.model.names import quoted

_NAME = r'(?:"[^"]+"|[^\W\d]\w*)'
_COLUMN = rf"{_NAME}(?:\s*\.\s*{_NAME})?"


class Habit(Struct, frozen=True):
    """One way of writing that is not ours: its pattern as it is written, what to write here instead, and why.

    ``starts`` are the kinds of text in which it is looked for.
    """

    written: str
    instead: str | Callable[[re.Match[str]], str]
    reason: str = ""
    starts: tuple[str, ...] = ("formula", "values", "condition", "axis", "keeps")

    @property
    def pattern(self) -> re.Pattern[str]:
        """The pattern, compiled when a text cannot be read: most texts can."""
        return re.compile(self.written, re.IGNORECASE)


def _habit(written: str, instead: str | Callable[[re.Match[str]], str], reason: str = "", *starts: str) -> Habit:
    return Habit(written, instead, reason, starts) if starts else Habit(written, instead, reason)


def _period(match: re.Match[str]) -> str:
    """A unit in the words of the language, with ``fiscal`` before it where it is one."""
    fiscal = bool(match["fiscal"])
    unit = {"y": "year", "q": "quarter", "m": "month", "w": "week", "d": "day"}[match["unit"][0].lower()]
    return f"fiscal_{unit}" if fiscal else unit


def _to_date(match: re.Match[str]) -> str:
    return f"[{_period(match)} to date]"


def _moved(match: re.Match[str]) -> str:
    word = "forward" if match["way"].lower() in ("next", "following") else "back"
    return f"[{word} 1 {_period(match)}]"


def _trailing(match: re.Match[str]) -> str:
    return f"[trailing {_number_of(match)}]"


def _number_of(match: re.Match[str]) -> str:
    return f"{match['number']} {_period(match)}{'' if match['number'] == '1' else 's'}"


def _growth(match: re.Match[str]) -> str:
    return f"growth({match['of']} over 1 {_period(match)})"


def _labelled(match: re.Match[str]) -> str:
    label = (match["quoted"] or match["words"]).strip().replace("''", "'").replace('"', '""')
    return f'{match["before"]}"{label}":'


def _where_inside(match: re.Match[str]) -> str:
    return f"{match['call']})[where {match['condition'].strip()}]"


def _edge(match: re.Match[str]) -> str:
    return f"{'bottom' if match['edge'].lower() in ('bottom', 'last') else 'top'} {match['number']}"


def _directed_best(match: re.Match[str]) -> str:
    """Top and bottom say which end is meant, so that a direction after them says it a second time, or otherwise."""
    top, down = match["edge"].lower() == "top", match["direction"].lower() == "desc"
    return f"{'top' if top == down else 'bottom'} {match['rest']}"


_WITHIN = r"\[\s*"
_FISCAL = r"(?P<fiscal>f|fiscal[\s_-]*|financial[\s_-]*)?"
_ANY_UNIT = r"(?P<unit>year|quarter|month|week|day)"

#: Longer texts are not typing slips, and patterns take long on them.
_LONGEST = 1000

#: In the order in which they are tried; the first whose text can be read is proposed.
HABITS = (
    _habit(
        r"(?P<before>(?:^|,)\s*)(?:'(?P<quoted>(?:[^']|'')+)'|(?P<words>[^\W\d]\w*(?:[ \t-]+\w+)*))\s*:",
        _labelled,
        "A label of several words needs double quotes.",
        "values",
        "axis",
    ),
    _habit(rf"{_WITHIN}{_FISCAL}(?P<unit>[yqmwd])td\s*\]", _to_date),
    _habit(rf"{_WITHIN}{_FISCAL}{_ANY_UNIT}[\s_-]+to[\s_-]+date\s*\]", _to_date),
    _habit(rf"{_WITHIN}(?P<way>last|previous|prior|next|following)[\s_-]+{_FISCAL}{_ANY_UNIT}\s*\]", _moved),
    _habit(rf"(?P<of>{_NAME}){_WITHIN}{_FISCAL}(?P<unit>[yqmw])o(?P=unit)\s*\]", _growth),
    _habit(
        rf"{_WITHIN}(?:last|past|previous|rolling|trailing)[\s_-]+(?P<number>\d+)[\s_-]+{_FISCAL}{_ANY_UNIT}s?\s*\]",
        _trailing,
    ),
    _habit(
        rf"{_WITHIN}(?P<number>\d+)[\s_-]+{_FISCAL}{_ANY_UNIT}s?\s+ago\s*\]",
        lambda m: f"[back {_number_of(m)}]",
    ),
    _habit(rf"{_WITHIN}all(?:\s*\(?\s*(?P<name>{_COLUMN})\s*\)?)?\s*\]", lambda m: f"[ignoring {m['name'] or 'all'}]"),
    _habit(
        rf"\[\s*(?P<what>(?:not\s+)?{_COLUMN}\s*(?:[=<>!]|(?:not\s+)?(?:in|like|between|is)\b))",
        lambda m: f"[where {m['what']}",
        "A condition comes after where.",
    ),
    _habit(
        rf"(?P<call>{_NAME}\s*\((?:[^()\[\]]|\([^()]*\))*?)\s+where\s+(?P<condition>(?:[^()\[\]]|\([^()]*\))+)\)",
        _where_inside,
        "A condition goes in square brackets after the formula it applies to.",
    ),
    _habit(
        r"(?P<what>[\w\])\"])\s+where\s+(?P<condition>[^\[\],]+)$",
        lambda m: f"{m['what']}[where {m['condition'].strip()}]",
        "A condition goes in square brackets after the formula it applies to.",
        "formula",
        "values",
    ),
    _habit(r"\[(?P<name>[^\W\d]\w*)\]", lambda m: quoted(m["name"]), "A name is written without brackets."),
    _habit(r"`(?P<name>[^`\"]+)`", lambda m: quoted(m["name"]), "A name with spaces needs double quotes."),
    _habit(r"\b(?:order|sort|sorted|ordered)\s+by\b", "by", "", "axis"),
    _habit(
        r"\b(?P<edge>top|bottom|first|last|limit)\s*\(?\s*(?P<number>\d+)\)?\s+(?!by\b|with\b|no\b|total\b|closed\b|open\b)"
        rf"(?P<by>{_COLUMN})",
        lambda m: f"{_edge(m)} by {m['by']}",
        "",
        "axis",
    ),
    _habit(
        r"\b(?P<edge>top|bottom)\s+(?P<number>\d+)\s+(?:top|bottom)\s+\d+",
        lambda m: f"{m['edge']} {m['number']}",
        "A field can keep its top or its bottom members, not both.",
        "axis",
    ),
    _habit(r"\b(?P<edge>limit|first|last)\s+(?P<number>\d+)", _edge, "", "axis"),
    _habit(
        r"\b(?P<edge>top|bottom)\s+(?P<rest>\d+\s+[^,()]*?by\s+[^,()]+?)\s+(?P<direction>asc|desc)\b",
        _directed_best,
    ),
    _habit(r"(?P<before>\S)\s+with\s+others\b", lambda m: f"{m['before']} top 5 with others", "", "axis"),
    _habit(rf"(?P<of>(?:^|,)\s*{_COLUMN})\s+desc\b", lambda m: f"{m['of']} by {m['of'].lstrip(', ')} desc", "", "axis"),
    _habit(r"\bby\s+(?P<by>[^,]+?)\s+descending\b", lambda m: f"by {m['by']} desc", "", "axis"),
    _habit(rf"(?<=[\w\"])\s+(?P<by>{_COLUMN})\s+desc\b", lambda m: f" by {m['by']} desc", "", "axis"),
)


def meant(text: str, start: str, span: Span, readable: Callable[[str], bool]) -> str:
    """What to write for a text that cannot be read, where a habit explains it; else empty.

    Parameters
    ----------
    text : str
        The text.
    start : str
        What it should have been: ``formula``, ``values``, ``condition``, ``axis`` or ``keeps``.
    span : Span
        Where it cannot be read on.
    readable : callable
        Whether a text can be read; only such texts are proposed.
    """
    for habit, new in _rewritten(text, start, span):
        if readable(new):
            return f"{habit.reason} Write {new}.".strip()
    return ""


def _rewritten(text: str, start: str, span: Span) -> Iterator[tuple[Habit, str]]:
    habits = [habit for habit in HABITS if start in habit.starts and len(text) <= _LONGEST]
    for habit in habits:
        match = next(
            (each for each in habit.pattern.finditer(text) if each.start() <= span.stop and span.start <= each.end()),
            None,
        )
        if match is None:
            continue
        new = match.expand(habit.instead) if isinstance(habit.instead, str) else habit.instead(match)
        yield habit, text[: match.start()] + new + text[match.end() :]
        # A person with one habit has others, and has them more than once in a text.
        every = text
        for other in habits:
            every = other.pattern.sub(other.instead, every)
        yield habit, every
