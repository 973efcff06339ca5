"""What an engine must meet: answers to plans, and facts about the data that planning needs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Protocol

from msgspec import Struct, field

from relatum.calendar.moves import Uneven
from relatum.data.columns import Array, Column, Members
from relatum.language.expression import Expression
from relatum.model.routes import Place, Route
from relatum.plan.nodes import Aggregation, DateSet, Formula, Hidden, Kept, Plan, Visible


class LostLookup(Struct, frozen=True):
    """Rows of ``source`` that found no row of ``lookup``, and so no value of ``column`` that an aggregate takes."""

    source: str
    lookup: str
    column: str
    rows: int


class LostCondition(Struct, frozen=True):
    """Rows of ``source`` that found no row of ``lookup``, so that a condition reads null and leaves them out."""

    source: str
    lookup: str
    condition: str
    rows: int


class LostCast(Struct, frozen=True):
    """Rows of ``source`` on which a value did not fit the type that it was cast to."""

    source: str
    value: str
    type: str
    rows: int


class CutPeriod(Struct, frozen=True):
    """Dates of a calendar after the last one of the data, which a calendar change leaves out."""

    calendar: str
    last: date


class PartPeriod(Struct, frozen=True):
    """Periods of a coarse fact that the dates of a calendar change cover only in part."""

    columns: str


class UnevenMonths(Struct, frozen=True):
    """That a calendar change compares a month with one of which the calendar has more or fewer days than there are.

    Months are counted from January 1970.
    """

    calendar: str
    months: Uneven


class LeftOutMember(Struct, frozen=True):
    """That a formula leaves out ``(no match)`` of a table, which has a value."""

    formula: str
    table: str


class NullWinner(Struct, frozen=True):
    """That null is among the members that a formula keeps."""

    formula: str
    name: str


Loss = LostLookup | LostCondition | LostCast | CutPeriod | PartPeriod | UnevenMonths | LeftOutMember | NullWinner


class Cells(Struct, frozen=True, eq=False):
    """The values at one grain.

    ``codes`` has a row for each combination shown and a column for each of ``keys``, of member codes; ``values`` a
    column for each formula, as long as ``codes``, and ``orders`` one for each formula that members are ordered by. A
    field in ``others`` has, instead of a member, the number of a set of hidden ones.
    """

    keys: tuple[int, ...]
    codes: Array
    values: tuple[Column, ...]
    orders: tuple[Column, ...] = ()
    others: frozenset[int] = frozenset()


class Tied(Struct, frozen=True):
    """That ties at the edge let more members stay than a top names: under how many combinations of outer members.

    Under one alone, ``place`` is the last place among the best and ``members`` how many share it.
    """

    outers: int
    place: int = 0
    members: int = 0


class LeftOut(Struct, frozen=True, eq=False):
    """What a top leaves out of a field: how many different members are hidden somewhere.

    ``unranked`` says that no member had a value. ``codes`` has, where the plan tells them, a row for each hidden member
    under its outer ones: a column for each outer key, and the member's.
    """

    key: int
    count: int
    unranked: bool
    tied: Tied | None = None
    codes: Array | None = None


class Answer(Struct, frozen=True, eq=False):
    """What an engine returns: cells of each grain, the members of each axis field, and what was left out.

    ``opened`` tells, for each field that a closing of the plan is about, which of its members are open.
    """

    cells: tuple[Cells, ...]
    members: tuple[Members, ...]
    losses: tuple[Loss, ...]
    left_out: tuple[LeftOut, ...] = ()
    opened: Mapping[int, Array] = field(default_factory=dict)


class RowsFound(Struct, frozen=True, eq=False):
    """Rows that an aggregate is over: how many, and what identifies some of them, in the order they are listed."""

    count: int
    rows: Array


class NamedMembers(Struct, frozen=True, eq=False):
    """Members that a cell sees: how many, what some of them are called, by heading, and formulas at these."""

    count: int
    names: list[tuple[str, Column]]
    values: list[Column]


class Evidence(Protocol):
    """What an engine shows of one cell of a plan: the same steps that answer the whole grid, looked into."""

    def value(self, formula: Formula) -> Column:
        """A formula's value in the cell: one row."""
        ...

    def rows(self, node: Aggregation, most: int | None) -> RowsFound:
        """The rows that an aggregation is over, the first ones listed: as they are; for a median or percentile
        those in the middle first.
        """
        ...

    def distinct(self, node: Aggregation, most: int | None) -> tuple[Column, Array, int]:
        """The distinct values of an aggregation's argument in order, the rows of each, and how many there are."""
        ...

    def lost(self, node: Aggregation) -> list[tuple[str, int]]:
        """The tables of lookups that found nothing on some of an aggregation's rows, with how many."""
        ...

    def codes(self, table: str, route: Route, column_: tuple[str, str], rows: Array) -> Array:
        """The codes of a column's members that rows of a table have, or look up along a route."""
        ...

    def columns(self, table: str, expressions: Sequence[Expression], rows: Array) -> list[Column]:
        """Row expressions of a table on some of its rows."""
        ...

    def members(self, visible: Visible, formulas: Sequence[Formula], most: int | None, drops: bool) -> NamedMembers:
        """The members that the cell sees, and formulas at each of the first ones; with ``drops`` only those at
        which the first formula has a value.
        """
        ...

    def dates(self, dates: DateSet) -> Array:
        """The dates of a set, in days since 1970, in order."""
        ...

    def kept(self, kept: Kept | Hidden, most: int) -> tuple[int, list[str]]:
        """How many members the cell keeps, or hides, and the names of the first ones."""
        ...


class Engine(Protocol):
    """Whatever can answer a plan."""

    def look(self, plan: Plan, cell: Mapping[int, int]) -> Evidence:
        """Look into one cell: the code of a member for each of its keys.

        A key that holds sets of hidden members is given any code: which set is meant, the outer members say.

        Raises
        ------
        RequestError
            No members are hidden there.
        """
        ...

    def query(self, plan: Plan) -> str:
        """The query that answers a plan, for a person to read.

        Raises
        ------
        RequestError
            The engine is asked no queries.
        """
        ...

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan.

        Raises
        ------
        RequestError
            The combinations to show exceed the plan's cell limit; raised before their values are worked out.
        ValueOverflowError
            A value does not fit in 64 bits.
        """
        ...


class Facts(Protocol):
    """What planning must know of the data before anything runs."""

    def determines(self, place: Place, name: str) -> bool:
        """Whether every row of a level's member has the same value in another column of the table."""
        ...

    def is_period(self, table: str, name: str) -> bool:
        """Whether a calendar's column follows from the month, or cuts the dates into unbroken runs."""
        ...
