"""Plans: equal requests give equal ones, they carry what an engine needs, and small texts cost little or are refused."""

from __future__ import annotations

import random
import time
from datetime import date

import numpy as np
import pyarrow as pa
import pytest

import relatum
from agreement import build
from relatum.data import joins
from relatum.data.types import INTEGER, TEXT
from relatum.pivot.axes import resolve_request
from relatum.pivot.grains import wanted_of
from relatum.pivot.request import ask
from relatum.plan.describe import describe
from relatum.plan.nodes import Field, Plan
from stall import make_stall
from stars import random_case


def plan_of(model: relatum.Model, rows: str = "", values: str = "", where: str = "") -> Plan:
    resolved = resolve_request(model.session, ask(rows, values=values, where=where))
    return model.session.plan(wanted_of(resolved, False, 1_000_000))[0]


FORMULAS = [
    "revenue", "revenue / revenue[ignoring axes]", "let x = revenue then revenue[keep product where revenue > x / 4]", "avg(revenue per product)",
    "rank(revenue among product)", "running(quantity among kind.kind by quantity desc)", "goal[year to date, back 1 month]", "revenue[keep top 2 customer by quantity] - revenue",
    "case when narrowed(product.kind) then sole(product.kind) else 'all' end", "count(sales)[pin last calendar.month]", "quantity[where product.kind in ('tree', 'fruit')]",
]  # fmt: skip


@pytest.mark.parametrize("formula", FORMULAS)
def test_equal_requests_give_equal_plans(formula: str) -> None:
    first, second = (plan_of(make_stall(), "product.kind, customer.region", formula, "sales.paid") for _ in range(2))
    assert first == second and hash(first) == hash(second) and first is not second
    assert describe(first) == describe(second)
    assert plan_of(make_stall(), "product.kind", formula) != first


@pytest.mark.outside
def test_random_plans_are_equal_and_can_be_described() -> None:
    described = refused = 0
    for seed in range(25):
        case = random_case(random.Random(seed))
        try:
            one, other = build(case.star), build(case.star)
            rows = [f"{table}.{column}" for table, column in case.fields]
            values = {f"v{number}": formula for number, formula in enumerate(case.formulas)}
            plans = [plan_of(model, rows, values, case.where) for model in (one, other)]  # type: ignore[arg-type]
        except relatum.RelatumError:
            refused += 1
            continue
        assert plans[0] == plans[1]
        described += bool(describe(plans[0]))
    assert described + refused == 25 and refused <= 9


def test_the_same_filters_in_another_order_are_one_plan_node() -> None:
    keep, where = "keep product.kind where quantity > 1", "where customer.region = 'North'"
    plan = plan_of(
        make_stall(),
        "",
        f"a: avg(sales.quantity)[where sales.paid, {where}], b: avg(sales.quantity)[{where}, where sales.paid]",
    )
    (one,), (other,) = (formula.inputs for formula in plan.grains[0].formulas)
    assert one == other
    plan = plan_of(make_stall(), "", f"a: revenue[{keep}], b: let y = 1 then revenue[{keep}] * y")
    assert "as above" in describe(plan), "what is kept for both is one step"


def test_a_plan_carries_what_an_engine_needs() -> None:
    model = make_stall()
    model.derive("product", "dear", "price > 6")
    model.derive("product", "much", "case when dear then sum(sales.quantity) end")
    model.add_table(
        "rate", pa.table({"product": ["fig", "fig"], "start": [date(2024, 1, 1), date(2024, 2, 15)], "rate": [1, 2]})
    )
    model.relate("sales.(product, sold_on) -> rate.(product, start)", match="as_of", direction="off")
    plan = plan_of(
        model,
        "product.product",
        "v: sum(sales.quantity * rate.rate) + sum(product.much), m: goal[year to date], c: rank(revenue among product)",
    )
    assert [derivation.column for derivation in plan.derived] == ["dear", "much"]
    ((interval),) = plan.intervals
    assert (interval.by, interval.start) == (("product",), "start")
    assert plan.text_order == "code point"
    assert all(field.type is not None for field in plan.fields if field.column)
    assert {field.key[0][0] for field in plan.fields if field.table == "product" and not field.column} <= {"product"}
    said = describe(plan)
    assert "derived column product.much" in said and "on dates of calendar, year to date" in said


