"""Which chart a grid is drawn as when nothing is said, and why."""

from __future__ import annotations

from typing import Literal, get_args

from msgspec import Struct

from relatum.errors import RequestError
from relatum.pivot.result import Result
from relatum.present.charts.frame import Frame, frame_of, of_values
from relatum.wording import suggestion

Kind = Literal["bars", "stacked", "shares", "lines", "areas", "points", "heat", "panels", "ranked", "steps", "table"]
KINDS: tuple[Kind, ...] = get_args(Kind)


class Legible(Struct, frozen=True):
    """How much of a kind of chart is still legible: marks in all, members along it, series."""

    marks: int
    members: int = 100_000
    series: int = 100_000


_LEGIBLE: dict[Kind, Legible] = {
    "bars": Legible(120, 60, 8),
    "stacked": Legible(400, 60, 12),
    "shares": Legible(400, 60, 12),
    "lines": Legible(20_000, series=12),
    "areas": Legible(20_000, series=12),
    "points": Legible(5_000),
    "heat": Legible(2_500, 80, 60),
    "panels": Legible(20_000, series=24),
    "ranked": Legible(60, 60),
    "table": Legible(20_000, 60),
    "steps": Legible(60, 60),
}
_FEW_SERIES, _FEW_BARS = 4, 48


class Choice(Struct, frozen=True):
    """A kind of chart, whether rows and columns change places in it, and why it is drawn."""

    kind: Kind
    swapped: bool
    reason: str

    def __str__(self) -> str:
        return f"{self.kind}: {self.reason}"


def choose(result: Result) -> Choice:
    """The chart that fits a grid.

    Time goes on a line, shares of a whole are at 100 %, many members lie on horizontal bars, two fields of many
    members are a heat map.
    """
    frame = frame_of(result)
    if len(frame.categories) <= 1 and len(frame.series) > 1 and frame.series_field:
        swapped = frame_of(result, swapped=True)
        return Choice(_choose(swapped)[0], True, _choose(swapped)[1])
    if frame.series_time and not frame.time:
        return Choice(*_over_time(_one_value(frame_of(result, swapped=True)), True))
    if frame.time:
        return Choice(*_over_time(_one_value(frame), False))
    kind, reason = _choose(frame)
    return Choice(kind, False, reason)


def _one_value(frame: Frame) -> Frame:
    """Where there are members beside each other, the marks of the first value: it alone is drawn."""
    values = list(dict.fromkeys(each.value for each in frame.series))
    return of_values(frame, values[:1]) if frame.series_field else frame


def _over_time(frame: Frame, swapped: bool) -> tuple[Kind, bool, str]:
    time = frame.fields[-1]
    if _whole(frame) and len(frame.series) <= _LEGIBLE["shares"].series:
        return "shares", swapped, f"the value is a share of a whole, and {time} is time"
    if len(frame.fields) > 1:
        return "bars", swapped, f"{time} starts again in each {frame.fields[-2]}"
    if len(frame.categories) < 3 and len(frame.series) > 1:
        return ("bars", not swapped, f"there are too few {time} members for a line")
    if len(frame.series) > _LEGIBLE["lines"].series:
        return (
            "panels",
            swapped,
            f"{time} is time, and {len(frame.series)} lines in one chart would be hard to tell apart",
        )
    return "lines", swapped, f"{time} is time"


def _choose(frame: Frame) -> tuple[Kind, str]:
    values = {each.value for each in frame.series}
    members = len(frame.series) // max(len(values), 1)
    if members > 1 and _whole(frame) and members <= _LEGIBLE["shares"].series:
        return "shares", "the value is a share of a whole"
    if members > _FEW_SERIES or len(frame.categories) * members > _FEW_BARS * 2:
        return "heat", f"{len(frame.categories)} by {members} members would be too many bars"
    if len(frame.categories) > 20 and len(values) == 2 and members == 1:
        return "points", f"there are two values for {len(frame.categories)} members"
    return "bars", "members are compared"


def _whole(frame: Frame) -> bool:
    """Whether the values are shares of what the series of a category add up to."""
    formulas = {frame.result.values[each.value].formula.replace(" ", "") for each in frame.series}
    return len(frame.series) > 1 and all(each.startswith("share(") for each in formulas)


def checked(kind: str) -> Kind:
    """A kind by its name; raises a RequestError for other names."""
    for each in KINDS:
        if kind == each:
            return each
    raise RequestError(f"Unknown chart {kind}.", fix=suggestion(kind, KINDS, noun="chart"))


def refuse_crowd(kind: Kind, frame: Frame) -> None:
    """Raise a RequestError for more marks than could be read."""
    most = _LEGIBLE[kind]
    counts = (
        ("marks", frame.marks, most.marks),
        ("members along it", len(frame.categories), most.members),
        ("series", len(frame.series), most.series),
    )
    for what, count, legible in counts:
        if count > legible:
            raise RequestError(
                f"The chart would have {count:,} {what}, and {kind} is readable only up to {legible:,}.",
                fix="Show fewer: top 20 with others after the field, or a condition.",
            )
