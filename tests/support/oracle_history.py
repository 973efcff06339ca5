"""The oracle's contexts: what has happened on the way to a formula, judged afterwards.

A context is the list of what happened, outermost first: filters that were added, changes in brackets, rows and members
that were entered. Nothing is carried along or taken out of it. Whether a filter, a calendar change or an edge is in
force is asked of the whole list: it is, unless something later says otherwise.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from relatum.calendar.steps import Step as CalendarStep

Row = tuple[str, int]


@dataclass(eq=False)
class Filter:
    """One filter: rows of ``table`` for which ``test`` holds. ``columns`` are those it judges, None for whole rows.

    ``kind`` is where it comes from; ``bears`` are filters that bear on a keep's formula.
    """

    kind: str
    table: str
    columns: frozenset[str] | None
    test: Callable[[Row], bool]
    named: frozenset[tuple[str, str]] = frozenset()
    axis: str = ""
    group: object = None
    bears: tuple[Filter, ...] = ()
    keyed: bool = False
    chosen: bool = False
    #: A request's own keep: on a calendar it is a period, unlike one in brackets.
    keeps: bool = False
    #: One filter for several members of an axis at once.
    several: bool = False

    @property
    def column(self) -> str:
        return next(iter(self.columns)) if self.columns is not None and len(self.columns) == 1 else ""


@dataclass(frozen=True, eq=False)
class Added:
    """Filters came: of a request, an axis, a ``where``, a ``pin``, a ``keep``, a member."""

    filters: tuple[Filter, ...]


@dataclass(frozen=True, eq=False)
class AtRow:
    """A current row was entered: one filter, in parts that belong together, on its table and on all that it looks up."""

    table: str
    number: int
    parts: tuple[Filter, ...]
    group: object


@dataclass(frozen=True, eq=False)
class AtMember:
    """A member of a column was entered."""

    column: tuple[str, str]
    member: Any


@dataclass(frozen=True, eq=False)
class Moved:
    """``back 1 year``, ``year to date``: a change of the calendar ``on``, or of the only one there is."""

    on: str
    step: CalendarStep


@dataclass(frozen=True, eq=False)
class Edge:
    """``pin first c``, ``pin last c``."""

    edge: str
    table: str
    column: str


@dataclass(frozen=True, eq=False)
class Opened:
    """``via`` or ``both ways``: a relationship is used otherwise."""

    link: Any
    both: bool


@dataclass(frozen=True, eq=False)
class Pinned:
    """``pin c …``: all filters on the column go; on the table's columns, where it is for no match."""

    table: str
    column: str


@dataclass(frozen=True, eq=False)
class Ignored:
    """``ignoring``: a column, or a table with all that it looks up."""

    tables: frozenset[str] = frozenset()
    column: tuple[str, str] | None = None


@dataclass(frozen=True, eq=False)
class IgnoredWord:
    """``ignoring all``, ``axes``, ``rows``, ``columns``, ``innermost``, ``row``."""

    word: str


@dataclass(frozen=True, eq=False)
class Only:
    """``only``: these tables with all that they look up, and these columns."""

    tables: frozenset[str]
    columns: frozenset[tuple[str, str]]


@dataclass(frozen=True, eq=False)
class SetAside:
    """Filters were set aside: those of the current member, for a ranking."""

    filters: tuple[Filter, ...]


@dataclass(frozen=True, eq=False)
class CarriedOut:
    """A calendar's changes were carried out: a set of dates stands in the place of its periods."""

    calendar: str
    periods: tuple[Filter, ...]


Event = Added | AtRow | AtMember | Moved | Edge | Opened | Pinned | Ignored | IgnoredWord | Only | SetAside | CarriedOut


