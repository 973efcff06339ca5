"""Plan nodes: what an engine is asked.

A plan is a tree of formulas over *frames*: lists of cells, each a combination of members or rows of the plan's keys.
The outer frames are the grains of a grid; ``per``, ``keep``, ``rank`` and current rows make finer ones. Nothing in a
plan knows which engine runs it.
"""

from __future__ import annotations

from datetime import date
from typing import ClassVar, Literal

from msgspec import field

from relatum.calendar.steps import Step, chooses_period
from relatum.data.types import Type
from relatum.immutable import Immutable
from relatum.language.expression import Expression, FilterPart, MemberOrder
from relatum.model.declaration import Relationship
from relatum.model.routes import Hop, Route


class Field(Immutable, frozen=True):
    """A key of cells: a column's members or, where ``column`` is empty, a table's rows.

    ``type`` is the column's; ``key`` are the columns that tell a table's rows apart, with their types (none where the
    table has no key: an engine then tells them apart in its own way).
    """

    table: str
    column: str = ""
    type: Type | None = None
    key: tuple[tuple[str, Type], ...] = ()


class Match(Immutable, frozen=True):
    """Rows belong to a cell when they have the cell's member of ``table.column``, or its row of ``table``.

    ``at`` leads from a key that is a row to the row of ``table`` that it looks up; ``route`` leads from the rows that
    are matched to ``table``.
    """

    key: int
    at: Route
    route: Route
    table: str
    column: str


class Restriction(Immutable, frozen=True):
    """A condition that is the same for all cells, and the route from the rows restricted to those it judges."""

    part: FilterPart
    route: Route


class Calendar(Immutable, frozen=True):
    """A calendar: the column of its dates, where its years and weeks start, and where the data ends, if it says so."""

    table: str
    date_column: str
    fiscal_year_starts: int = 1
    week_starts: str = "monday"
    through: date | tuple[str, str] | None = None


class DateSet(Immutable, frozen=True):
    """A cell's set of dates: those visible under its period filters, moved by calendar changes.

    ``matches``, ``restrictions`` and ``kept`` are the period filters, judged on the calendar's own rows, and ``within``
    other sets of dates. ``ends`` are the tables whose last date ends the data, with their routes to the calendar.
    ``route`` leads from the rows that are matched to the calendar, or to a level of it.
    """

    calendar: Calendar
    matches: tuple[Match, ...]
    restrictions: tuple[Restriction, ...]
    within: tuple[DateSet, ...]
    kept: tuple[Kept | Hidden, ...]
    steps: tuple[Step, ...]
    ends: tuple[tuple[str, Route], ...]
    route: Route

    @property
    def chosen(self) -> bool:
        """Whether a period filter, ``UNIT to date`` or ``trailing`` went into it, so that it can be moved."""
        filtered = bool(self.matches or self.restrictions or self.kept) or any(each.chosen for each in self.within)
        return filtered or any(map(chooses_period, self.steps))


class Best(Immutable, frozen=True):
    """That the best ``number`` are kept, not those for which a formula is true.

    ``ties`` are formulas that part tied members, each with whether its largest value is the better.
    """

    edge: Literal["top", "bottom"]
    number: int
    ties: tuple[tuple[Formula, bool], ...] = ()


class Kept(Immutable, frozen=True):
    """A cell's set of members: those visible for which a formula is true, or the best by it."""

    aside: ClassVar[tuple[str, ...]] = ("text",)

    members: Visible
    formula: Formula
    best: Best | None
    match: Match
    text: str = ""

    @property
    def formulas(self) -> tuple[Formula, ...]:
        """Every formula that decides which members are kept."""
        return (self.formula, *((each for each, _ in self.best.ties) if self.best is not None else ()))


class Hidden(Immutable, frozen=True):
    """A cell's set of members: those that a grid leaves out beside the best, under the cell's outer members.

    ``key`` holds the number of the set; the engine finds the sets when it settles the plan's ``tops``.
    """

    key: int
    match: Match


