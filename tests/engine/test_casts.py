"""Casts, parts of moments and dates made of parts, row by row against plain Python."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import hypothesis.strategies as st
import pyarrow as pa
import pytest
from hypothesis import example, given, settings

import relatum


def rows(values: list[Any], formula: str, type_: Any = None) -> list[Any]:
    """A derived column over a column ``v``, row by row."""
    model = relatum.Model()
    model.add_table("t", pa.table({"n": list(range(len(values))), "v": pa.array(values, type_)}), key="n")
    model.derive("t", "w", formula)
    grid = model.pivot("t.n", values={"w": "sole(t.w)"}, totals=False, show_empty=True)
    return [record["w"] for record in grid.to_arrow().to_pylist()]


def whole(value: Any) -> int | None:
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    found = int(exact.quantize(Decimal(1), ROUND_HALF_UP)) if abs(exact) < 10**25 else 10**25
    return found if -(2**63) <= found < 2**63 else None


def digits(value: Any, scale: int) -> Decimal | None:
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    if abs(exact) >= 10**20:
        return None
    found = exact.quantize(Decimal(1).scaleb(-scale), ROUND_HALF_UP)
    return found if abs(found.scaleb(scale)) < 2**63 else None


def optional(strategy: st.SearchStrategy[Any]) -> st.SearchStrategy[list[Any]]:
    return st.lists(st.none() | strategy, min_size=1, max_size=25)


FLOATS = optional(st.floats(allow_nan=False, allow_infinity=False))
DECIMALS = optional(st.decimals(-(10**12), 10**12, places=3))
NUMBERS = st.from_regex(r"\A ?[+-]?[0-9]{1,22}(\.[0-9]{0,6})? ?\Z") | st.sampled_from(
    ["", "x", "1e3", ".5", "5.", "--1", "٣", "1 2"]
)


@settings(max_examples=8, deadline=None)
@given(FLOATS)
@example([0.5, -0.5, 2.675, 9.223372036854775e18, -9.3e18, 1e300, 4503599627370497.5])
def test_floats(values: list[float | None]) -> None:
    known = [None if value is None else whole(value) for value in values]
    assert rows(values, "cast(v as integer)", pa.float64()) == known
    assert rows(values, "cast(v as decimal(2))", pa.float64()) == [None if v is None else digits(v, 2) for v in values]
    texts = [None if v is None else str(int(v)) if v.is_integer() and abs(v) < 2**53 else repr(v) for v in values]
    assert rows(values, "cast(v as text)", pa.float64()) == texts


@settings(max_examples=8, deadline=None)
@given(DECIMALS)
def test_decimals(values: list[Decimal | None]) -> None:
    type_ = pa.decimal128(18, 3)
    assert rows(values, "cast(v as integer)", type_) == [None if v is None else whole(v) for v in values]
    assert rows(values, "cast(v as decimal(1))", type_) == [None if v is None else digits(v, 1) for v in values]
    assert rows(values, "cast(v as decimal(7))", type_) == [None if v is None else digits(v, 7) for v in values]
    assert rows(values, "cast(v as float)", type_) == [None if v is None else pytest.approx(float(v)) for v in values]
    assert rows(values, "cast(v as text)", type_) == [None if v is None else f"{v:.3f}" for v in values]


def number(text: str) -> Decimal | None:
    bare = text.strip(" ")
    mantissa = bare.lstrip("+-") if bare[:1] in "+-" and bare[1:2] not in "+-" else bare
    return (
        Decimal(bare)
        if mantissa and set(mantissa) <= set("0123456789.") and mantissa.count(".") < 2 and mantissa != "."
        else None
    )


@settings(max_examples=15, deadline=None)
@given(optional(NUMBERS))
def test_texts(values: list[str | None]) -> None:
    found = [None if value is None else number(value) for value in values]
    integers = [None if n is None or "." in str(values[at]) else whole(n) for at, n in enumerate(found)]
    assert rows(values, "cast(v as integer)", pa.string()) == integers
    assert rows(values, "cast(v as decimal(2))", pa.string()) == [None if n is None else digits(n, 2) for n in found]
    floats = rows(values, "cast(v as float)", pa.string())
    for got, n, text in zip(floats, found, values, strict=True):
        if text != "1e3":
            assert got is None if n is None else math.isclose(got, float(n))


def day(text: str | None) -> date | None:
    try:
        return None if text is None else datetime.fromisoformat(text).date()
    except ValueError:
        return None


@settings(max_examples=8, deadline=None)
@given(
    optional(
        st.dates().map(str)
        | st.datetimes().map(lambda m: m.replace(microsecond=0).isoformat())
        | st.sampled_from(["2023-02-29", "2024-13-01", "soon"])
    )
)
def test_dates_of_texts(values: list[str | None]) -> None:
    assert rows(values, "cast(v as date)", pa.string()) == [day(value) for value in values]


PARTS: dict[str, Callable[[datetime], Any]] = {
    "hour(v)": lambda m: m.hour, "minute(v)": lambda m: m.minute, "second(v)": lambda m: m.second, "date(v)": lambda m: m.date(),
    "extract(year from v)": lambda m: m.year, "extract(weekday from v)": lambda m: m.isoweekday(), "cast(v as date)": lambda m: m.date(),
    "week(v)": lambda m: m.isocalendar().week, "date(year(v), month(v), day(v))": lambda m: m.date(),
    "case month(v) when 1 then 'first' when 12 then 'last' else 'between' end": lambda m: {1: "first", 12: "last"}.get(m.month, "between"),
    "cast(v as text)": lambda m: m.isoformat(sep=" "),
}  # fmt: skip


@pytest.mark.parametrize("formula", PARTS)
@settings(max_examples=8, deadline=None)
@given(values=optional(st.datetimes(datetime(2, 1, 1), datetime(9998, 1, 1))))
def test_parts_of_moments(formula: str, values: list[datetime | None]) -> None:
    missing = "between" if "else" in formula else None  # null is none of the values of a case
    expected = [missing if value is None else PARTS[formula](value) for value in values]
    assert rows(values, formula, pa.timestamp("us")) == expected


@settings(max_examples=8, deadline=None)
@given(st.lists(st.tuples(st.integers(-5, 10_005), st.integers(-1, 14), st.integers(-1, 33)), min_size=1, max_size=20))
def test_dates_made_of_parts(parts: list[tuple[int, int, int]]) -> None:
    model = relatum.Model()
    columns = dict(zip("ymd", zip(*parts, strict=True), strict=True))
    model.add_table(
        "t", pa.table({"n": list(range(len(parts))), **{name: list(each) for name, each in columns.items()}}), key="n"
    )
    model.derive("t", "w", "date(y, m, d)")
    expected = []
    for year, month, number_ in parts:
        try:
            expected.append(date(year, month, number_))
        except (ValueError, OverflowError):
            expected.append(None)
    grid = model.pivot("t.n", values={"w": "sole(t.w)"}, totals=False, show_empty=True)
    assert [record["w"] for record in grid.to_arrow().to_pylist()] == expected


@settings(max_examples=10, deadline=None)
@given(st.lists(st.integers(0, 10**12), min_size=1, max_size=20))
def test_moments_of_nanoseconds(values: list[int]) -> None:
    start = datetime(2024, 1, 1)
    base = int((start - datetime(1970, 1, 1)).total_seconds()) * 10**9
    array = pa.array([base + value for value in values], pa.timestamp("ns"))
    assert rows(array, "second(v)") == [(start + timedelta(microseconds=value // 1000)).second for value in values]
    model = relatum.Model()
    model.add_table("t", pa.table({"v": array}))
    assert model.evaluate("count(distinct t.v)") == len(set(values))
    whole_ = [value for value in values if value % 1000 == 0]
    assert model.evaluate("count(t)", where="date(t.v) = date '2024-01-01'") == len(values)
    assert model.evaluate("count(t)", where="t.v >= timestamp '2024-01-01 00:00:00'") == len(values)
    for value in whole_[:1]:
        moment = (start + timedelta(microseconds=value // 1000)).isoformat(sep=" ")
        assert model.evaluate("count(t)", where=f"t.v = timestamp '{moment}'") == values.count(value)


NOTES = [
    ("sum(cast(t.v as integer))", "", ["t.v is not a valid integer in 2 rows of t: it is null there."]),
    ("sum(cast(t.v as integer))", "t.g = 'b'", ["t.v is not a valid integer in 1 row of t: it is null there."]),
    ("sum(cast(t.v as integer))", "t.g = 'c'", []), ("count(t)", "cast(t.v as integer) > 0", ["t.v is not a valid integer in 2 rows of t: it is null there."]),
    ("count(t)", "cast(t.v as integer) > 0 and t.g = 'b'", ["t.v is not a valid integer in 1 row of t: it is null there."]),
    ("max(cast(t.v as text))", "", []), ("sum(cast('x' as integer) over t)", "", []),
    ("sum(cast(u.size as decimal(1)) over t)", "", ["u.size is not a valid decimal(1) in 2 rows of t: it is null there."]),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "where", "said"), NOTES)
def test_what_does_not_fit_is_counted(formula: str, where: str, said: list[str]) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"g": ["a", "a", "b", "b", "c"], "v": ["1", "x", None, "y", "4"]}))
    model.add_table("u", pa.table({"g": ["a", "b", "c"], "size": ["big", "2.55", None]}), key="g")
    model.relate("t.g -> u.g")
    grid = model.pivot(values=formula, where=where or None)
    assert [note.text for note in grid.notes if note.kind == "cast"] == said
