"""Immutable records that are compared by what they hold, and hashed once.

A formula shares its measures rather than copying them, so that a small text can stand for a graph in which one node is
reached along millions of paths. A record that remembers its hash is looked at once however often it is reached.
"""

from __future__ import annotations

from collections.abc import Callable
from operator import attrgetter
from typing import Any, ClassVar

from msgspec import Struct
from msgspec.structs import force_setattr


class Immutable(Struct, frozen=True, eq=False, weakref=True, dict=True):
    """The base of records that are equal where all their fields are, but for those named in ``aside``."""

    aside: ClassVar[tuple[str, ...]] = ()

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if type(other) is not type(self):
            return NotImplemented
        parts = _parts_of(type(self))
        return hash(self) == hash(other) and bool(parts(self) == parts(other))

    def __ne__(self, other: object) -> bool:
        # The base class would go by which record it is.
        return not self == other

    def __hash__(self) -> int:
        try:
            return self._hash  # type: ignore[attr-defined, no-any-return]
        except AttributeError:
            value = hash((type(self).__name__, _parts_of(type(self))(self)))
            force_setattr(self, "_hash", value)
            return value


def as_plain(value: Any) -> Any:
    """A record as a dictionary of its fields, and so on for what it holds; anything else as it is."""
    match value:
        case Struct():
            return {name: as_plain(getattr(value, name)) for name in value.__struct_fields__}
        case list() | tuple():
            return [as_plain(each) for each in value]
        case dict():
            return {key: as_plain(each) for key, each in value.items()}
        case _:
            return value


_PARTS: dict[type[Immutable], Callable[[Any], Any]] = {}


def _parts_of(kind: type[Immutable]) -> Callable[[Any], Any]:
    found = _PARTS.get(kind)
    if found is None:
        names = [name for name in kind.__struct_fields__ if name not in kind.aside]
        found = _PARTS[kind] = attrgetter(*names) if names else _nothing
    return found


def _nothing(_: object) -> tuple[()]:
    return ()
