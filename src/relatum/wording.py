"""Sentences for people: the nearest name, lists and counts, a formula with carets under the part in question."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal


def pointed(text: str, start: int, stop: int, width: int = 100) -> str:
    """The line of ``text`` that holds a stretch of it, with a caret under each of its characters."""
    start = min(start, len(text))
    line_start = text.rfind("\n", 0, start) + 1
    line_stop = text.find("\n", start)
    line_stop = len(text) if line_stop < 0 else line_stop
    line = text[line_start:line_stop]
    column = start - line_start
    length = max(1, min(stop, line_stop) - start)
    if len(line) > width:
        cut = max(0, min(column - width // 3, len(line) - width))
        line = ("…" if cut else "") + line[cut : cut + width] + ("…" if cut + width < len(line) else "")
        column = column - cut + (1 if cut else 0)
        length = min(length, max(1, len(line) - column))
    line = line.replace("\t", " ")
    return f"    {line}\n    {' ' * column}{'^' * length}"


def nearest(name: str, choices: Iterable[str]) -> str | None:
    """The choice most like ``name``, or None when none is close."""
    options = list(choices)
    for option in options:
        if option.lower() == name.lower():
            return option
    import difflib  # noqa: PLC0415 - for the one who has mistyped something

    close = difflib.get_close_matches(name, options, n=1, cutoff=0.6)
    return close[0] if close else None


def suggestion(name: str, choices: Iterable[str], *, noun: str = "name") -> str:
    """One sentence that helps after an unknown name: the nearest choice, or the choices when they are few."""
    options = sorted(set(choices))
    close = nearest(name, options)
    if close is not None:
        return f"Did you mean {close}?"
    if not options:
        return f"There is no {noun} yet."
    return f"Known: {listed(options)}."


def listed(items: Sequence[str], most: int = 12) -> str:
    """Items joined by commas, cut after ``most`` of them with a count of the rest."""
    shown = ", ".join(items[:most])
    return shown if len(items) <= most else f"{shown} and {len(items) - most} more"


def counted(number: int, noun: str, plural: str = "") -> str:
    """A number with its noun: ``1 row``, ``1,204 rows``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def agreeing(number: int, one: str, many: str) -> str:
    """The form of a verb or pronoun that agrees with a number: ``is`` after 1, ``are`` after any other."""
    return one if number == 1 else many


def ordinal(number: int) -> str:
    """A place in words: ``third``; beyond the tenth in digits: ``21st``.

    Examples
    --------
    >>> ordinal(3), ordinal(12), ordinal(21)
    ('third', '12th', '21st')
    """
    if number <= len(_ORDINALS):
        return _ORDINALS[number - 1]
    ending = "th" if number % 100 in (11, 12, 13) else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number:,}{ending}"


_ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth")


def percent(part: float, whole: float, digits: int = 1) -> str:
    """A share in percent, with as many digits as it takes not to read as all or none: ``99.998%``, ``100%``.

    It has ``digits`` at least; a single one that is 0 is left out.

    Examples
    --------
    >>> percent(1, 4), percent(336_770, 336_776), percent(5, 5), percent(0, 9)
    ('25%', '99.998%', '100%', '0%')
    """
    share = part / whole if whole else 0.0
    if share in (0, 1):
        return f"{share:.0%}"
    for more in range(digits, 9):
        text = f"{share:.{more}%}"
        if float(text[:-1]) not in (0.0, 100.0):
            return text[: -len(".0%")] + "%" if text.endswith(".0%") else text
    return "under 0.0000001%" if share < 0.5 else "over 99.9999999%"


def first_line(error: Exception) -> str:
    """What another library says went wrong, cut to one line."""
    try:
        said = str(error).strip()
    except Exception:  # it is not ours
        said = ""
    return said.splitlines()[0][:300] if said else type(error).__name__


#: Characters that a terminal would obey, and what is shown for each: one character, so that widths stay.
_MARKS = (
    {code: 0x2400 + code for code in range(32)}
    | {0x7F: 0x2421}
    | dict.fromkeys(
        [*range(0x80, 0xA0), 0x061C, 0x2028, 0x2029, *range(0x202A, 0x202F), *range(0x2066, 0x206A)], 0xFFFD
    )
    | dict.fromkeys([*range(0xD800, 0xE000), *range(0xE0000, 0xE0080)], 0xFFFD)
)
_MARKS_BUT_LINES = {code: mark for code, mark in _MARKS.items() if code not in (9, 10)}


def visible(text: str) -> str:
    """A text from data or a file, safe for a terminal: control characters become visible marks.

    Examples
    --------
    >>> visible("fern\\x1b[31m\\n")
    'fern␛[31m␊'
    """
    return text if text.isprintable() else text.translate(_MARKS)


def visible_lines(text: str) -> str:
    """Lines of text as a terminal may have them: as :func:`visible`, with the ends of lines and tabs left."""
    return text if text.isprintable() else text.translate(_MARKS_BUT_LINES)


def one_line(text: str) -> str:
    """A text for one line of a document: as :func:`visible`, with line breaks at its ends left.

    Examples
    --------
    >>> one_line("\\nplants: fern\\nrose")
    '\\nplants: fern␊rose'
    """
    inner = text.strip("\n")
    return text if text.isprintable() else text.replace(inner, visible(inner), 1) if inner else text


def sample_text(value: object) -> str:
    """A value as it is shown among examples: texts in quotes, so that blanks are seen, and on one line."""
    return f"'{visible(value)}'" if isinstance(value, str) else str(value)


def value_text(value: object) -> str:
    """A value of a formula as people read it: thousands apart, fractions to six digits; a dash for none."""
    if isinstance(value, bool) or not isinstance(value, int | float | Decimal):
        return "–" if value is None else str(value)
    if isinstance(value, int) or (isinstance(value, Decimal) and value == int(value) and "." not in str(value)):
        return f"{int(value):,}"
    text = f"{value:,.6f}".rstrip("0")
    return text + "00" if text.endswith(".") else text + "0" if text[-2:-1] == "." else text
