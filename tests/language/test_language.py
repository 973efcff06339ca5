"""The language beyond plain aggregates, where a hand-worked model says more than a random one."""

from __future__ import annotations

from datetime import date
from typing import Any

import pyarrow as pa
import pytest

import relatum


def rows_of(grid: Any) -> list[tuple[Any, ...]]:
    """A grid's tidy rows as tuples."""
    return [tuple(record.values()) for record in grid.to_arrow().to_pylist()]


# -- relationships ---------------------------------------------------------------------------------------------------


def clubs(direction: str) -> relatum.Model:
    """People, the clubs that they are in, and what they pay."""
    model = relatum.Model()
    model.add_table("person", pa.table({"person": ["ann", "bob", "cyd", None]}))
    model.add_table(
        "membership",
        pa.table(
            {"person": ["ann", "ann", "bob", "eve"], "club": ["chess", "choir", "chess", "choir"], "fee": [1, 2, 4, 8]}
        ),
    )
    model.add_table("payment", pa.table({"person": ["ann", "ann", "bob", "cyd", "dan"], "paid": [10, 20, 30, 40, 50]}))
    model.relate("payment.person -> person.person")
    model.relate("person.person >-< membership.person", direction=direction)
    model.measure("paid", "sum(payment.paid)")
    model.measure("fees", "sum(membership.fee)")
    return model


MANY = [
    ("left", "membership.club", "paid", [("chess", 60), ("choir", 30)]),
    ("left", "person.person", "fees", []),
    ("right", "person.person", "fees", [("ann", 3), ("bob", 4)]),
    ("right", "membership.club", "paid", []),
    ("both", "membership.club", "paid", [("chess", 60), ("choir", 30)]),
    ("both", "person.person", "fees", [("ann", 3), ("bob", 4)]),
]


@pytest.mark.parametrize(("direction", "rows", "value", "expected"), MANY)
def test_many_to_many_filters_travel_as_the_direction_says(
    direction: str, rows: str, value: str, expected: list[Any]
) -> None:
    model = clubs(direction)
    grid = model.pivot(rows=rows, values=value, totals=False)
    assert [row for row in rows_of(grid) if row[-1] is not None] == expected
    # Ann is in two clubs: her 30 counts in each, and once in the total.
    assert model.evaluate("paid") == 150


def test_a_row_is_seen_once_however_many_related_rows_are() -> None:
    model = clubs("left")
    assert model.evaluate("paid", "membership.club in ('chess', 'choir')") == 60
    assert model.evaluate("paid", "membership.club = 'chess' and membership.fee > 1") == 30
    assert model.evaluate("paid", "membership.club = 'choir' and membership.fee < 2") is None


def test_one_to_one_looks_up_both_ways(stall: relatum.Model) -> None:
    stall.add_table("detail", pa.table({"product": ["fig", "oak", "ash"], "height": [2, 20, 15]}))
    stall.relate("product.product <-> detail.product")
    assert stall.evaluate("sum(product.price * detail.height)") == 5 * 2 + 100 * 20
    assert stall.evaluate("quantity", "detail.height > 10") == 1
    assert stall.evaluate("sum(detail.height)", "product.kind = 'fruit'") == 2
    with pytest.raises(relatum.DataError, match="is a one side of"):
        stall.add_table("twice", pa.table({"product": ["ash", "ash"]}))
        stall.relate("twice.product <-> detail.product")


def test_both_lets_filters_travel_back() -> None:
    model = relatum.Model()
    model.add_table("sales", pa.table({"p": [1, 1, 2], "c": ["x", "y", "y"]}))
    model.add_table("product", pa.table({"p": [1, 2, 3]}), key="p")
    model.relate("sales.p -> product.p", direction="both")
    assert rows_of(model.pivot(rows="sales.c", values="count(product)", totals=False)) == [("x", 1), ("y", 2)]
    assert model.evaluate("count(product)") == 3, "without a filter, products without sales stay"


