"""Sets of dates by cell: the dates visible under period filters, cut at the end of the data, then moved."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import date

import numpy as np
from msgspec import Struct, field

from relatum.calendar.moves import Dates, Sets, moved, uneven_months
from relatum.calendar.steps import Shift
from relatum.data.columns import Array
from relatum.data.days import day_number
from relatum.data.groups import Links, as_stretch, marked, number_groups, true_places
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.scanned import coded
from relatum.engine.memory.scans import Scans
from relatum.model.names import quoted
from relatum.model.routes import Place, Route, reach_of
from relatum.plan.dependencies import dates_keys
from relatum.plan.engine import UnevenMonths
from relatum.plan.nodes import Calendar, DateSet, Hidden, Kept, Match
from relatum.runtime.limits import refuse_above

#: So many sets are turned at a time: a line of the cache.
_TURNED = 64


class DateSets(Struct, frozen=True, eq=False):
    """Works out sets of dates.

    Parameters
    ----------
    scans : Scans
        The data, and conditions on it.
    sizes : mapping of int to int
        How many codes each key of cells has.
    kept_links : callable
        Finds the members that cells keep.
    """

    scans: Scans
    sizes: Mapping[int, int]
    #: For each cell the number of its set of kept members, and for each member the sets that hold it.
    kept_links: Callable[[Kept | Hidden, Frame], tuple[Array, Links, int]]
    #: Where the end of the data cut a set short: the calendar, and the last date that counts.
    cut: dict[tuple[str, int], None] = field(default_factory=dict)
    #: Months that are compared with one of which the calendar has more or fewer days than there are.
    uneven: dict[UnevenMonths, None] = field(default_factory=dict)
    #: Levels that a coarse fact is at, of which a set of dates covers a period only in part.
    partly: dict[Place, None] = field(default_factory=dict)

    def links(self, dates: DateSet, cells: Frame) -> tuple[Array, Links, int]:
        """For each cell the number of its set; for each row of the calendar, or of its level, the sets that hold it."""
        numbers, sets = self.sets(dates, cells)
        store = self.scans.store
        order = self._order(dates.calendar)
        place = dates.route[-1].target if dates.route else Place(dates.calendar.table)
        size = store.rows(place) + 1
        if not place.level:
            if dates.route and reach_of(dates.route) < 0:
                # Dates that no row finds lead nowhere.
                found = np.flatnonzero(store.found_rows(dates.route)[order])
                order, sets = order[found], sets[:, as_stretch(found)]
            columns, held = true_places(_turned(sets))
            return numbers, Links.of(order[columns], held, size), max(len(sets), 1)
        # A coarse fact is seen where the dates touch its period.
        held, columns = true_places(sets)
        periods = store.level(place).index.positions.astype(np.int64)
        codes, days = periods[order[columns]], np.bincount(periods, minlength=size)
        distinct, inverse = number_groups([codes, held], [size, max(len(sets), 1)], len(codes))
        if bool((np.bincount(inverse, minlength=len(distinct)) < days[distinct[:, 0]]).any()):
            self.partly[place] = None
        return numbers, Links.of(distinct[:, 0], distinct[:, 1], size), max(len(sets), 1)

    def sets(self, dates: DateSet, cells: Frame) -> tuple[Array, Sets]:
        """For each cell the number of its set, and the sets: a column for each date of the calendar, in order."""
        narrow, numbers = cells.project(dates_keys(dates), self.sizes)
        order = self._order(dates.calendar)
        days = self._days(dates.calendar)[order]
        visible = self.scans.visible_rows(dates.calendar.table, dates.restrictions)[order]
        end = self._end(dates.calendar, dates.ends)
        codes = [self._codes(match)[order] for match in dates.matches]
        wanted = cell_codes(self.scans, dates.matches, narrow)
        if len(codes) == 1 and not dates.within and not dates.kept:
            # Cells all of whose dates come after the data have none: one empty set serves them all.
            before = visible if end is None else visible & (days <= end)
            known = self._seen(codes[0], before, dates.matches[0])[wanted[0]]
            if end is not None and bool(
                self._seen(codes[0], visible & (days > end), dates.matches[0])[wanted[0]].any()
            ):
                self._note_cut(dates, end)
            places = np.flatnonzero(known)
            own = np.where(known, np.cumsum(known) - 1, len(places))
            wanted = [np.append(wanted[0][places], -1)]
        else:
            own = np.arange(narrow.size)
        count = len(wanted[0]) if wanted else narrow.size
        _refuse_many(count, len(order), dates.calendar.table)
        sets: Sets | None = None
        for mine, codes_wanted, match in zip(codes, wanted, dates.matches, strict=True):
            # Narrow codes are compared sooner, and every cell is compared with every date.
            kind = np.min_scalar_type(-self.scans.size(coded(match)))
            same = mine.astype(kind)[None] == codes_wanted.astype(kind)[:, None]
            sets = same if sets is None else np.logical_and(sets, same, out=sets)
        if sets is None:
            sets = np.ones((count, len(order)), np.bool_)
        if not visible.all():
            sets &= visible[None]
        for inner in dates.within:
            inner_numbers, found = self.sets(inner, narrow)
            sets &= found[inner_numbers]
        for kept in dates.kept:
            sets &= self._held(kept, narrow)[:, order]
        if end is not None:
            late = int(np.searchsorted(days, end, side="right"))
            if bool(sets[:, late:].any()):
                self._note_cut(dates, end)
                sets[:, late:] = False
        calendar = Dates(days, dates.calendar.fiscal_year_starts, dates.calendar.week_starts)
        for step in dates.steps:
            for each in uneven_months(calendar.days, step):
                if bool((sets[:, calendar.months == each.month].all(axis=1)).any()):
                    self.uneven[UnevenMonths(dates.calendar.table, each)] = None
            sets = moved(calendar, sets, step)
        return (own if numbers is None else own[numbers]), sets

    def _held(self, kept: Kept | Hidden, cells: Frame) -> Sets:
        """For each cell, which rows of the calendar have a member that it keeps."""
        numbers, links, size = self.kept_links(kept, cells)
        codes = self._codes(kept.match)
        held: Sets = np.zeros((size, len(links.offsets) - 1), np.bool_)
        held[links.targets, np.repeat(np.arange(len(links.offsets) - 1), np.diff(links.offsets))] = True
        return held[:, codes][numbers]

    def _codes(self, match: Match) -> Array:
        """What a match compares, for each row of its calendar."""
        store = self.scans.store
        if match.column:
            return store.members(match.table, match.column).codes.astype(np.int64)
        return np.arange(store.rows(Place(match.table)))

    def _seen(self, codes: Array, rows: Array, match: Match) -> Array:
        """Which codes some of these rows have."""
        return marked(codes[rows], self.scans.size(coded(match)))

    def _note_cut(self, dates: DateSet, end: int) -> None:
        if not all(isinstance(step, Shift) and step.number > 0 for step in dates.steps):
            self.cut[dates.calendar.table, end] = None

    def _days(self, calendar: Calendar) -> Array:
        return self.scans.store.column(calendar.table, calendar.date_column).values.astype(np.int64)

    def _order(self, calendar: Calendar) -> Array:
        return np.argsort(self._days(calendar), kind="stable")

    def _end(self, calendar: Calendar, ends: Iterable[tuple[str, Route]]) -> int | None:
        match calendar.through:
            case date() as through:
                return day_number(through)
            case (table, name):
                return self.scans.store.last_day(table, name)
            case None:
                latest = [self.scans.store.latest(calendar.table, route) for _, route in ends]
                return max((day for day in latest if day is not None), default=None)


def _turned(sets: Sets) -> Sets:
    """The sets by date. Some at a time, so that what is written is still in the cache when the next byte comes."""
    turned = np.empty(sets.shape[::-1], np.bool_)
    for start in range(0, len(sets), _TURNED):
        turned[:, start : start + _TURNED] = sets[start : start + _TURNED].T
    return turned


def _refuse_many(sets: int, days: int, calendar: str) -> None:
    """Raise a LimitError where sets of dates would not fit memory."""
    refuse_above(
        "dates",
        sets * days,
        f"A calendar change would make {sets:,} sets of dates out of the {days:,} dates of {quoted(calendar)}",
        "Limit the calendar to the years of the data, or use a coarser period.",
    )


def cell_codes(scans: Scans, matches: Iterable[Match], cells: Frame) -> list[Array]:
    """What each match compares, for each cell."""
    return [
        cells.codes[match.key] if match.column else scans.store.positions(match.at, cells.codes[match.key])
        for match in matches
    ]
