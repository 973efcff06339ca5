"""Plan nodes, and what an engine must meet.

A plan is a tree of formulas over *frames*: lists of cells, each a combination of members or rows of the plan's keys.
The outer frames are the grains of a grid; ``per``, ``keep``, ``rank`` and current rows make finer ones. Nothing in a
plan knows which engine runs it.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

from relatum.data.columns import Array, Column, Members
from relatum.data.types import Type
from relatum.language.expression import Expression, FilterPart
from relatum.model.routes import Route


@dataclass(frozen=True, slots=True)
class Field:
    """A key of cells: a column's members or, where ``column`` is empty, a table's rows."""

    table: str
    column: str = ""


@dataclass(frozen=True, slots=True)
class Match:
    """Rows belong to a cell when they have the cell's member of ``table.column``, or its row of ``table``.

    ``at`` leads from a key that is a row to the row of ``table`` that it looks up; ``route`` leads from the rows that
    are matched to ``table``.
    """

    key: int
    at: Route
    route: Route
    table: str
    column: str


@dataclass(frozen=True, slots=True)
class Restriction:
    """A condition that is the same for all cells, and the route from the rows restricted to those it judges."""

    part: FilterPart
    route: Route


@dataclass(frozen=True, slots=True)
class Step:
    """One calendar change: ``back 1 year`` is kind ``back``, unit ``year``, number 1."""

    kind: str
    unit: str
    number: int


@dataclass(frozen=True, slots=True)
class DateSet:
    """A cell's set of dates: those visible under its period filters, moved by calendar changes.

    ``matches`` and ``restrictions`` are the period filters, judged on the calendar's own rows, and ``within`` other
    sets of dates. ``ends`` are the tables whose last date ends the data, with their routes to the calendar.
    ``route`` leads from the rows that are matched to the calendar, or to a level of it.
    """

    calendar: str
    matches: tuple[Match, ...]
    restrictions: tuple[Restriction, ...]
    within: tuple[DateSet, ...]
    steps: tuple[Step, ...]
    ends: tuple[tuple[str, Route], ...]
    route: Route


@dataclass(frozen=True, slots=True)
class Kept:
    """A cell's set of members: those visible for which a formula is true, or the best ``number`` by it.

    ``members`` finds the visible ones with the new key ``key``.
    """

    members: Visible
    formula: Formula
    word: str
    number: int
    match: Match
    text: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class Pinned:
    """Of a cell's rows, those with the first or last value of a column that the cell's rows have."""

    word: str
    table: str
    column: str
    route: Route


@dataclass(frozen=True, slots=True)
class Bounds:
    """Which rows of ``source`` a cell sees."""

    source: str
    matches: tuple[Match, ...] = ()
    restrictions: tuple[Restriction, ...] = ()
    dates: tuple[DateSet, ...] = ()
    kept: tuple[Kept, ...] = ()
    pinned: tuple[Pinned, ...] = ()


@dataclass(frozen=True, slots=True)
class Visible:
    """The members that a cell sees: new keys' values on the rows within ``bounds``; several are combined freely."""

    parts: tuple[tuple[Bounds, tuple[Match, ...]], ...]


@dataclass(frozen=True, slots=True)
class Aggregation:
    """One aggregate over the rows within ``bounds``, for each cell."""

    bounds: Bounds
    function: str
    arguments: tuple[Expression, ...]
    fraction: float
    type: Type


@dataclass(frozen=True, slots=True)
class Nested:
    """One aggregate of formulas over the members that each cell sees: rows of a row table, or a ``per``.

    With ``drops`` members without a value do not count as visible.
    """

    visible: Visible
    function: str
    arguments: tuple[Formula, ...]
    conditions: tuple[Formula, ...]
    fraction: float
    type: Type
    drops: bool
    text: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class RankedAmong:
    """The current member's rank or running sum among the members that the cell sees without it.

    ``current`` is the key that holds the current member, or a formula for its row number.
    """

    visible: Visible
    function: str
    formula: Formula
    by: Formula | None
    descending: bool
    current: int | Formula
    type: Type
    text: str = field(default="", compare=False)


@dataclass(frozen=True, slots=True)
class KeyColumn:
    """A column of the row that a key holds, or of what that row looks up; the member itself where the key is a column.

    With ``no_match`` it is whether the lookup found nothing.
    """

    key: int
    route: Route
    table: str
    column: str
    type: Type
    no_match: bool = False


@dataclass(frozen=True, slots=True)
class Named:
    """A value that ``let`` named, as it was where the ``let`` stands."""

    number: int
    type: Type


@dataclass(frozen=True, slots=True)
class Naming:
    """Formulas worked out and named, then another that may use them."""

    numbers: tuple[int, ...]
    values: tuple[Formula, ...]
    body: Formula


Node = Aggregation | Nested | RankedAmong | KeyColumn | Named | Naming


@dataclass(frozen=True, slots=True)
class Formula:
    """An expression whose ``Slot`` of number n is ``inputs[n]``.

    ``keys`` are the keys of cells that its value depends on, ``names`` the ``let`` values. ``strict`` says that it
    has no value where none of its aggregates has one.
    """

    expression: Expression
    inputs: tuple[Node, ...] = ()
    keys: frozenset[int] = frozenset()
    names: frozenset[int] = frozenset()
    strict: bool = field(default=False, compare=False)


@dataclass(frozen=True, slots=True)
class Combine:
    """The formulas of one grain, whose keys are these positions among the plan's fields."""

    keys: tuple[int, ...]
    formulas: tuple[Formula, ...]


@dataclass(frozen=True, slots=True)
class Plan:
    """A whole grid.

    ``fields`` are all keys: the first ``axes`` are the grid's. ``combines`` starts with the full grain; the others are
    its coarser ones. The combinations shown are those in which a node of ``judged`` has a value; and those of
    ``members`` too where ``show_members`` says so.
    """

    fields: tuple[Field, ...]
    axes: int
    combines: tuple[Combine, ...]
    judged: tuple[Node, ...]
    members: Visible
    show_members: bool = False
    cell_limit: int = 1_000_000


@dataclass(frozen=True, slots=True)
class Loss:
    """Something left out, for a note.

    ``kind`` is ``lookup`` (rows whose lookup in an argument found nothing), ``condition`` (rows for which a condition
    reads null), ``period`` (dates after the end of the data), ``partly`` (a period covered in part counts in full) or
    ``member`` (no match, where a grain leaves it out).
    """

    kind: str
    source: str
    lookup: str
    rows: int
    about: str


@dataclass(frozen=True, slots=True, eq=False)
class Cells:
    """The values at one grain: member codes of each key, and a vector for each formula."""

    keys: tuple[int, ...]
    codes: Array
    values: tuple[Column, ...]


@dataclass(frozen=True, slots=True, eq=False)
class Answer:
    """What an engine gives back: cells of each grain, the members of each axis field, and rows left out."""

    cells: tuple[Cells, ...]
    members: tuple[Members, ...]
    losses: tuple[Loss, ...]


class Engine(Protocol):
    """Whatever can answer a plan."""

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan.

        Raises
        ------
        RequestError
            The combinations to show exceed the plan's cell limit; raised before their values are worked out.
        ValueOverflowError
            A value does not fit 64 bits.
        """
        ...
