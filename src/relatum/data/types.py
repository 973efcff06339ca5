"""The types of values."""

from __future__ import annotations

import re
from collections.abc import Sequence
from enum import StrEnum

from msgspec import Struct

from relatum.errors import ModelError
from relatum.wording import suggestion

MAX_SCALE = 18


class Kind(StrEnum):
    """The kinds of values that a column or formula can have."""

    INTEGER = "integer"
    DECIMAL = "decimal"
    FLOAT = "float"
    TEXT = "text"
    BOOLEAN = "boolean"
    DATE = "date"
    TIMESTAMP = "timestamp"
    NULL = "null"


class Type(Struct, frozen=True):
    """A kind, and how many digits its whole numbers have inside beyond its unit.

    For decimals these are the digits after the point. A timestamp counts microseconds, and with three digits more
    nanoseconds.
    """

    kind: Kind
    scale: int = 0

    def __str__(self) -> str:
        if self.kind is Kind.DECIMAL:
            return f"decimal({self.scale})"
        return f"timestamp({6 + self.scale})" if self.scale else self.kind.value

    @property
    def exact(self) -> bool:
        """Whether values are whole numbers inside: integers, decimals, dates, timestamps."""
        return self.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.DATE, Kind.TIMESTAMP)

    @property
    def numeric(self) -> bool:
        """Whether values can be added."""
        return self.kind in (Kind.INTEGER, Kind.DECIMAL, Kind.FLOAT)


INTEGER = Type(Kind.INTEGER)
FLOAT = Type(Kind.FLOAT)
TEXT = Type(Kind.TEXT)
BOOLEAN = Type(Kind.BOOLEAN)
DATE = Type(Kind.DATE)
TIMESTAMP = Type(Kind.TIMESTAMP)
#: A timestamp with nine digits of a second: years 1678 to 2261.
NANOSECONDS = Type(Kind.TIMESTAMP, 3)
NULL = Type(Kind.NULL)

_NAMED = {str(kind): kind for kind in (INTEGER, FLOAT, TEXT, BOOLEAN, DATE, TIMESTAMP, NANOSECONDS)}
_DECIMAL = re.compile(r"decimal\((\d+)\)\Z")


def decimal(scale: int) -> Type:
    """The type of decimals with ``scale`` digits after the point."""
    return Type(Kind.DECIMAL, scale)


def parse_type(text: str) -> Type:
    """The type that a word such as ``text`` or ``decimal(2)`` names; a ModelError for any other word."""
    if text in _NAMED:
        return _NAMED[text]
    match = _DECIMAL.match(text)
    if match and int(match[1]) <= MAX_SCALE:
        return decimal(int(match[1]))
    choices = [*_NAMED, "decimal(2)"]
    raise ModelError(
        f"{text!r} is not a type.", fix=f"{suggestion(text, choices)} A decimal has 0 to {MAX_SCALE} digits."
    )


def common_type(types: Sequence[Type]) -> Type | None:
    """The one type in which values of all these types can be compared and mixed; None if there is none."""
    known = [type_ for type_ in types if type_ != NULL]
    if not known:
        return NULL
    if all(type_.numeric for type_ in known):
        if any(type_.kind is Kind.FLOAT for type_ in known):
            return FLOAT
        scale = max(type_.scale for type_ in known)
        return decimal(scale) if any(type_.kind is Kind.DECIMAL for type_ in known) else INTEGER
    if all(type_.kind is Kind.TIMESTAMP for type_ in known):
        return max(known, key=lambda type_: type_.scale)
    return known[0] if len(set(known)) == 1 else None


def an(type_: Type) -> str:
    """A type's name in a sentence: an integer, a date, text."""
    word = str(type_)
    if word in ("text", "null"):
        return word
    return f"{'an' if word[0] in 'aeiou' else 'a'} {word}"
