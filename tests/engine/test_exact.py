"""Exact values: whole numbers and decimals at the edges of 64 bits, against Python's own numbers."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import date
from decimal import Decimal, localcontext
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import relatum
from relatum.data.columns import Column, exact_column
from relatum.data.types import FLOAT, INTEGER
from relatum.data.types import decimal as decimal_type
from relatum.engine.memory import distinct
from relatum.engine.memory.folds import fold_maker
from relatum.engine.memory.kernels import evaluate

LOWEST, HIGHEST = -(2**63), 2**63 - 1
WIDE = (
    st.integers(LOWEST, HIGHEST)
    | st.integers(-(2**53) - 2, -(2**53) + 2)
    | st.integers(2**53 - 2, 2**53 + 2)
    | st.integers(-9, 9)
)


def ask(values: list[int | None], formula: str) -> Any:
    """A formula over one integer column t.v."""
    model = relatum.Model()
    model.add_table("t", pa.table({"v": pa.array(values, pa.int64())}))
    return model.evaluate(formula)


@settings(max_examples=60, deadline=None)
@given(st.lists(WIDE | st.none(), min_size=1, max_size=30))
def test_integer_sums_are_exact_or_an_error(values: list[int | None]) -> None:
    known = [value for value in values if value is not None]
    if known and not LOWEST <= sum(known) <= HIGHEST:
        with pytest.raises(relatum.ValueOverflowError, match="does not fit in 64 bits"):
            ask(values, "sum(t.v)")
    else:
        assert ask(values, "sum(t.v)") == (sum(known) if known else None)


#: Limits of the table of marks under which it is made at once, once there are pairs enough, and never.
MARKED = [(1 << 20, 64, 8), (0, 3, 1), (0, 3, 64), (0, 0, 1)]


@pytest.mark.parametrize("limits", MARKED)
def test_different_codes_are_counted_however_they_are_kept_cut_chosen_and_regrouped(
    limits: tuple[int, int, int], monkeypatch: pytest.MonkeyPatch
) -> None:
    for name, limit in zip(("_MARKS", "_ONE_IN", "_WIDE"), limits, strict=True):
        monkeypatch.setattr(distinct, name, limit)

    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(st.tuples(st.integers(0, 4), st.none() | st.integers(0, 9)), max_size=40),
        st.integers(1, 40),
        st.data(),
    )
    def compare(rows: list[tuple[int, int | None]], step: int, data: st.DataObject) -> None:
        total = distinct.DistinctFold(5)
        for start in range(0, len(rows), step):
            part = rows[start : start + step]
            codes, nulls = (
                np.array([code or 0 for _, code in part], np.uint8),
                np.array([code is None for _, code in part]),
            )
            fold = distinct.DistinctFold(5)
            fold.add(np.array([group for group, _ in part]), Column(INTEGER, codes, nulls, None, 0, 9), len(part))
            total.merge(fold)
        known = [{code for group, code in rows if group == own and code is not None} for own in range(5)]
        assert total.counts.tolist() == list(map(len, known))
        chosen = data.draw(st.lists(st.integers(0, 4), min_size=1, max_size=7))
        picked = total.at(np.array(chosen))
        assert picked.counts.tolist() == [len(known[own]) for own in chosen]
        again = data.draw(st.lists(st.integers(0, len(chosen) - 1), min_size=1))
        assert picked.at(np.array(again)).counts.tolist() == [len(known[chosen[own]]) for own in again]
        into = data.draw(st.lists(st.integers(0, 2), min_size=len(chosen), max_size=len(chosen)))
        coarse = [
            set().union(*(known[own] for own, at in zip(chosen, into, strict=True) if at == one)) for one in range(3)
        ]
        assert picked.regrouped(np.array(into), 3).counts.tolist() == list(map(len, coarse))
        both = distinct.DistinctFold.beside([picked, total])
        assert both.counts.tolist() == [len(known[own]) for own in (*chosen, *range(5))]

    compare()


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 4), WIDE), min_size=1, max_size=60), st.integers(1, 9))
def test_folds_merge_to_the_same_sum_however_rows_are_cut(rows: list[tuple[int, int]], step: int) -> None:
    total = fold_maker("sum", INTEGER)(5)
    for start in range(0, len(rows), step):
        part = rows[start : start + step]
        fold = fold_maker("sum", INTEGER)(5)
        column = exact_column(INTEGER, np.array([value for _, value in part], np.int64))
        fold.add(np.array([group for group, _ in part]), column, len(part))
        total.merge(fold)
    expected = [sum(value for group, value in rows if group == wanted) for wanted in range(5)]
    if all(LOWEST <= each <= HIGHEST for each in expected):
        assert total.totals().tolist() == expected
        coarser = total.regrouped(np.zeros(5, np.int64), 1)
        if LOWEST <= sum(expected) <= HIGHEST:
            assert coarser.totals().tolist() == [sum(expected)]
    else:
        with pytest.raises(relatum.ValueOverflowError):
            total.totals()


OPERATORS: dict[str, Callable[[int, int], int]] = {
    "+": lambda a, b: a + b,
    "-": lambda a, b: a - b,
    "*": lambda a, b: a * b,
}


@settings(max_examples=100, deadline=None)
@given(st.sampled_from("+-*"), st.lists(st.tuples(WIDE, WIDE), min_size=1, max_size=6))
def test_arithmetic_is_exact_or_an_error(operator: str, pairs: list[tuple[int, int]]) -> None:
    left, right = (exact_column(INTEGER, np.array(side, np.int64)) for side in zip(*pairs, strict=True))
    expected = [OPERATORS[operator](one, other) for one, other in pairs]
    try:
        got = evaluate(operator, [left, right], INTEGER)
    except relatum.ValueOverflowError:
        # Results within a hair of the limit are refused too.
        assert max(map(abs, expected)) > HIGHEST * (1 - 2**-48)
    else:
        assert got.values.tolist() == expected


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(WIDE, st.integers(0, 6), WIDE, st.integers(0, 6)), min_size=1, max_size=6))
def test_decimals_of_different_scale_compare_exactly(rows: list[tuple[int, int, int, int]]) -> None:
    for one, one_scale, other, other_scale in rows:
        left, right = _constant(one, one_scale), _constant(other, other_scale)
        with localcontext() as context:
            context.prec = 60
            order = Decimal(one).scaleb(-one_scale).compare(Decimal(other).scaleb(-other_scale))
        for operator, holds in (("<", order < 0), ("=", order == 0), (">=", order >= 0)):
            assert bool(evaluate(operator, [left, right], INTEGER).values[0]) is holds


def _constant(value: int, scale: int) -> Column:
    return exact_column(decimal_type(scale) if scale else INTEGER, np.array([value], np.int64))


def test_money_is_exact_far_beyond_what_floats_hold() -> None:
    cents = [Decimal("10000000000000.01"), Decimal("0.02"), Decimal("-0.01")] * 100
    model = relatum.Model()
    model.add_table("t", pa.table({"m": pa.array(cents, pa.decimal128(18, 2))}))
    assert model.evaluate("sum(t.m)") == sum(cents)
    assert model.evaluate("sum(t.m * 1.5)") == sum(cents) * Decimal("1.5")
    with pytest.raises(relatum.ValueOverflowError, match="does not fit in 64 bits"):
        model.evaluate("sum(t.m * t.m)")


def test_an_average_needs_no_sum_that_fits() -> None:
    assert ask([HIGHEST, HIGHEST, HIGHEST, None], "avg(t.v)") == pytest.approx(float(HIGHEST))
    assert ask([LOWEST, LOWEST], "avg(t.v)") == pytest.approx(float(LOWEST))


@pytest.mark.parametrize("function", ["stddev", "stddev_pop", "variance", "variance_pop"])
def test_equal_values_have_no_spread_at_all(function: str) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"x": [0.1, 0.1, 0.1, 1e9 + 0.1, 1e9 + 0.1, 1e9 + 0.1], "g": [1, 1, 1, 2, 2, 2]}))
    assert [model.evaluate(f"{function}(t.x)", f"t.g = {group}") for group in (1, 2)] == [0, 0]


def test_float_sums_have_the_same_bits_every_time() -> None:
    source = random.Random(5)
    values = [source.uniform(-1e9, 1e9) for _ in range(200_000)]
    model = relatum.Model()
    model.add_table("t", pa.table({"v": values, "g": [number % 7 for number in range(len(values))]}))
    first = model.pivot(rows="t.g", values="s: sum(t.v)").to_arrow(totals=True)["s"].to_pylist()
    again = model.pivot(rows="t.g", values="s: sum(t.v)").to_arrow(totals=True)["s"].to_pylist()
    assert first == again
    assert first[-1] == pytest.approx(sum(values), rel=1e-9)


def test_a_float_that_is_no_number_is_no_value() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"v": [1e308, 1e308]}))
    assert model.evaluate("sum(t.v)") is None
    assert model.evaluate("max(t.v) * 10") is None
    assert str(model.session.formulas.formula("sum(t.v)").type) == str(FLOAT)


@pytest.mark.parametrize(
    "day", [date(1, 1, 1), date(1582, 10, 15), date(1969, 12, 31), date(2100, 2, 28), date(9999, 12, 31)]
)
def test_dates_far_from_now(day: date) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"d": [day, None]}))
    written = f"date '{day.isoformat()}'"
    assert model.evaluate("max(t.d)") == day
    assert model.evaluate(f"year({written}) * 10000 + month({written}) * 100 + day({written})") == int(
        f"{day:%Y%m%d}".lstrip("0")
    )
    assert model.evaluate(f"weekday({written})") == day.isoweekday()
    assert model.evaluate(f"week({written})") == day.isocalendar().week
    assert model.pivot(rows="t.d", values="n: count(t)", where=f"t.d = {written}").to_arrow()["t.d"].to_pylist() == [
        day
    ]