def test_standby_is_used_only_where_a_formula_says_via(stall: relatum.Model) -> None:
    stall.add_table(
        "order", pa.table({"came": [date(2024, 1, 5), date(2024, 1, 6)], "left": [date(2024, 2, 5), None], "n": [1, 2]})
    )
    stall.relate("order.came -> calendar.date")
    stall.relate("order.left -> calendar.date", standby=True)
    assert rows_of(stall.pivot(rows="calendar.month", values={"came": 'sum("order".n)', "left": 'sum("order".n)[via "order".left]'}, totals=False)) == [
        ("2024-01", False, 3, None), ("2024-02", False, None, 1), (None, True, None, 2),
    ]  # fmt: skip
    assert stall.evaluate('max(calendar.month[via "order".left] over "order")') == "2024-02"


def test_several_calendars_need_on(stall: relatum.Model) -> None:
    stall.add_role("due", "calendar")
    stall.add_table(
        "bill",
        pa.table(
            {"sent": [date(2024, 1, 5), date(2024, 6, 1)], "due_on": [date(2024, 2, 5), date(2024, 7, 1)], "n": [7, 1]}
        ),
    )
    stall.relate("bill.sent -> calendar.date")
    stall.relate("bill.due_on -> due.date")
    with pytest.raises(relatum.FormulaError, match="calendar and due both reach bill") as caught:
        stall.evaluate("sum(bill.n)[back 1 month]", "calendar.month = '2024-02'")
    assert "on calendar" in caught.value.fix
    assert stall.evaluate("sum(bill.n)[back 1 month on calendar]", "calendar.month = '2024-02'") == 7
    assert (
        stall.evaluate("sum(bill.n)[back 1 month on due]", "due.month = '2024-03' and calendar.month = '2024-01'") == 7
    )


def test_a_route_that_a_formula_opens_is_checked(stall: relatum.Model) -> None:
    with pytest.raises(relatum.FormulaError, match="Two routes lead from target to calendar"):
        stall.evaluate("goal[both ways sales.product, both ways product.kind]", "calendar.month = '2024-02'")


# -- derived columns and tables --------------------------------------------------------------------------------------


def test_derived_columns_aggregate_under_their_row(stall: relatum.Model) -> None:
    stall.derive("product", "sold", "sum(sales.quantity)")
    stall.derive("product", "share", "sold / sum(product.sold)[ignoring product]")
    stall.derive("customer", "first_day", "min(sales.sold_on)")
    stall.derive("sales", "part", "quantity / sum(sales.quantity)[only product]")
    assert [row[-1] for row in rows_of(stall.pivot(rows="product.product", values="max(product.sold)"))] == [4, 1, 5]
    assert stall.evaluate("sum(product.share)") == pytest.approx(1.0)
    assert stall.evaluate("min(customer.first_day)") == date(2024, 1, 30)
    assert stall.evaluate("max(customer.first_day)") == date(2024, 2, 1)
    assert stall.evaluate("sum(sales.part)", "product.product = 'fig'") == pytest.approx(1.0)


def test_derived_columns_in_a_circle_are_refused(stall: relatum.Model) -> None:
    stall.derive("product", "one", "sum(sales.quantity)")
    with pytest.raises(relatum.ModelError, match=r"circle: product\.two -> product\.two"):
        stall.derive("product", "two", "sum(product.two)")


def test_a_derived_table_puts_two_facts_side_by_side(stall: relatum.Model) -> None:
    stall.add_derived_table("by_kind", "kind.kind", {"revenue": "revenue", "goal": "goal"}, about="both facts")
    stall.relate("by_kind.kind -> kind.kind")
    stall.measure("gap", "sum(plus(by_kind.revenue, -by_kind.goal))")
    found = {row[0]: row[-1] for row in rows_of(stall.pivot(rows="kind.family", values="gap", totals=False))}
    assert {name: float(value) for name, value in found.items()} == {
        "food": -5.5,
        "wall": 28.0,
        "wood": pytest.approx(0.01),
    }
    assert stall.evaluate("count(by_kind)") == 3, "ferns have neither, and are left out"
    for per, columns, message in (
        ((), {"a": "1"}, "no grain"), ("kind.kind", {}, "no formulas"), ("kind.kid", {"a": "1"}, "is not a column"),
        ("kind.kind", {"kind": "1"}, "two columns called kind"), ("kind.kind", {"a": "nothing"}, "no measure nothing"),
    ):  # fmt: skip
        with pytest.raises(relatum.RelatumError, match=message):
            stall.add_derived_table("other", per, columns)


