"""What an explanation holds."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import Struct

from relatum.data.types import Type
from relatum.data.vectors import float_sum
from relatum.model.looks import Format

Origin = Literal["request", "row", "column", "formula", "current row"]
#: Why a cell has no value: the first of these that is true of a part it needs.
Reason = Literal[
    "",
    "no rows",
    "unrelated",
    "null inputs",
    "division by zero",
    "no period",
    "not the sole value",
    "no current member",
    "no case applies",
]


class FilterStep(Struct, frozen=True):
    """A filter in force.

    ``origin`` is where it comes from. ``route`` are the tables it travels along to the rows, empty where it is on their
    own table; None where it does not reach them. ``before`` and ``after`` are the rows that are left without it and
    with it, in the order in which filters are shown.
    """

    text: str
    origin: Origin
    route: tuple[str, ...] | None
    before: int
    after: int


class PartStep(Struct, frozen=True):
    """A part of the formula with its value in the cell.

    ``depth`` is how deep it is, ``kind`` what it is (``measure``, ``brackets``, ``function``, ``aggregate``,
    ``named``); ``note`` says what else is true of it: dates that calendar changes came to, members that were kept,
    lookups that found nothing. ``evidence`` is the number of an aggregate's evidence.
    """

    depth: int
    kind: str
    text: str
    value: Any
    type: Type
    format: Format
    note: tuple[str, ...] = ()
    evidence: int | None = None


class Evidence(Struct, frozen=True):
    """What is behind one aggregate: the filters of its rows, and the rows, members or values themselves.

    ``kind`` says what ``table`` (an Arrow table) lists: ``rows``, ``members``, or distinct ``values``. ``count`` is how
    many there are, ``shown`` what those listed come to, as the aggregate folds them; it equals ``value`` where all are
    listed.
    """

    text: str
    source: str
    function: str
    kind: Literal["rows", "members", "values"]
    filters: tuple[FilterStep, ...]
    count: int
    value: Any
    parts: tuple[tuple[str, Any], ...]
    losses: tuple[str, ...]
    table: Any
    shown: Any


class Contribution(Struct, frozen=True):
    """One part of a difference: a member's, or one of quantity, price and mix. ``before`` and ``after`` are values.

    Of a quotient, ``divided`` are the numbers above and below the line, before and after.
    """

    name: str
    before: Any
    after: Any
    part: Any
    divided: tuple[tuple[float, float], tuple[float, float]] | None = None


class Difference(Struct, frozen=True):
    """The difference of two cells taken apart. ``parts`` add up to ``total``, and ``factors`` do, where there are any.

    ``by`` is the column whose members the parts are; ``other`` how the cell compared with is named. ``adds_up`` says
    that the values of the members add up to those of the cells, or that what they are divided by does.
    """

    other: tuple[tuple[str, Any], ...]
    before: Any
    after: Any
    total: Any
    by: str
    parts: tuple[Contribution, ...]
    factors: tuple[Contribution, ...] = ()
    adds_up: bool = False

    def shortened(self, most: int) -> list[Contribution]:
        """The parts that moved most, and the rest as one."""
        if len(self.parts) <= most + 1:
            return list(self.parts)
        rest = self.parts[most:]
        part = sum((each.part for each in rest[1:]), start=rest[0].part)
        before, after = self._together(rest) if self.adds_up else (None, None)
        return [*self.parts[:most], Contribution(f"{len(rest)} others", before, after, part)]

    @staticmethod
    def _together(parts: Sequence[Contribution]) -> tuple[Any, Any]:
        """What some parts come to together, before and after."""
        divided = [each.divided for each in parts if each.divided is not None]
        if divided:
            sums = [[float_sum(pair[side][at] for pair in divided) for at in (0, 1)] for side in (0, 1)]
            before, after = (above / below if below else None for above, below in sums)
            return before, after
        sides = [[value for value in side if value is not None]
                 for side in ([each.before for each in parts], [each.after for each in parts])]  # fmt: skip
        before, after = (sum(side[1:], start=side[0]) if side else None for side in sides)
        return before, after


class CellStory(Struct, frozen=True):
    """Why a cell is what it is."""

    model: str
    locale: str
    currency: str
    value: str
    formula: str
    expansion: str
    cell: tuple[tuple[str, Any], ...]
    where: str
    keep: str
    result: Any
    type: Type
    format: Format
    reason: Reason
    because: str
    filters: tuple[FilterStep, ...]
    parts: tuple[PartStep, ...]
    evidence: tuple[Evidence, ...]
    notes: tuple[str, ...]
    difference: Difference | None = None