class Pinned(Immutable, frozen=True):
    """Of a cell's rows, those with the first or last value of a column that the cell's rows have."""

    edge: Literal["first", "last"]
    table: str
    column: str
    route: Route


class Bounds(Immutable, frozen=True):
    """Which rows of ``source`` a cell sees."""

    source: str
    matches: tuple[Match, ...] = ()
    restrictions: tuple[Restriction, ...] = ()
    dates: tuple[DateSet, ...] = ()
    kept: tuple[Kept | Hidden, ...] = ()
    pinned: tuple[Pinned, ...] = ()


class Visible(Immutable, frozen=True):
    """The members that a cell sees: new keys' values on the rows within ``bounds``; several are combined freely."""

    parts: tuple[tuple[Bounds, tuple[Match, ...]], ...]


class Aggregation(Immutable, frozen=True):
    """One aggregate over the rows within ``bounds``, for each cell."""

    bounds: Bounds
    function: str
    arguments: tuple[Expression, ...]
    fraction: float
    type: Type


class Nested(Immutable, frozen=True):
    """One aggregate of formulas over the members that each cell sees: rows of a row table, or a ``per``.

    With ``drops`` members without a value do not count as visible.
    """

    aside: ClassVar[tuple[str, ...]] = ("text",)

    visible: Visible
    function: str
    arguments: tuple[Formula, ...]
    conditions: tuple[Formula, ...]
    fraction: float
    type: Type
    drops: bool
    text: str = ""


class RankedAmong(Immutable, frozen=True):
    """The current member's rank, running sum or neighbour among the members that the cell sees without it.

    ``current`` is the key that holds the current member, or a formula for its row number. ``order`` is the members'
    own, where it matters (rows are in the order of their table).
    """

    aside: ClassVar[tuple[str, ...]] = ("text",)

    visible: Visible
    function: str
    formula: Formula
    by: Formula | None
    descending: bool
    current: int | Formula
    type: Type
    order: MemberOrder = field(default=MemberOrder())
    text: str = ""


class KeyColumn(Immutable, frozen=True):
    """A column of the row that a key holds, or of what that row looks up; the member itself where the key is a column.

    With ``no_match`` it is whether the lookup found nothing. With ``placed`` it is not a value but its place, in that
    order, among the members of a column that the key determines: that of the first row that has the key's member.
    """

    key: int
    route: Route
    table: str
    column: str
    type: Type
    no_match: bool = False
    placed: MemberOrder | None = None


class Named(Immutable, frozen=True):
    """A value that ``let`` named, as it was where the ``let`` is."""

    number: int
    type: Type


class Naming(Immutable, frozen=True):
    """Formulas computed and named, then another that may use them."""

    numbers: tuple[int, ...]
    values: tuple[Formula, ...]
    body: Formula


PlanNode = Aggregation | Nested | RankedAmong | KeyColumn | Named | Naming


class Formula(Immutable, frozen=True):
    """An expression whose ``Slot`` holds what a plan computes; ``inputs`` are all of these, each once.

    ``keys`` are the keys of cells that its value depends on, ``names`` the ``let`` values. ``strict`` says that it
    has no value where none of its aggregates has one.
    """

    aside: ClassVar[tuple[str, ...]] = (
        "inputs",
        "keys",
        "names",
        "strict",
    )

    expression: Expression
    inputs: tuple[PlanNode, ...] = ()
    keys: frozenset[int] = frozenset()
    names: frozenset[int] = frozenset()
    strict: bool = False


class Occurring(Immutable, frozen=True):
    """The combinations to look at are those of the node's own groups."""


class WithRows(Immutable, frozen=True):
    """The combinations to look at are those in which an aggregation has rows.

    Its rows say nothing of the keys in ``free``: these take every one of their ``members``, as rows have them together
    with the members of other keys.
    """

    aggregation: Aggregation
    free: frozenset[int] = frozenset()
    members: Visible | None = None


