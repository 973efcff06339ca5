"""What an audit asks of tables in memory."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from relatum.data import compute as pc
from relatum.data import vectors as v
from relatum.data.arrow import python_values
from relatum.data.buffers import array_values
from relatum.data.columns import Array, Column
from relatum.data.groups import distinct
from relatum.data.keys import duplicate_keys, folded, keys_found
from relatum.data.types import Kind
from relatum.engine.memory.store import MemoryStore
from relatum.model.declaration import Relationship
from relatum.model.routes import Hop, Route, hops_of
from relatum.plan.audit_facts import SAMPLES, Key, Lost, Partners, Summary


class MemoryFacts:
    """Facts about tables in memory.

    Parameters
    ----------
    store : MemoryStore
        The tables.
    """

    def __init__(self, store: MemoryStore) -> None:
        self.store = store

    def _columns(self, table: str, names: Sequence[str]) -> list[Column]:
        return [self.store.column(table, name) for name in names]

    def repeated(self, table: str, names: tuple[str, ...]) -> tuple[int, int, list[Key]]:
        """How many keys are on several rows of a table, on how many, and some of them."""
        return duplicate_keys(self._columns(table, names))

    def without(self, table: str, names: tuple[str, ...]) -> int:
        """How many rows of a table have no value in some of the columns."""
        nulls = v.either_null(*self._columns(table, names))
        return 0 if nulls is None else int(nulls.sum())

    def texts(self, table: str, name: str, most: int) -> tuple[Any, Array] | None:
        """The texts of a column in order, each with its rows."""
        column = self.store.column(table, name)
        if column.type.kind is not Kind.TEXT or len(column.dictionary) > most:
            return None
        known = column.values if column.nulls is None else column.values[~column.nulls]
        return column.dictionary, np.bincount(known, minlength=len(column.dictionary))

    def under_several(self, route: Route, fine: tuple[str, str], coarse: tuple[str, str]) -> tuple[int, list[object]]:
        """How many members of a column are under several of another that they look up, and some of them."""
        members = self.store.members(*fine)
        found = self.store.row_codes(route, *coarse)
        above = found.slice(0, len(members.codes), None).astype(np.int64)
        codes = members.codes.astype(np.int64)
        known = (codes < members.null) & (above < self.store.members(*coarse).null)
        pairs = distinct(codes[known] * (1 << 32) + above[known]) >> 32
        several = np.flatnonzero(np.bincount(pairs) > 1) if len(pairs) else pairs
        return len(several), python_values(members.values.take(several[:SAMPLES]))

    def unused(self, hop: Hop) -> int:
        """How many rows at the end of a hop no row finds."""
        return int((~self.store.found_rows((hop,))).sum())

    def partners(self, hop: Hop) -> Partners:
        """How rows find others along a many-to-many relationship."""
        partners = self.store.key_links(hop).partners
        return Partners(
            int(partners.sum()),
            int((partners > 0).sum()),
            int((partners == 0).sum()),
            int((partners > 1).sum()),
            int(partners.max(initial=0)),
        )

    def _lost(self, relationship: Relationship) -> tuple[list[Column], list[Column], Array]:
        """The columns of both ends, and which rows have a key and find nothing."""
        (hop, *_) = hops_of(relationship)
        index = self.store.index(hop)
        columns = self._columns(relationship.many.table, relationship.many.columns)
        targets = self._columns(relationship.one.table, relationship.one.columns)
        lost = np.asarray(index.positions == index.size)
        nulls = v.either_null(*columns)
        return columns, targets, lost if nulls is None else lost & ~nulls

    def lost(self, relationship: Relationship) -> Lost:
        """The rows with a key that find nothing along a relationship."""
        columns, targets, lost = self._lost(relationship)
        rows, of = int(lost.sum()), len(lost)
        early, early_samples = 0, tuple[Key, ...]()
        if relationship.match == "as_of":
            before = lost & keys_found(columns[:-1], targets[:-1])
            early, early_samples = int(before.sum()), _sampled(columns, np.flatnonzero(before))
            lost = lost & ~before
        return Lost(
            rows=rows,
            of=of,
            samples=_sampled(columns, np.flatnonzero(lost)),
            early=early,
            early_samples=early_samples,
            alike=_alike(columns, targets, lost),
            days=_outside(columns[-1], targets[-1], lost),
        )

    def lost_keys(self, relationship: Relationship, most: int) -> list[Key]:
        """Distinct keys that find nothing along a relationship, from the first ``most`` rows."""
        columns, _, lost = self._lost(relationship)
        rows = np.flatnonzero(lost)[:most]
        return list(dict.fromkeys(zip(*(python_values(column.take(rows)) for column in columns), strict=True)))

    def summary(self, table: str, name: str) -> Summary:
        """What there is to say of a column."""
        column = self.store.column(table, name)
        width = f"{column.values.dtype.itemsize * 8} bits"
        stored = width if column.dictionary is None else f"{width}, {len(column.dictionary):,} texts"
        return Summary(stored, column.nbytes, column.null_count, len(self.store.members(table, name).values))


def _sampled(columns: list[Column], rows: Array) -> tuple[Key, ...]:
    """A few distinct keys of these rows."""
    found: dict[Key, None] = {}
    for row in rows[:: max(1, len(rows) // 200)][:400]:
        found[tuple(python_values(column.take(np.asarray([row])))[0] for column in columns)] = None
        if len(found) == SAMPLES:
            break
    return tuple(found)


def _alike(columns: list[Column], targets: list[Column], lost: Array) -> int:
    """How many of the lost rows would be found if case and blanks did not count."""
    if len(columns) > 1 or columns[0].type.kind is not Kind.TEXT or targets[0].type.kind is not Kind.TEXT:
        return 0
    found = array_values(pc.is_in(folded(columns[0].dictionary), value_set=folded(targets[0].dictionary)))
    return int(found[columns[0].values[lost]].sum()) if len(found) else 0


def _outside(dates: Column, calendar: Column, lost: Array) -> tuple[tuple[int, int | None], tuple[int, int | None]]:
    """How many days lie before the first date of a calendar and after its last, with the outermost of each."""
    if dates.type.kind not in (Kind.DATE, Kind.TIMESTAMP) or calendar.type.kind is not Kind.DATE:
        return (0, None), (0, None)
    days = v.days_of(dates)[lost]
    early, late = days[days < calendar.lower], days[days > calendar.upper]
    return (
        (len(early), int(early.min()) if len(early) else None),
        (len(late), int(late.max()) if len(late) else None),
    )
