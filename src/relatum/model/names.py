"""Names of tables, columns and measures, and how they are written in formulas."""

from __future__ import annotations

import re
from datetime import date, datetime
from decimal import Decimal

#: A table, and a column of it.
ColumnKey = tuple[str, str]
PLAIN = re.compile(r"[^\W\d]\w*\Z")

#: Words with a meaning of their own in formulas; a column with such a name is written in double quotes.
KEYWORDS = frozenset(
    (
        "and or not in between like is null true false case when then else end distinct of by weighted over "
        "let per among where pin ignoring only via both keep back forward trailing whole before to on"
    ).split()
)


#: Shown for a line end within a name, so that formulas, links and messages that contain the name stay on one line.
LINE_END = "\u240a"


def quoted(name: str) -> str:
    """A name as a formula spells it: as it is, or in double quotes where it has spaces, capitals or a keyword.

    Examples
    --------
    >>> quoted("plant"), quoted("Net\\nweight")
    ('plant', '"Net␊weight"')
    """
    if PLAIN.match(name) and name == name.lower() and name not in KEYWORDS:
        return name
    return '"' + name.replace('"', '""').replace("\n", LINE_END) + '"'


def unquoted(text: str) -> str:
    """The name that is between double quotes."""
    return text.replace('""', '"').replace(LINE_END, "\n")


def column_name(table: str, column: str) -> str:
    """``table.column``, each part quoted where it must be."""
    return f"{quoted(table)}.{quoted(column)}"


def cannot_be_used(table: str, column: str, why: str) -> str:
    """The sentence for a column that exists but is not read."""
    return f"{column_name(table, column)} cannot be used, since {why}."


def literal(value: object) -> str:
    """A value as a formula writes it: ``2.5``, ``'North'``, ``date '2024-05-31'``.

    Examples
    --------
    >>> literal("it's")
    "'it''s'"
    """
    match value:
        case None:
            return "null"
        case bool():
            return "true" if value else "false"
        case str():
            return "'" + value.replace("'", "''") + "'"
        case datetime():
            return f"timestamp '{value.isoformat(sep=' ')}'"
        case date():
            return f"date '{value.isoformat()}'"
        case int() | float() | Decimal():
            return str(value)
        case _:
            raise TypeError(f"no literal is a {type(value).__name__}")


_PART = re.compile(r'\s*(?:"((?:[^"]|"")+)"|([^\s".,()<>:=-][^\s".,()<>:=]*?))\s*(?=\.|\Z)')


def split_name(text: str) -> tuple[str, ...]:
    """The parts of a dotted name without double quotes; an empty tuple if the text is not such a name."""
    parts: list[str] = []
    at = 0
    while True:
        match = _PART.match(text, at)
        if match is None:
            return ()
        parts.append(unquoted(match[1]) if match[1] is not None else match[2])
        at = match.end()
        if at == len(text):
            return tuple(parts)
        at += 1


def split_list(text: str) -> list[str]:
    """A text's parts between commas that stand outside quotes and brackets, stripped of blanks."""
    parts, depth, start, quote = [], 0, 0, ""
    for at, character in enumerate(text):
        if quote:
            quote = "" if character == quote else quote
        elif character in "'\"":
            quote = character
        elif character in "([":
            depth += 1
        elif character in ")]":
            depth -= 1
        elif character == "," and depth == 0:
            parts.append(text[start:at])
            start = at + 1
    parts.append(text[start:])
    return [part.strip() for part in parts if part.strip()]
