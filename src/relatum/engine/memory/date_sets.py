"""Sets of dates by cell: what is visible under period filters, cut at the end of the data, then moved."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date

import numpy as np

from relatum.calendar.moves import Dates, Sets, moved
from relatum.calendar.steps import Shift
from relatum.data.columns import Array
from relatum.data.days import day_number
from relatum.data.groups import Links, number_groups
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.scans import Scans
from relatum.model.routes import Place, Route
from relatum.plan.dependencies import dates_keys
from relatum.plan.nodes import Calendar, DateSet, Match


@dataclass(frozen=True, slots=True, eq=False)
class DateSets:
    """Works out sets of dates.

    Parameters
    ----------
    scans : Scans
        The data, and conditions on it.
    sizes : mapping of int to int
        How many codes each key of cells has.
    """

    scans: Scans
    sizes: Mapping[int, int]
    #: Where the end of the data cut a set short: the calendar, and the last date that counts.
    cut: dict[tuple[str, int], None] = field(default_factory=dict)
    #: Levels that a coarse fact is at, of which a set of dates covers a period only in part.
    partly: dict[Place, None] = field(default_factory=dict)

    def links(self, dates: DateSet, cells: Frame) -> tuple[Array, Links, int]:
        """For each cell the number of its set; for each row of the calendar, or of its level, the sets that hold it."""
        numbers, sets = self.sets(dates, cells)
        store = self.scans.store
        held, columns = np.nonzero(sets)
        codes = self._order(dates.calendar)[columns]
        place = dates.route[-1].target if dates.route else Place(dates.calendar.table)
        size = store.rows(place) + 1
        days = np.ones(size, np.int64)
        if place.level:
            # A coarse fact is seen where the dates touch its period.
            periods = store.level(place).index.positions.astype(np.int64)
            codes, days = periods[codes], np.bincount(periods, minlength=size)
        distinct, inverse = number_groups([codes, held], [size, max(len(sets), 1)], len(codes))
        if place.level and bool((np.bincount(inverse, minlength=len(distinct)) < days[distinct[:, 0]]).any()):
            self.partly[place] = None
        return numbers, Links.of(distinct[:, 0], distinct[:, 1], size), max(len(sets), 1)

    def sets(self, dates: DateSet, cells: Frame) -> tuple[Array, Sets]:
        """For each cell the number of its set, and the sets: a column for each date of the calendar, in order."""
        narrow, numbers = cells.project(dates_keys(dates), self.sizes)
        store = self.scans.store
        order = self._order(dates.calendar)
        days = self._days(dates.calendar)[order]
        rows = np.arange(len(order))
        sets: Sets = np.ones((narrow.size, len(order)), np.bool_)
        for match, wanted in zip(dates.matches, cell_codes(self.scans, dates.matches, narrow), strict=True):
            own = store.members(match.table, match.column).codes.astype(np.int64) if match.column else rows
            sets &= own[order][None] == wanted[:, None]
        sets &= self.scans.visible_rows(dates.calendar.table, dates.restrictions)[order][None]
        for inner in dates.within:
            own_sets, found = self.sets(inner, narrow)
            sets &= found[own_sets]
        known = dates.calendar
        end = self._end(known, dates.ends)
        if end is not None:
            forward = all(isinstance(step, Shift) and step.number > 0 for step in dates.steps)
            if bool(sets[:, days > end].any()) and not forward:
                self.cut[known.table, end] = None
            sets &= (days <= end)[None]
        calendar = Dates(days, known.fiscal_year_starts, known.week_starts)
        for step in dates.steps:
            sets = moved(calendar, sets, step)
        return (np.arange(cells.size) if numbers is None else numbers), sets

    def _days(self, calendar: Calendar) -> Array:
        return self.scans.store.column(calendar.table, calendar.date_column).values.astype(np.int64)

    def _order(self, calendar: Calendar) -> Array:
        return np.argsort(self._days(calendar), kind="stable")

    def _end(self, calendar: Calendar, ends: Iterable[tuple[str, Route]]) -> int | None:
        match calendar.through:
            case date() as through:
                return day_number(through)
            case (table, name):
                column = self.scans.store.column(table, name)
                return int(column.upper) if column.null_count < len(column) else None
            case None:
                latest = [self.scans.store.latest(calendar.table, route) for _, route in ends]
                return max((day for day in latest if day is not None), default=None)


def cell_codes(scans: Scans, matches: Iterable[Match], cells: Frame) -> list[Array]:
    """What each match compares, for each cell."""
    return [
        cells.codes[match.key] if match.column else scans.store.positions(match.at, cells.codes[match.key])
        for match in matches
    ]
