"""Plan nodes, and what an engine must meet.

A plan is a tree over *cells*, the keys of the outer grid. Nothing in it knows which engine runs it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from relatum.data.columns import Array, Column, Members
from relatum.data.types import Type
from relatum.language.expression import Expression, FilterPart


@dataclass(frozen=True, slots=True)
class Field:
    """An axis field: a column whose members are cells' keys."""

    table: str
    column: str


@dataclass(frozen=True, slots=True)
class Aggregation:
    """One aggregate over the rows of ``source`` that pass ``filters``, for each combination of ``keys``.

    ``keys`` are positions among the plan's fields. ``source`` is a table.
    """

    source: str
    function: str
    arguments: tuple[Expression, ...]
    fraction: float
    type: Type
    keys: tuple[int, ...]
    filters: tuple[FilterPart, ...]


@dataclass(frozen=True, slots=True)
class Combine:
    """Formulas at one grain: inputs joined on their keys, then arithmetic on short vectors.

    A formula's ``Slot`` of number n is ``inputs[n]``.
    """

    keys: tuple[int, ...]
    inputs: tuple[Aggregation, ...]
    formulas: tuple[Expression, ...]


@dataclass(frozen=True, slots=True)
class Plan:
    """A whole grid.

    ``combines`` starts with the full grain; the others are its coarser ones. The combinations shown are those in
    which an input keyed by every field has a value, and with ``visible`` also the combinations of members that
    these counts find, one for each group of fields that belong to one chain of lookups.
    """

    fields: tuple[Field, ...]
    combines: tuple[Combine, ...]
    visible: tuple[Aggregation, ...] = ()
    cell_limit: int = 1_000_000


@dataclass(frozen=True, slots=True)
class Loss:
    """Rows left out, for a note: ``kind`` is ``lookup`` (an argument's lookup found nothing) or ``condition``."""

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
    """What an engine gives back: cells of each grain, the members of each field, and rows left out."""

    cells: tuple[Cells, ...]
    members: tuple[Members, ...]
    losses: tuple[Loss, ...]


class Engine(Protocol):
    """Whatever can answer a plan."""

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan.

        Raises
        ------
        QuestionError
            The combinations to show exceed the plan's cell limit; raised before their values are worked out.
        ValueOverflowError
            A value does not fit 64 bits.
        """
        ...