@dataclass(frozen=True, eq=False)
class Context:
    """What has happened so far. ``lets`` are the names that ``let`` gave, ``repeat`` is of the measure in hand."""

    events: tuple[Event, ...] = ()
    calendars: frozenset[str] = frozenset()
    lets: dict[str, Any] = field(default_factory=dict)
    repeat: bool = False

    def then(self, *events: Event) -> Context:
        return replace(self, events=(*self.events, *events))

    def plus(self, *filters: Filter) -> Context:
        return self.then(Added(filters))

    def without(self, dropped: Callable[[Filter], bool]) -> Context:
        return self.then(SetAside(tuple(filter(dropped, self.filters))))

    def before(self, at: int) -> Context:
        return replace(self, events=self.events[:at])

    def each(self, kind: type[Any]) -> Iterator[tuple[int, Any]]:
        return ((at, event) for at, event in enumerate(self.events) if isinstance(event, kind))

    # -- what is in force ------------------------------------------------------------------------------------------

    @functools.cached_property
    def filters(self) -> tuple[Filter, ...]:
        found = []
        for at, event in enumerate(self.events):
            own = event.filters if isinstance(event, Added) else event.parts if isinstance(event, AtRow) else ()
            later = range(at + 1, len(self.events))
            found += [each for each in own if not any(self.takes_away(number, each) for number in later)]
        return tuple(found)

    def takes_away(self, at: int, each: Filter) -> bool:
        """Whether an event takes away a filter that was there before it."""
        match self.events[at]:
            case Pinned(table, column) if column:
                return each.table == table and each.columns == {column}
            case Pinned(table):
                return each.table == table and each.columns is not None
            case Ignored(tables, column):
                return each.table in tables or (column is not None and (each.table, each.column) == column)
            case Only(tables, columns):
                return each.table not in tables and (each.table, each.column) not in columns
            case SetAside(filters):
                return each in filters
            case CarriedOut(_, periods):
                return each in periods
            case IgnoredWord("all"):
                return True
            case IgnoredWord("axes"):
                return each.kind == "axis"
            case IgnoredWord("rows" | "columns" as axis):
                return each.kind == "axis" and each.axis == axis
            case IgnoredWord("innermost"):
                there = [other for other in self.before(at).filters if other.kind == "axis" and other.axis == "rows"]
                return bool(there) and each is there[-1]
            case IgnoredWord("row"):
                return each.group is not None and each.group is self.row_ignored(at)
            case Added() | AtRow() | AtMember() | Moved() | Edge() | Opened():
                return False
        raise AssertionError(self.events[at])

    def row_ignored(self, at: int) -> object:
        """The current row that an ``ignoring row`` is about: the innermost one that was entered before it."""
        entered = [row.group for number, row in self.each(AtRow) if number < at]
        return entered[-1] if entered else None

    @functools.cached_property
    def rows(self) -> tuple[tuple[str, int, object], ...]:
        """The current rows; of one that is ignored the columns can be read still, but it is no filter."""
        gone = [self.row_ignored(at) for at, word in self.each(IgnoredWord) if word.word == "row"]
        return tuple(
            (row.table, row.number, None if any(row.group is each for each in gone) else row.group)
            for _, row in self.each(AtRow)
        )

    @functools.cached_property
    def members(self) -> tuple[tuple[tuple[str, str], Any], ...]:
        return tuple((event.column, event.member) for _, event in self.each(AtMember))

    @functools.cached_property
    def steps(self) -> tuple[tuple[str, CalendarStep, frozenset[str]], ...]:
        """The calendar changes to come: which calendar, the change, and the calendars on which something undid it."""
        found = []
        for at, moved in self.each(Moved):
            later = self.events[at + 1 :]
            done = any(isinstance(each, CarriedOut) and moved.on in ("", each.calendar) for each in later)
            if not done and not any(isinstance(each, IgnoredWord) and each.word == "all" for each in later):
                undone = (name for name in self.calendars if any(_undoes(each, name) for each in later))
                found.append((moved.on, moved.step, frozenset(undone)))
        return tuple(found)

    @functools.cached_property
    def edges(self) -> tuple[tuple[str, str, str], ...]:
        """The first and last values that are pinned."""
        return tuple(
            (edge.edge, edge.table, edge.column)
            for at, edge in self.each(Edge)
            if not any(_unpins(each, edge) for each in self.events[at + 1 :])
        )

    @functools.cached_property
    def via(self) -> frozenset[Any]:
        """The standby relationships in use: of those between the same two tables the last one named."""
        last = {frozenset((each.link.many, each.link.one)): each.link for _, each in self.each(Opened) if not each.both}
        return frozenset(last.values())

    @functools.cached_property
    def both(self) -> frozenset[Any]:
        return frozenset(each.link for _, each in self.each(Opened) if each.both)


def _undoes(event: Event, calendar: str) -> bool:
    """Whether an event drops the changes of a calendar that were written before it."""
    match event:
        case Ignored(tables):
            return calendar in tables
        case Only(tables, columns):
            return calendar not in tables and all(table != calendar for table, _ in columns)
        case _:
            return False


def _unpins(event: Event, edge: Edge) -> bool:
    """Whether an event drops an edge that was pinned before it."""
    match event:
        case Ignored(tables, column):
            return edge.table in tables or column == (edge.table, edge.column)
        case Only(tables, columns):
            return edge.table not in tables and (edge.table, edge.column) not in columns
        case IgnoredWord(word):
            return word == "all"
        case _:
            return False
