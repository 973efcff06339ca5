"""A TOML text as statements that know their place: edits change only their place; the rest keeps every byte."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal

from msgspec import Struct, field

_BARE = re.compile(r"[A-Za-z0-9_-]+")
_BLANKS = re.compile(r"[ \t]*")
_REST_OF_LINE = re.compile(r"[ \t]*(?:#[^\r\n]*)?")
_SCALAR = re.compile(r"[^,\]}\n#]*[^,\]}\n#\s]")
_BASIC = re.compile(r'"(?:[^"\\]|\\.)*"')
_LITERAL = re.compile(r"'[^']*'")
_LONG_BASIC = re.compile(r'"""(?:[^\\]|\\.)*?"{3,5}(?!")', re.DOTALL)
_LONG_LITERAL = re.compile(r"'''.*?'{3,5}(?!')", re.DOTALL)
_ESCAPE = re.compile(r"\\(?:u([0-9A-Fa-f]{4})|U([0-9A-Fa-f]{8})|(.))")
_ESCAPED = {"b": "\b", "t": "\t", "n": "\n", "f": "\f", "r": "\r", "e": "\x1b", '"': '"', "\\": "\\"}


class Key(Struct, frozen=True):
    """One part of a key, where it is."""

    name: str
    start: int
    stop: int


class Value(Struct, frozen=True):
    """A value, where it is; ``items`` are what an array or an inline table holds."""

    start: int
    stop: int
    kind: Literal["scalar", "array", "inline"] = "scalar"
    items: tuple[Item, ...] = ()


class Item(Struct, frozen=True):
    """One value of an array, or one key of an inline table with its value.

    Its stretch, from ``start`` to ``stop``, begins after the comma before it and ends with its own comma and what
    is behind that on the line; ``comma`` is the place of its comma, None where the last one has none.
    """

    keys: tuple[Key, ...]
    value: Value
    start: int
    stop: int
    comma: int | None


class Statement(Struct, frozen=True):
    """One or several whole lines: nothing, a comment, a heading, or a key with its value."""

    kind: Literal["blank", "comment", "heading", "pair"]
    start: int
    stop: int
    keys: tuple[Key, ...] = ()
    array: bool = False
    value: Value = field(default=Value(0, 0))


def statements(text: str) -> list[Statement]:
    """The statements of a text that the standard TOML reader accepts; together they are the whole of it."""
    return list(_Scanner(text).statements())


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text = text

    def statements(self) -> Iterator[Statement]:
        at = 0
        while at < len(self.text):
            start = at
            at = self._skip(_BLANKS, at)
            sign = self.text[at : at + 1]
            if sign in ("", "\n", "\r"):
                at = self._line_end(at)
                yield Statement("blank", start, at)
            elif sign == "#":
                at = self._line_end(at)
                yield Statement("comment", start, at)
            elif sign == "[":
                array = self.text.startswith("[[", at)
                keys, at = self._keys(at + 1 + array)
                at = self._line_end(at)
                yield Statement("heading", start, at, keys, array)
            else:
                keys, at = self._keys(at)
                value = self._value(self._skip(_BLANKS, at + 1))
                at = self._line_end(value.stop)
                yield Statement("pair", start, at, keys, False, value)

    def _skip(self, pattern: re.Pattern[str], at: int) -> int:
        match = pattern.match(self.text, at)
        return at if match is None else match.end()

    def _line_end(self, at: int) -> int:
        end = self.text.find("\n", at)
        return len(self.text) if end < 0 else end + 1

    def _keys(self, at: int) -> tuple[tuple[Key, ...], int]:
        """The parts of a key, and where what follows it is."""
        found = []
        while True:
            start = self._skip(_BLANKS, at)
            match self.text[start]:
                case '"':
                    stop = self._skip(_BASIC, start)
                    name = _ESCAPE.sub(_unescaped, self.text[start + 1 : stop - 1])
                case "'":
                    stop = self._skip(_LITERAL, start)
                    name = self.text[start + 1 : stop - 1]
                case _:
                    stop = self._skip(_BARE, start)
                    name = self.text[start:stop]
            found.append(Key(name, start, stop))
            at = self._skip(_BLANKS, stop)
            if self.text[at] != ".":
                return tuple(found), at
            at += 1

    def _value(self, start: int) -> Value:
        for opening, pattern in (('"""', _LONG_BASIC), ("'''", _LONG_LITERAL), ('"', _BASIC), ("'", _LITERAL)):
            if self.text.startswith(opening, start):
                return Value(start, self._skip(pattern, start))
        match self.text[start]:
            case "[":
                return self._several(start, "array", "]")
            case "{":
                return self._several(start, "inline", "}")
            case _:
                return Value(start, self._skip(_SCALAR, start))

    def _several(self, start: int, kind: Literal["array", "inline"], closing: str) -> Value:
        items: list[Item] = []
        at = start + 1
        while True:
            begin = at
            at = self._skip_trivia(at)
            if self.text[at] == closing:
                return Value(start, at + 1, kind, tuple(items))
            keys: tuple[Key, ...] = ()
            if kind == "inline":
                keys, at = self._keys(at)
                at = self._skip(_BLANKS, at + 1)
            value = self._value(at)
            at = self._skip_trivia(value.stop)
            comma = at if self.text[at] == "," else None
            at = value.stop if comma is None else comma + 1
            rest = self._skip(_REST_OF_LINE, at)
            at = rest if self.text[rest : rest + 1] in ("\n", "\r") else at
            items.append(Item(keys, value, begin, at, comma))

    def _skip_trivia(self, at: int) -> int:
        while self.text[at] in " \t\r\n#":
            at = self.text.index("\n", at) if self.text[at] == "#" else at + 1
        return at


def _unescaped(match: re.Match[str]) -> str:
    short, long, sign = match.groups()
    return chr(int(short or long, 16)) if sign is None else _ESCAPED[sign]


#: Where a key is in a document: names, and the numbers of entries of arrays of tables.
KeyPath = tuple[str | int, ...]


def placed(text: str) -> Iterator[tuple[Statement, KeyPath]]:
    """The headings of a text and its keys with their values, each with its whole path."""
    here: KeyPath = ()
    counts: dict[KeyPath, int] = {}
    for statement in statements(text):
        names = [key.name for key in statement.keys]
        match statement.kind:
            case "heading":
                here = _heading_path(names, statement.array, counts)
                yield statement, here
            case "pair":
                yield statement, (*here, *names)
            case "blank" | "comment":
                pass


def _heading_path(names: list[str], array: bool, counts: dict[KeyPath, int]) -> KeyPath:
    # Inside an array of tables, later headings speak of its newest entry.
    path: KeyPath = ()
    for at, name in enumerate(names):
        path = (*path, name)
        if path in counts and not (array and at == len(names) - 1):
            path = (*path, counts[path] - 1)
    if array:
        counts[path] = counts.get(path, 0) + 1
        path = (*path, counts[path] - 1)
    return path
