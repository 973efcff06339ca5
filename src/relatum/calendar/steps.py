"""The changes that brackets make to a set of dates: one frozen class each."""

from __future__ import annotations

from typing import Literal

from relatum.immutable import Immutable

Unit = Literal["year", "quarter", "month", "week", "day", "fiscal_year", "fiscal_quarter"]


class _Step(Immutable, frozen=True, tag=True, tag_field="node"):
    """A step says what it is where it is written down."""


class Shift(_Step, frozen=True):
    """``back`` and ``forward``: every date moved by a number of units, negative for back."""

    number: int
    unit: Unit


class ToDate(_Step, frozen=True):
    """``UNIT to date``: from the start of the unit to the set's last date; of the calendar where no unit is named."""

    unit: Unit | None = None


class Before(_Step, frozen=True):
    """``before``: every date before the set's first one."""


class Trailing(_Step, frozen=True):
    """``trailing``: a number of units that end with the set's last date."""

    number: int
    unit: Unit


class Whole(_Step, frozen=True):
    """``whole``: the full units that the set touches."""

    unit: Unit


Step = Shift | ToDate | Before | Trailing | Whole


def chooses_period(step: Step) -> bool:
    """Whether a step makes a period of whatever dates it is given, so that a later one can move it."""
    return isinstance(step, Trailing) or (isinstance(step, ToDate) and step.unit is not None)
