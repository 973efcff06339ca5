"""Immutable records that are compared by what they hold, and hashed once.

A formula shares its measures rather than copying them, so that a small text can stand for a graph in which one node is
reached along millions of paths. A record that remembers its hash is looked at once however often it is reached.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields
from operator import attrgetter
from typing import Any


class Immutable:
    """The base of frozen dataclasses declared with ``eq=False``: equal where all compared fields are equal."""

    __slots__ = ("__weakref__", "_hash")
    _hash: int

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if type(other) is not type(self):
            return NotImplemented
        parts = _parts_of(type(self))
        return hash(self) == hash(other) and bool(parts(self) == parts(other))

    def __hash__(self) -> int:
        try:
            return self._hash
        except AttributeError:
            value = hash((type(self).__name__, _parts_of(type(self))(self)))
            object.__setattr__(self, "_hash", value)
            return value


_PARTS: dict[int, Callable[[Any], Any]] = {}


def _parts_of(kind: type) -> Callable[[Any], Any]:
    found = _PARTS.get(id(kind))
    if found is None:
        names = [each.name for each in fields(kind) if each.compare]
        found = _PARTS[id(kind)] = attrgetter(*names) if names else _nothing
    return found


def _nothing(_: object) -> tuple[()]:
    return ()
