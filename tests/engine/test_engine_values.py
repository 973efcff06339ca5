"""What functions and aggregates make of awkward values: on every engine what memory makes of them, row by row."""

from __future__ import annotations

import math
import random
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

import relatum
from engines import engine_for

TEXTS = ["", " ", "a", "A", "é", "E", "Zz", "10", " 7.50 ", "1e3", "-0", "2024-02-29", "2023-02-29", "x'y", 'a"b', "%", "_", "a_b", "日本",
         "🌱🌿", "tab\there", "long " * 20, "2024-03-01 12:30:45", "-9223372036854775808", "0.005"]  # fmt: skip
WHOLE = [0, 1, -1, 2, 7, -7, 10, 99, 100, -100, 12_345, 2**31 - 1, -(2**31), 2**40, -(2**40)]
EXACT = [
    Decimal(each)
    for each in ("0.00", "0.01", "-0.01", "0.05", "2.50", "-2.50", "3.15", "99.99", "-99.99", "1234567.89", "10.00")
]
FLOATS = [
    0.0,
    -0.0,
    0.5,
    -0.5,
    1.5,
    2.5,
    0.1,
    1 / 3,
    -1 / 3,
    1e-9,
    1e9,
    123456.789,
    4503599627370497.5,
    1e15 + 0.3,
    -1.5e-7,
    9.1e17,
]
DAYS = [date(1969, 12, 31), date(1970, 1, 1), date(2000, 2, 29), date(2023, 1, 1), date(2024, 2, 29), date(2024, 12, 30), date(2024, 12, 31),
        date(2026, 1, 4), date(1900, 3, 1), date(2099, 12, 31)]  # fmt: skip
ROWS = 120


def frame(seed: int) -> pa.Table:
    """Rows of awkward values, every fifth null, with two columns of each type."""
    drawn = random.Random(seed)

    def some(values: list[Any]) -> list[Any]:
        return [None if drawn.random() < 0.2 else drawn.choice(values) for _ in range(ROWS)]

    moments = [datetime.combine(day, datetime.min.time()) + timedelta(seconds=drawn.randrange(86400)) for day in DAYS]
    columns: dict[str, pa.Array] = {
        "n": pa.array(list(range(ROWS))),
        "g": pa.array([drawn.choice("pqr") for _ in range(ROWS)]),
    }
    for name, values, type_ in (("i", WHOLE, pa.int64()), ("d", EXACT, pa.decimal128(18, 2)), ("f", FLOATS, pa.float64()),
                                ("t", TEXTS, pa.string()), ("day", DAYS, pa.date32()), ("at", moments, pa.timestamp("us"))):  # fmt: skip
        columns[name], columns[f"{name}2"] = pa.array(some(values), type_), pa.array(some(values), type_)
    columns["b"] = pa.array(some([True, False]))
    return pa.table(columns)


#: Formulas of one row: every function and operator, on every type that it takes.
ROW_FORMULAS = [
    "i + i2", "i - 1", "i * 3", "i % 1000 * d", "d + d2", "d - i", "d * d2", "f + f2", "f * i", "i / i2", "d / d2", "f / f2", "i % i2", "i % 7", "-i", "-d", "-f",
    "abs(i)", "abs(d)", "abs(f)", "round(d, 1)", "round(d, 0)", "round(f, 2)", "round(f, 0)", "round(i, 0)", "floor(d)", "ceil(d)", "floor(f)", "ceil(f)",
    "sqrt(abs(d))", "sqrt(f)", "exp(d / 1000000)", "ln(i)", "ln(f)", "power(f, 2)", "power(2, i % 7)", "power(d, 0.5)",
    "plus(i, i2)", "plus(d, i)", "plus(f, d)", "plus(null, i)", "least(i, i2)", "greatest(d, d2)", "least(f, f2, 0)", "greatest(t, t2)", "least(day, day2)",
    "coalesce(i, i2, 0)", "coalesce(t, 'none')", "coalesce(day, day2)", "nullif(i, 1)", "nullif(t, 'a')", "nullif(d, 2.5)",
    "t || t2", "upper(t)", "lower(t)", "trim(t)", "length(t)", "substring(t, 2, 3)", "substring(t, 1, 1)", "substring(t, 2, 0)", "substring(t, 9, 4)",
    "year(day)", "quarter(day)", "month(day)", "week(day)", "day(day)", "weekday(day)", "year(at)", "month(at)", "day(at)", "hour(at)", "minute(at)", "second(at)",
    "date(at)", "day - day2", "day + 1", "day - 30", "period(day by month)", "period(day by quarter)", "period(day by week)",
    "band(i by 10)", "band(d by 0.5)", "band(f at 0, 1)", "band(i at -10, 0, 10)",
    "cast(i as text)", "cast(d as text)", "cast(f as text)", "cast(f2 * 1e15 as text)", "cast(f2 / 1e4 as text)", "cast(f2 * 9007199254740993.5 as text)", "cast(d as integer)", "cast(f as integer)", "cast(f as decimal(2))", "cast(t as integer)", "cast(t as decimal(2))",
    "cast(t as date)", "cast(i as float)", "cast(i as decimal(1))", "cast(day as text)", "cast(b as text)", "cast(at as date)",
    "case when i > 0 then 'up' when i < 0 then 'down' else t end", "case when b then d end", "case when t like 'a%' then 1 else 0 end",
]  # fmt: skip