# -- bombs -----------------------------------------------------------------------------------------------------------


def quick(seconds: float) -> float:
    """When an action that begins now has taken too long; generous, since these took minutes or for ever."""
    return time.monotonic() + seconds


def test_measures_that_double_each_other_are_worked_out_once() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"x": [1, 2, 3]}))
    end = quick(20)
    with model.edits():
        model.measure("m0", "sum(t.x)")
        for number in range(1, 31):
            model.measure(f"m{number}", f"m{number - 1} + m{number - 1}")
    assert model.evaluate("m30") == 6 * 2**30
    assert model.check().ok and "m29" not in str(model.formula("m30")) and model.impact("m0").breaks
    assert time.monotonic() < end


def test_brackets_nested_deep_cost_no_more_than_they_say() -> None:
    model = make_stall()
    end = quick(20)
    formula = "revenue"
    for _ in range(14):
        formula = f"revenue[keep product where {formula} > 1]"
    assert model.evaluate(formula) == model.evaluate("revenue")
    assert time.monotonic() < end


def test_chains_are_followed_or_refused_with_the_count() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"x": [1, 2, 3]}))
    with model.edits():
        model.derive("t", "c0", "x")
        for number in range(1, 400):
            model.derive("t", f"c{number}", f"c{number - 1} + 1")
    assert model.evaluate("sum(t.c399)") == 6 + 3 * 399
    with (
        pytest.raises(relatum.FormulaError, match=r"measure m154: The formula nests 161 deep.*160"),
        model.edits(),
    ):
        model.measure("m0", "sum(t.x)")
        for number in range(1, 900):
            model.measure(f"m{number}", f"m{number - 1} + 1")
    model.measure("chain", " + ".join(["sum(t.x)"] * 100))
    assert model.evaluate("chain") == 600


@pytest.mark.outside
def test_a_long_list_is_one_look_up() -> None:
    model = relatum.Model()
    model.add_table(
        "t", pa.table({"x": np.arange(50_000) % 30_000, "s": [f"t{number % 30_000}" for number in range(50_000)]})
    )
    end = quick(20)
    for subject, write in (("t.x", str), ("t.s", lambda number: f"'t{number}'")):
        condition = f"{subject} in ({', '.join(map(write, range(0, 12_000, 2)))})"
        expected = sum(number % 30_000 < 12_000 and number % 2 == 0 for number in range(50_000))
        assert model.evaluate("count(t)", where=condition) == expected
        assert model.evaluate("count(t)", where=f"not {condition}") == 50_000 - expected
    assert time.monotonic() < end


def test_too_many_members_are_refused_with_the_count() -> None:
    model = relatum.Model()
    keys = np.arange(60_000)
    model.add_table("a", pa.table({"k": keys}), key="k")
    model.add_table("b", pa.table({"k": keys}), key="k")
    with pytest.raises(
        relatum.RequestError, match=r"evaluated for 3,600,000,000 members; the limit is 100,000,000 .members"
    ):
        model.evaluate("sum(count(a) + count(b) per (a.k, b.k))")


def test_too_many_dates_are_refused_with_the_count_and_sets_of_none_cost_nothing() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"d": [date(2024, 1, 1), date(2024, 1, 3)], "x": [1, 2]}))
    model.add_calendar("calendar", date(1900, 1, 1), date(2100, 12, 31))
    model.relate("t.d -> calendar.date")
    with pytest.raises(relatum.RequestError, match=r"45,2\d\d sets of dates out of the 73,4\d\d dates of calendar"):
        model.pivot(rows="calendar.date", values="sum(t.x)[to date]")
    model.add_calendar("calendar", date(2023, 1, 1), date(2100, 12, 31), replace=True)
    grid = model.pivot(rows="calendar.date", values="v: sum(t.x)[to date]", totals=False)
    assert grid.to_arrow()["v"].to_pylist() == [1, 1, 3]


