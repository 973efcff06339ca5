"""What an audit asks of the data, as numbers and a few samples, wherever the tables are."""

from __future__ import annotations

from typing import Any, Protocol

from msgspec import Struct

from relatum.data.columns import Array
from relatum.model.declaration import Relationship
from relatum.model.routes import Hop, Route

Key = tuple[Any, ...]
#: The number of keys that are shown of those with a problem.
SAMPLES = 3


class Lost(Struct, frozen=True):
    """Rows with a key that find nothing along a relationship.

    ``early`` of them are dated before the first row of their key. Of the rest ``samples`` are keys, ``alike`` would
    be found if case and blanks did not count, ``days`` are how many lie before and after a calendar, with the
    outermost day on each side.
    """

    rows: int
    of: int
    samples: tuple[Key, ...] = ()
    early: int = 0
    early_samples: tuple[Key, ...] = ()
    alike: int = 0
    days: tuple[tuple[int, int | None], tuple[int, int | None]] = ((0, None), (0, None))


class Partners(Struct, frozen=True):
    """How rows of one side of a many-to-many relationship find those of the other."""

    pairs: int
    found: int
    alone: int
    several: int
    most: int


class Summary(Struct, frozen=True):
    """How a column is stored and what it holds: the form, its bytes in memory, its nulls, its members."""

    stored: str
    bytes: int
    nulls: int
    members: int


class AuditFacts(Protocol):
    """What an audit asks of the data."""

    def repeated(self, table: str, names: tuple[str, ...]) -> tuple[int, int, list[Key]]:
        """How many keys are on several rows of a table, on how many, and some of them."""
        ...

    def without(self, table: str, names: tuple[str, ...]) -> int:
        """How many rows of a table have no value in some of the columns."""
        ...

    def texts(self, table: str, name: str, most: int) -> tuple[Any, Array] | None:
        """The texts of a column in order, each with its rows; None where there are more, or it holds no text."""
        ...

    def under_several(self, route: Route, fine: tuple[str, str], coarse: tuple[str, str]) -> tuple[int, list[object]]:
        """How many members of a column are under several of another that they look up, and some of them."""
        ...

    def unused(self, hop: Hop) -> int:
        """How many rows at the end of a hop no row finds."""
        ...

    def partners(self, hop: Hop) -> Partners:
        """How rows find others along a many-to-many relationship."""
        ...

    def lost(self, relationship: Relationship) -> Lost:
        """The rows with a key that find nothing along a relationship."""
        ...

    def lost_keys(self, relationship: Relationship, most: int) -> list[Key]:
        """Distinct keys that find nothing along a relationship, from the first ``most`` rows."""
        ...

    def summary(self, table: str, name: str) -> Summary:
        """How a column is stored, and what it holds."""
        ...
