"""One thing that the audit found."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, Literal, get_args

import numpy as np
from msgspec import Struct

from relatum.data.arrow import python_values
from relatum.data.columns import Array, Column
from relatum.errors import RelatumError
from relatum.model.names import quoted
from relatum.pivot.answer import answer
from relatum.pivot.request import ask
from relatum.session.session import Session
from relatum.wording import percent, sample_text

SAMPLES = 3


Severity = Literal["problem", "doubt", "remark"]
SEVERITIES: tuple[Severity, ...] = get_args(Severity)


class Finding(Struct, frozen=True):
    """One thing found.

    ``severity`` is ``problem`` (numbers are wrong, or money has no owner), ``doubt`` (a person must decide) or
    ``remark``. ``text`` says what, with counts
    and sample values; ``effect`` what it does to numbers; ``fix`` what to do. ``rows`` counts the rows concerned;
    ``value`` is what a measure is worth on them, where one was asked for.
    """

    severity: Severity
    subject: str
    text: str
    fix: str = ""
    effect: str = ""
    rows: int = 0
    value: int | float | Decimal | None = None


class Money(Struct, frozen=True):
    """A measure that says what rows are worth."""

    session: Session
    measure: str

    def behind(self, table: str, condition: str) -> tuple[Any, str]:
        """What the measure is worth on the rows of a table that fulfil a condition, as a number and in words.

        Neither where the measure is not worked out over that table, or no measure is asked for.
        """
        if not self.measure:
            return None, ""
        formula = f"{quoted(self.measure)}[where ({condition} over {quoted(table)})]"
        try:
            found = answer(self.session, ask(values={"part": formula, "whole": quoted(self.measure)}))
        except RelatumError:
            return None, ""
        part, whole = (found.cells[0].values[at] for at in (0, 1))
        if part.null_count or whole.null_count:
            return None, ""
        value, total = python_values(part)[0], python_values(whole)[0]
        share = f" ({percent(float(value), float(total), 2)})" if total else ""
        shown = f"{value:,.2f}" if isinstance(value, float | Decimal) else f"{value:,}"
        return value, f"{shown} of {quoted(self.measure)}{share}"


def sampled(columns: list[Column], rows: Array) -> str:
    """A few distinct keys of these rows, as a formula would write them."""
    found: dict[tuple[Any, ...], None] = {}
    for row in rows[:: max(1, len(rows) // 200)][:400]:
        found[tuple(python_values(column.take(np.asarray([row])))[0] for column in columns)] = None
        if len(found) == SAMPLES:
            break
    return listed_keys(list(found))


def listed_keys(samples: list[tuple[Any, ...]]) -> str:
    """Keys joined by commas, those of several columns in parentheses."""
    return ", ".join(
        sample_text(sample[0]) if len(sample) == 1 else "(" + ", ".join(map(sample_text, sample)) + ")"
        for sample in samples[:SAMPLES]
    )


def nulls_of(column: Column) -> Array:
    """Where a column has no value."""
    return np.zeros(len(column), np.bool_) if column.nulls is None else column.nulls