def test_many_equal_keys_on_both_sides_meet_as_keys() -> None:
    model = relatum.Model()
    size = 20_000
    model.add_table("a", pa.table({"k": np.ones(size, np.int64), "g": np.arange(size) % 3}))
    model.add_table("b", pa.table({"k": np.ones(size, np.int64), "h": np.arange(size) % 4}))
    model.relate("a.k >-< b.k", direction="left")
    end = quick(20)
    assert model.pivot(rows="b.h", values="n: count(a)").to_arrow(totals=True)["n"].to_pylist() == [size] * 5
    assert model.check().ok
    assert time.monotonic() < end


def test_an_edit_keeps_the_joins_that_it_does_not_touch(monkeypatch: pytest.MonkeyPatch) -> None:
    model = make_stall()
    before = model.pivot(rows="kind.family, calendar.month", values="revenue, goal").to_arrow()
    built: list[str] = []
    plain = joins.build_join_index
    monkeypatch.setattr(
        "relatum.engine.memory.store.build_join_index",
        lambda related, *rest, **named: built.append(str(related)) or plain(related, *rest, **named),
    )
    model.derive("product", "twice", "price * 2")
    model.measure("more", "revenue * 2")
    model.add_table("extra", pa.table({"x": [1]}))
    assert model.pivot(rows="kind.family, calendar.month", values="revenue, goal").to_arrow() == before
    assert built == []
    model.add_table("kind", pa.table({"kind": ["fruit"], "family": ["food"]}), key="kind", replace=True)
    model.pivot(rows="kind.family", values="revenue")
    assert built == ["product.kind -> kind.kind", "target.kind -> kind.kind"]


WRITTEN = [
    ("quantity + 2.50", "2.50"), ("quantity - 0.001", "0.001"), ("quantity * -3", "-3"), ("max(sales.sold_on) > date '2024-02-29'", "date '2024-02-29'"),
    ("case when max(sales.sold_on) is null then timestamp '2024-05-31 12:30:00' end", "timestamp '2024-05-31 12:30:00'"), ("coalesce(quantity, 1e3)", "1000.0"),
    ("count(sales)[where sales.note in ('x', 'it''s')]", "'it''s'"), ("count(sales)[where not sales.paid]", "not sales.paid"), ("count(sales)[where sales.note is null]", "sales.note is null"),
    ("case when quantity > 2 then 'much' else null end", "else null"), ("- quantity", "-#1"), ("round(quantity / 3, 2)", "round("), ("count(sales)[where product is no match]", "product is no match"),
    ("count(sales)[where sales.note like 'x%']", "(sales.note like 'x%')"), ("count(sales)[where sales.paid or sales.quantity > 3]", "or"),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "written"), WRITTEN)
def test_a_plan_writes_constants_and_operators_as_formulas_do(formula: str, written: str) -> None:
    assert written in make_stall().formula(formula).plan


def test_equal_records_are_not_unequal() -> None:
    one, other = (Field("sales", "product_id", INTEGER) for _ in range(2))
    assert one == other and (one != other) is False
    assert one != Field("sales", "product_id", TEXT) and one != "sales"


def test_an_edit_keeps_derived_columns_that_it_does_not_change() -> None:
    model = relatum.Model()
    model.add_table("sales", pa.table({"x": [1, 2, 3]}))
    model.derive("sales", "twice", "x * 2")
    before = model.session.store.column("sales", "twice")
    model.measure("total", "sum(sales.twice)")
    assert model.session.store.column("sales", "twice") is before
    model.derive("sales", "twice", "x * 3", replace=True)
    assert model.session.store.column("sales", "twice").values.tolist() == [3, 6, 9]