#: Conditions, each counted over the rows for which it holds, and listed row by row.
CONDITIONS = [
    "i = i2", "i <> i2", "i < d", "d >= f", "f > 0.5", "t < t2", "t <= 'a'", "t = 'A'", "t <> ''", "day < day2", "day = date '2024-02-29'", "date(at) > day", "b", "not b", "b = true",
    "b and i > 0", "b or i > 0", "not (i > 0 and d > 0)", "i in (1, 7, 99)", "i in (1, null)", "t in ('a', 'A', '')", "d in (2.5, 0.01)", "i not in (0, 1)",
    "t like 'a%'", "t like '%_%'", "t like '_'", "t like '%e%'", "i is null", "t is not null", "(i > 0) is null", "(i > 0) = b", "day in (date '1970-01-01', date '2024-12-31')",
]  # fmt: skip

#: Formulas of many rows.
AGGREGATED = [
    "sum(t.i)", "sum(t.d)", "sum(t.f)", "sum(t.i % 100 * t.d)", "avg(t.i)", "avg(t.d)", "avg(t.f)", "avg(t.d weighted by abs(t.i2 % 9))", "min(t.i)", "max(t.d)", "min(t.f)", "max(t.t)",
    "min(t.t)", "min(t.day)", "max(t.at)", "median(t.i)", "median(t.d)", "median(t.f)", "percentile(0.9 of t.d)", "percentile(0.25 of t.f)", "count(t)", "count(t.t)",
    "count(distinct t.t)", "count(distinct t.d)", "count(distinct t.f)", "count(distinct t.day)", "stddev(t.d)", "variance(t.f)", "stddev_pop(t.i % 100)",
    "variance_pop(t.d)", "first(t.t by t.i)", "last(t.d by t.day)", "first(t.i by t.t)", "last(t.n by t.f)", "sum(t.i) / count(t)",
    "sum(t.d)[where t.i > 0]", "max(t.n)[where t.t = 'a']", "coalesce(sum(t.i)[where t.i is null], 0)", "sum(t.i) / nullif(sum(t.i2), 0)",
]  # fmt: skip


def awkward(engine: Any) -> tuple[relatum.Model, relatum.Model]:
    """The same rows here and on an engine, with every row formula as a derived column."""
    here, there = relatum.Model("awkward"), relatum.Model("awkward", engine=engine)
    for model in (here, there):
        with model.edits():
            model.add_table("t", frame(11), key="n")
            for at, formula in enumerate(ROW_FORMULAS):
                model.derive("t", f"w{at}", formula)
            for at, condition in enumerate(CONDITIONS):
                model.derive("t", f"c{at}", condition)
    return here, there


@pytest.fixture(
    scope="module",
    params=[pytest.param(kind, marks=pytest.mark.xdist_group(f"values {kind}")) for kind in ("duckdb", "postgresql")],
)
def pair(request: pytest.FixtureRequest) -> Iterator[tuple[relatum.Model, relatum.Model]]:
    here, there = awkward(engine_for(request))
    yield here, there
    there.close()


def alike(one: Any, other: Any) -> bool:
    """Equal to the last digit; floats to nine of them."""
    if type(one) is not type(other):
        return False
    if isinstance(one, float):
        return math.isclose(one, other, rel_tol=1e-9, abs_tol=1e-12)
    return bool(one == other)


def told(model: relatum.Model, formula: str, rows: str = "t.n") -> list[Any]:
    grid = model.pivot(rows, values={"w": formula}, totals=rows == "t.g", show_empty=True)
    return [(record[rows], record["w"]) for record in grid.to_arrow().to_pylist()]


def differing(pair: tuple[relatum.Model, relatum.Model], formula: str, rows: str = "t.n") -> list[Any]:
    here, there = told(pair[0], formula, rows), told(pair[1], formula, rows)
    assert len(here) == len(there)
    return [
        (mine, its) for mine, its in zip(here, there, strict=True) if mine[0] != its[0] or not alike(mine[1], its[1])
    ]


@pytest.mark.parametrize("at", range(len(ROW_FORMULAS)), ids=lambda at: ROW_FORMULAS[at])
def test_a_row_is_worth_the_same(pair: tuple[relatum.Model, relatum.Model], at: int) -> None:
    assert not differing(pair, f"sole(t.w{at})")


@pytest.mark.parametrize("at", range(len(CONDITIONS)), ids=lambda at: CONDITIONS[at])
def test_a_condition_holds_for_the_same_rows(pair: tuple[relatum.Model, relatum.Model], at: int) -> None:
    assert not differing(pair, f"sole(t.c{at})")
    assert not differing(pair, f"count(t)[where t.c{at}]", "t.g")


@pytest.mark.parametrize("formula", AGGREGATED)
def test_a_group_is_worth_the_same(pair: tuple[relatum.Model, relatum.Model], formula: str) -> None:
    assert not differing(pair, formula, "t.g")


@pytest.mark.parametrize("name", ["i", "d", "f", "t", "day", "at", "b"])
@pytest.mark.parametrize(
    "order", ["", "by t.{} desc", "by max(t.n) desc", "top 3 by sum(t.n)", "bottom 4 by sum(t.i % 100) with others"]
)
def test_members_come_in_the_same_order(pair: tuple[relatum.Model, relatum.Model], name: str, order: str) -> None:
    axis = f"t.{name} {order.format(name)}".strip()
    here, there = (model.pivot(axis, values="count(t), sum(t.n)").to_text(120) for model in pair)
    assert here == there