# -- grids and notes -------------------------------------------------------------------------------------------------


def test_shares_of_axes_rows_columns_and_the_innermost(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(
        rows=["kind.family", "product.product"], columns="customer.region",
        values={name: f"quantity[ignoring {name}]" for name in ("axes", "rows", "columns", "innermost")}, totals=False,
    )  # fmt: skip
    fig_north = next(
        record
        for record in grid.to_arrow().to_pylist()
        if record["product.product"] == "fig" and record["customer.region"] == "North"
    )
    assert {name: fig_north[name] for name in ("axes", "rows", "columns", "innermost")} == {
        "axes": 15,
        "rows": 6,
        "columns": 5,
        "innermost": 2,
    }


NOTES = [
    ("quantity[back 1 month]", {}, "period", "no period of calendar is chosen"),
    (
        "quantity[pin calendar.year = 2024]",
        {"rows": "calendar.month"},
        "finer",
        "has no effect: calendar.month is on an axis",
    ),
    ("sum(quantity per customer)", {}, "member", "leaves out the (no match) member of customer"),
    ("sum(quantity per customer.region)", {}, "member", "leaves out the (no match) member of customer"),
    ("sum(quantity per customer)", {"where": "customer.region = 'North'"}, "member", None),
    ("sum(quantity + coalesce(revenue, 0) per customer)", {}, "member", "leaves out the (no match) member of customer"),
    ("sum(coalesce(goal, 1) per customer)", {}, "member", None),
    ("sum(quantity per (customer.region, product.kind))", {}, "member", "leaves out the (no match) member of customer"),
    (
        "quantity[keep top 1 customer by quantity]",
        {},
        "member",
        "keep top 1 customer by quantity leaves out the (no match) member",
    ),
    (
        "quantity[keep customer where quantity > 0]",
        {},
        "member",
        "keep customer where quantity > 0 leaves out the (no match) member",
    ),
    ("quantity[keep customer where quantity > 10000]", {}, "member", None),
    (
        "rank(quantity among customer)",
        {"rows": "customer.customer"},
        "member",
        "rank(quantity among customer) leaves out",
    ),
    ("rank(quantity among product.product)", {}, "among", "no current member"),
    (
        "max(goal per customer)",
        {"rows": "customer.region"},
        "unrelated",
        "sum(target.amount) has no value by customer",
    ),
    ("quantity[year to date]", {"where": "calendar.date >= date '2024-12-30'"}, "period", None),
    (
        "count(case when sales.quantity is null then cast(sales.note as integer) else 1 end)",
        {"where": "sales.quantity is not null"},
        "cast",
        "sales.note is not a valid integer in 4 rows of sales",
    ),
]


@pytest.mark.parametrize(("formula", "question", "kind", "text"), NOTES)
def test_a_note_says_what_a_reader_should_know(
    shared_stall: relatum.Model, formula: str, question: dict[str, str], kind: str, text: str | None
) -> None:
    notes = [note.text for note in shared_stall.pivot(values={"v": formula}, **question).notes if note.kind == kind]
    if text is None:
        assert not notes
    else:
        assert any(text in note for note in notes), notes


def test_a_row_that_finds_nothing_twice_is_noted_of_both() -> None:
    model = relatum.Model("lost")
    model.add_table("sale", pa.table({"shop": ["x", "a"], "good": ["x", "b"], "n": [1, 2]}))
    for name, key in (("shop", "a"), ("good", "b")):
        model.add_table(name, pa.table({name: [key]}))
        model.relate(f"sale.{name} -> {name}.{name}")
    grid = model.pivot(values="v: max(sum(sale.n) per (shop.shop, good.good))")
    assert grid.to_arrow(totals=True).to_pylist() == [{"v": 2}]
    assert [note.text.partition(" leaves out ")[2] for note in grid.notes] == [
        f"the (no match) member of {name}, which has a value." for name in ("shop", "good")
    ]


def test_the_end_of_the_data_cuts_a_period_and_says_so() -> None:
    model = relatum.Model()
    model.add_table(
        "sales",
        pa.table(
            {"day": [date(2023, 1, 31), date(2023, 2, 10), date(2023, 2, 20), date(2024, 2, 15)], "n": [1, 2, 4, 8]}
        ),
    )
    model.add_calendar("calendar", date(2023, 1, 1), date(2024, 12, 31))
    model.relate("sales.day -> calendar.date")
    grid = model.pivot(values="sum(sales.n)[back 1 year]", where="calendar.month = '2024-02'")
    assert grid.to_arrow().to_pylist() == [{"sum(sales.n)[back 1 year]": 2}], "only up to 15 February"
    assert any("The data ends on 2024-02-15" in note.text for note in grid.notes)
    other = relatum.Model()
    other.add_table("sales", pa.table({"day": [date(2023, 2, 10), date(2023, 2, 20)], "n": [2, 4]}))
    other.add_calendar("calendar", date(2023, 1, 1), date(2024, 12, 31), through=date(2024, 2, 29))
    other.relate("sales.day -> calendar.date")
    assert other.evaluate("sum(sales.n)[back 1 year]", "calendar.month = '2024-02'") == 6


def test_a_calendar_of_ones_own(stall: relatum.Model) -> None:
    days = [date(2024, 1, 1), date(2024, 1, 2), date(2024, 2, 1)]
    model = relatum.Model()
    model.add_table("days", pa.table({"day": days, "holiday": [False, True, False]}), key="day", calendar=True)
    model.add_table("sales", pa.table({"day": days, "n": [1, 2, 4]}))
    model.relate("sales.day -> days.day")
    assert model.evaluate("sum(sales.n)[month to date]", "days.day = date '2024-01-02'") == 3
    assert model.evaluate("sum(sales.n)[whole month]", "days.day = date '2024-01-01' and not days.holiday") == 1, (
        "a holiday is no period"
    )
    with pytest.raises(relatum.ModelError, match="its key is not a date"):
        stall.add_table("wrong", pa.table({"k": [1]}), key="k", calendar=True)


def test_how_a_formula_was_understood(shared_stall: relatum.Model) -> None:
    reading = shared_stall.formula("revenue / avg(quantity per customer)")
    assert reading.type == "float"
    assert [each.over for each in reading.aggregates] == ["rows of sales", "members of customer", "rows of sales"]
    assert reading.aggregates[0].lookups == ("product.price by sales -> product",)
    assert "calendar" in reading.aggregates[0].filtered_by
    assert "over: rows of sales" in str(reading)


COARSE = [
    # A coarse fact under dates that a change moved: which months count, and whether a note says that one counts in full.
    ("amount[back 1 month]", "calendar.month = '2024-03'", 20, False),
    ("amount[year to date]", "calendar.month = '2024-03'", 70, False),
    ("amount[back 10 days]", "calendar.month = '2024-03'", 60, True),
    ("amount[trailing 32 days]", "calendar.quarter = '2024-Q1'", 60, True),
    ("amount[whole quarter]", "calendar.month = '2024-02'", 70, False),
]


@pytest.mark.parametrize(("formula", "where", "expected", "noted"), COARSE)
def test_a_coarse_fact_is_seen_by_the_periods_that_moved_dates_touch(
    formula: str, where: str, expected: int, noted: bool
) -> None:
    model = relatum.Model()
    model.add_table("budget", pa.table({"month": ["2024-01", "2024-02", "2024-03"], "amount": [10, 20, 40]}))
    model.add_calendar("calendar", date(2023, 1, 1), date(2024, 12, 31))
    model.relate("budget.month -> calendar.month", level=True)
    model.measure("amount", "sum(budget.amount)")
    grid = model.pivot(values={"v": formula}, where=where)
    assert rows_of(grid) == [(expected,)]
    assert any("only part of some" in note.text for note in grid.notes) is noted