class EveryMember(Immutable, frozen=True):
    """The combinations to look at are all visible ones, ``(no match)`` among them."""


Candidates = Occurring | WithRows | EveryMember


class Judged(Immutable, frozen=True):
    """A node that decides which combinations are shown, and among which those in which it has a value are found."""

    node: PlanNode
    among: Candidates


class GridGrain(Immutable, frozen=True):
    """One grain of a grid.

    ``keys`` are positions among the plan's fields. The combinations shown are those in which a node of ``judged`` has a
    value, and those in which a shown combination of a finer grain lies. Where ``bare`` holds the request's values, the
    visible ``members`` are shown too, and ``(no match)`` by itself where one of these values is there.

    A key in ``others`` holds a set of hidden members. ``orders`` are formulas by whose values members are ordered.
    ``opened`` are keys of which only the opened members are shown, ``unopened`` those of which only the rest are.
    """

    keys: tuple[int, ...]
    formulas: tuple[Formula, ...]
    judged: tuple[Judged, ...]
    members: Visible
    bare: tuple[Formula, ...] | None = None
    others: frozenset[int] = frozenset()
    orders: tuple[Formula, ...] = ()
    opened: tuple[int, ...] = ()
    unopened: tuple[int, ...] = ()


class Top(Immutable, frozen=True):
    """That of a field's members, under each combination of ``outer`` keys, only the best ``number`` are shown.

    They are the best by the formulas of ``by``, each with whether its largest value is the better, out of those that
    would be shown without it; no match does not compete and stays. ``others`` is the key that holds the sets of the
    members left out, None where they have no line.
    """

    key: int
    outer: tuple[int, ...]
    number: int
    by: tuple[tuple[Formula, bool], ...]
    others: int | None


class Closing(Immutable, frozen=True):
    """Which members of a field are open: by what its column holds, null or no match."""

    key: int
    members: tuple[int | float | str | bool, ...] = ()
    null: bool = False
    no_match: bool = False


class AxisBounds(Immutable, frozen=True):
    """Which members of a field may be shown at all: those that the request's own condition leaves in its table.

    ``lookups`` are the relationships by whose unmatched rows its ``(no match)`` is there; ``levels`` are those to
    levels that its column belongs to, by which a value can be there too.
    """

    bounds: Bounds
    lookups: tuple[Hop, ...]
    levels: tuple[Hop, ...] = ()


class Derivation(Immutable, frozen=True):
    """A derived column as a formula: its cells are the rows of its table, held by key 0 of ``fields``."""

    table: str
    column: str
    type: Type
    fields: tuple[Field, ...]
    formula: Formula


class Interval(Immutable, frozen=True):
    """How a relationship matches ``as_of``: a row of the one side holds from its ``start`` on, up to but not with the
    next start of the same ``by`` columns; without end where there is none.
    """

    relationship: Relationship
    by: tuple[str, ...]
    start: str


class Plan(Immutable, frozen=True):
    """A whole grid, with all that an engine needs to answer it.

    ``fields`` are all keys: the first of them, one for each of ``axes``, are the grid's (``row_count`` of these the
    rows'); then come those that hold sets of hidden members. ``grains`` starts with the finest; those with others come
    last. ``tops`` and ``closings`` say which of the members found are shown, outer ones first. ``derived`` are the
    derived columns that the plan reads, each after those that it needs itself. Text is compared by code point. With
    ``tells_hidden`` the members that tops hide are listed, not only counted.
    """

    fields: tuple[Field, ...]
    axes: tuple[AxisBounds, ...]
    grains: tuple[GridGrain, ...]
    derived: tuple[Derivation, ...] = ()
    intervals: tuple[Interval, ...] = ()
    row_count: int = 0
    tops: tuple[Top, ...] = ()
    closings: tuple[Closing, ...] = ()
    cell_limit: int = 1_000_000
    tells_hidden: bool = False
    text_order: Literal["code point"] = "code point"
