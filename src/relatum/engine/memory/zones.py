"""Bounds of stretches of rows: where a column comes in order, as dates mostly do, tests need not look at most rows."""

from __future__ import annotations

import weakref
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from relatum.data.columns import Array
from relatum.data.vectors import HIGHEST, LOWEST
from relatum.engine.memory.filters import CodeTest, RangeTest, RowFilter, RowTest
from relatum.engine.memory.store import RowCodes

#: How many rows have bounds together.
ZONE_ROWS = 1 << 16
#: Of more codes, those that pass are mostly scattered, and finding out costs more than it spares.
_MOST_CODES = 1 << 16


class Zones(Struct, frozen=True, eq=False):
    """The least and the greatest number of each zone of an array.

    ``bounds`` are those of the array. ``common`` is the greatest of the least and the least of the greatest: the
    numbers between lie within each zone's bounds.
    """

    low: NDArray[np.int64]
    high: NDArray[np.int64]
    bounds: tuple[int, int]
    common: tuple[int, int]

    @classmethod
    def of(cls, low: NDArray[np.int64], high: NDArray[np.int64]) -> Zones:
        """The zones with these bounds."""
        bounds = int(low.min(initial=HIGHEST)), int(high.max(initial=LOWEST))
        return cls(low, high, bounds, (int(low.max(initial=LOWEST)), int(high.min(initial=HIGHEST))))

    def first(self, count: int) -> Zones:
        """The bounds of the first zones."""
        return self if len(self.low) == count else Zones.of(self.low[:count], self.high[:count])


class Span(Struct, frozen=True):
    """Rows that may pass all tests; ``free`` is whether all of them surely do."""

    start: int
    stop: int
    free: bool


class _Verdict(Struct, frozen=True, eq=False):
    """For each zone, whether some of its rows may pass a test, and whether all surely do."""

    some: NDArray[np.bool_]
    every: NDArray[np.bool_]


def spans_of(tests: Sequence[RowFilter], rows: int, most: int) -> list[Span]:
    """The rows of a table that tests must look at, in spans that do not cross a multiple of ``most`` rows.

    Rows that are left out pass no test; those of one span are in one stretch of ``most`` rows, so that what is added up
    in stretches is the same with and without bounds.
    """
    if any(test.never for test in tests):
        return []
    verdicts = list(_verdicts(tests, rows)) if rows > ZONE_ROWS else []
    if not verdicts:
        return [Span(start, min(start + most, rows), not tests) for start in range(0, rows, most)]
    some = np.logical_and.reduce([each.some for each in verdicts])
    every = np.logical_and.reduce([each.every for each in verdicts]) & (len(verdicts) == len(tests))
    spans = []
    for start in range(0, rows, most):
        stop = min(start + most, rows)
        first = start // ZONE_ROWS
        own = np.flatnonzero(some[first : -(-stop // ZONE_ROWS)])
        if len(own):
            low, high = first + int(own[0]), first + int(own[-1]) + 1
            begin, end = max(start, low * ZONE_ROWS), min(stop, high * ZONE_ROWS)
            spans.append(Span(begin, end, bool(every[low:high].all())))
    return spans


def _verdicts(tests: Sequence[RowFilter], rows: int) -> Iterator[_Verdict]:
    """The verdicts on those tests whose rows have bounds that say something.

    Bounds say nothing where of the numbers that lie within each zone's some pass and others do not.
    """
    count = -(-rows // ZONE_ROWS)
    for test in tests:
        match test:
            case RangeTest(column, low, high):
                zones = zones_of(column.values).first(count)
                least, greatest = zones.common
                if least <= min(high, greatest) and low <= greatest and not low <= least <= greatest <= high:
                    continue
                inside = (zones.low >= low) & (zones.high <= high)
                yield _Verdict((zones.high >= low) & (zones.low <= high), inside & (column.nulls is None))
            case CodeTest(RowCodes(codes, positions), passing):
                if max(len(passing), 0 if positions is None else len(codes)) <= _MOST_CODES:
                    zones = zones_of(codes if positions is None else positions).first(count)
                    marks = passing if positions is None else passing.take(codes)
                    least, greatest = zones.common
                    shared = marks[max(least, 0) : greatest + 1]
                    if shared.any() and not shared.all():
                        continue
                    up_to = np.concatenate(([0], np.cumsum(marks)))
                    marked = up_to[zones.high + 1] - up_to[zones.low]
                    yield _Verdict(marked > 0, marked == zones.high + 1 - zones.low)
            case RowTest():
                pass
            case _:
                raise TypeError(f"{type(test).__name__} is not a test of rows")


_known: dict[tuple[int, int], tuple[weakref.ref[Any], Zones]] = {}


def zones_of(values: Array) -> Zones:
    """The bounds of an array's zones; looked for once in each array."""
    number = id(values), ZONE_ROWS
    known = _known.get(number)
    if known is not None and known[0]() is values:
        return known[1]
    whole = len(values) // ZONE_ROWS * ZONE_ROWS
    lines = values[:whole].reshape(-1, ZONE_ROWS)
    parts = [lines, values[whole:].reshape(1, -1)] if whole < len(values) else [lines]
    low, high = (
        np.concatenate([function(part, axis=1).astype(np.int64) for part in parts]) for function in (np.min, np.max)
    )
    _known[number] = weakref.ref(values, lambda _: _known.pop(number, None)), Zones.of(low, high)
    return _known[number][1]
