"""What an engine must meet: answers to plans, and facts about the data that planning needs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Protocol

from relatum.data.columns import Array, Column, Members
from relatum.language.expression import Expression
from relatum.model.routes import Place
from relatum.plan.nodes import Aggregation, DateSet, Formula, Hidden, Kept, Plan, Visible


@dataclass(frozen=True, slots=True)
class LostLookup:
    """Rows of ``source`` that found no row of ``lookup``, and so no value of ``column`` that an aggregate takes."""

    source: str
    lookup: str
    column: str
    rows: int


@dataclass(frozen=True, slots=True)
class LostCondition:
    """Rows of ``source`` that found no row of ``lookup``, so that a condition reads null and leaves them out."""

    source: str
    lookup: str
    condition: str
    rows: int


@dataclass(frozen=True, slots=True)
class LostCast:
    """Rows of ``source`` on which a value did not fit the type that it was cast to."""

    source: str
    value: str
    type: str
    rows: int


@dataclass(frozen=True, slots=True)
class CutPeriod:
    """Dates of a calendar after the last one of the data, which a calendar change leaves out."""

    calendar: str
    last: date


@dataclass(frozen=True, slots=True)
class PartPeriod:
    """Periods of a coarse fact that the dates of a calendar change cover only in part."""

    columns: str


@dataclass(frozen=True, slots=True)
class LeftOutMember:
    """That a formula leaves out ``(no match)`` of a table, which has a value."""

    formula: str
    table: str


@dataclass(frozen=True, slots=True)
class NullWinner:
    """That null is among the members that a formula keeps."""

    formula: str
    name: str


Loss = LostLookup | LostCondition | LostCast | CutPeriod | PartPeriod | LeftOutMember | NullWinner


@dataclass(frozen=True, slots=True, eq=False)
class Cells:
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


@dataclass(frozen=True, slots=True)
class LeftOut:
    """How many members of a field, each under its outer ones, a top leaves out; ``unranked`` if none had a value."""

    key: int
    count: int
    unranked: bool


@dataclass(frozen=True, slots=True, eq=False)
class Answer:
    """What an engine gives back: cells of each grain, the members of each axis field, and what was left out.

    ``opened`` tells, for each field that a closing of the plan is about, which of its members are open.
    """

    cells: tuple[Cells, ...]
    members: tuple[Members, ...]
    losses: tuple[Loss, ...]
    left_out: tuple[LeftOut, ...] = ()
    opened: Mapping[int, Array] = field(default_factory=dict)


class Evidence(Protocol):
    """What an engine shows of one cell of a plan: the same steps that answer the whole grid, looked into."""

    def value(self, formula: Formula) -> Column:
        """A formula's value in the cell: one row."""
        ...

    def rows(self, node: Aggregation) -> Array:
        """The numbers of the rows that an aggregation is over, in order."""
        ...

    def columns(self, table: str, expressions: Sequence[Expression], rows: Array) -> list[Column]:
        """Row expressions of a table on some of its rows."""
        ...

    def members(self, visible: Visible, formulas: Sequence[Formula]) -> tuple[dict[int, Array], list[Column]]:
        """The members that the cell sees, as the codes of their keys, and formulas at each of them."""
        ...

    def dates(self, dates: DateSet) -> Array:
        """The dates of a set, in days since 1970, in order."""
        ...

    def kept(self, kept: Kept | Hidden) -> Array:
        """The codes of the members that the cell keeps, or that are hidden in it."""
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
            A value does not fit 64 bits.
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
