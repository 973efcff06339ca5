"""Key figures with what they are compared with."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import Any

from msgspec import Struct

from relatum.data.arrow import python_values
from relatum.data.digits import is_number
from relatum.data.types import FLOAT
from relatum.model.looks import Format
from relatum.pivot.request import Request, ValueText, ask
from relatum.pivot.result import Result
from relatum.present.numbers import Writer, formatter
from relatum.present.sheet import headed, writers_of


class Figure(Struct, frozen=True):
    """One key figure as written: what heads it, its value, and how it moved; what it means."""

    heading: str
    text: str
    moved: str
    about: str


def figures_request(figures: Sequence[str], against: str, where: str) -> Request:
    """What is asked for key figures: each value, and each once more as it is compared with."""
    asked = ask(values=list(figures), where=where)
    others = tuple(
        ValueText(f"{each.label} [{against}]", f"({each.formula})[{against}]", each.format) for each in asked.values
    )
    return Request((), (), (*asked.values, *(others if against else ())), asked.where)


def figures_of(result: Result, against: str) -> list[Figure]:
    """The key figures of an answer."""
    writers = writers_of(result)
    values = [python_values(result.column_of(number))[0] for number in range(len(result.values))]
    count = len(values) // 2 if against else len(values)
    percent = formatter(FLOAT, Format(pattern="+0.0%;-0.0%"), [1.0], result.locale, result.currency)
    found = []
    for number in range(count):
        write, value = writers[number], values[number]
        moved = _moved(write, percent, value, values[count + number], against) if against else ""
        found.append(Figure(headed(result.values[number], write), write(value), moved, result.values[number].about))
    return found


def _moved(write: Writer, percent: Writer, now: Any, before: Any, against: str) -> str:
    """How a figure moved: the difference and, except for shares, its percentage of the former value."""
    if not all(is_number(each) and math.isfinite(each) for each in (now, before)):
        return f"no value to compare with {_since(against)}"
    change = now - before
    sign = "▲" if change > 0 else "▼" if change < 0 else "·"
    if write.format.pattern.endswith("%"):
        return f"{sign} {_signed(100 * change)} points, from {write(before)} {_since(against)}"
    share = f" ({percent(float(change) / abs(float(before)))})" if before else ""
    return f"{sign} {'+' if change > 0 else ''}{write(change)}{share} from {write(before)} {_since(against)}"


_BACK = re.compile(r"back (\d+) (year|quarter|month|week|day|fiscal_year|fiscal_quarter)s?", re.IGNORECASE)


def _since(against: str) -> str:
    """What a figure is compared with, after its value: ``the year before``, or the brackets as they are written."""
    moved = _BACK.fullmatch(against.strip())
    if moved is None:
        return f"({against})"
    unit = moved[2].lower().replace("_", " ")
    return f"the {unit} before" if moved[1] == "1" else f"{moved[1]} {unit}s before"


def _signed(points: Any) -> str:
    return f"{float(points):+.1f}".replace("-", "−")
