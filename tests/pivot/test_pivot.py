"""Grids: which cells, in which order, with which totals and notes, and in which shapes they are handed out."""

from __future__ import annotations

import csv
import io
import json
from datetime import date
from decimal import Decimal
from typing import Any

import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import relatum


def rows_of(grid: Any, totals: bool = False) -> list[tuple[Any, ...]]:
    """A grid's tidy rows as tuples."""
    return [tuple(record.values()) for record in grid.to_arrow(totals).to_pylist()]


def test_members_stand_in_their_order_and_no_match_last(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows="product.product", values="quantity")
    # Plants are ordered by shelf: ivy 1, oak 2, fig 3.
    assert rows_of(grid) == [("ivy", False, 4), ("oak", False, 1), ("fig", False, 5), (None, True, 5)]
    regions = shared_stall.pivot(rows="customer.region", values="quantity")
    assert rows_of(regions) == [("North", False, 6), ("South", False, 8), (None, True, 1)]
    notes = shared_stall.pivot(rows="sales.note", values="quantity")
    assert rows_of(notes) == [("", 5), ("x", 3), ("y", 4), (None, 3)], "a null of the table itself is a member"
    days = shared_stall.pivot(rows="calendar.weekday", values="quantity")
    assert [row[0] for row in rows_of(days)] == ["Tuesday", "Thursday", "Friday", "Saturday"]


def test_subtotals_are_evaluated_at_their_own_grain(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(
        rows=["kind.family", "product.product"],
        columns="customer.region",
        values={"n": "count(distinct sales.customer)"},
    )
    table = grid.to_pandas()
    assert table.loc[("food", "total"), "total"] == 3
    assert table.loc[("total", "total"), "total"] == 3, "distinct customers of all, not a sum of cells"
    assert table.loc[("food", "fig"), "North"] == 1
    assert pd.isna(table.loc[("wood", "oak"), "North"])


def test_totals_of_every_depth_are_in_the_tidy_table(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows=["kind.family", "product.product"], columns="customer.region", values="quantity")
    records = grid.to_arrow(totals=True).to_pylist()
    depths = {
        tuple(record[f"{name}:total"] for name in ("kind.family", "product.product", "customer.region"))
        for record in records
    }
    assert depths == {(False, False, False), (False, False, True), (False, True, False), (False, True, True),
                      (True, True, False), (True, True, True)}  # fmt: skip
    grand = next(record for record in records if record["kind.family:total"] and record["customer.region:total"])
    assert grand["quantity"] == 15


def test_without_totals_only_the_full_grain_is_worked_out(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows="customer.region", values="quantity", totals=False)
    assert len(grid.result.cells) == 1
    assert "total" not in str(grid)


def test_an_unrelated_column_blanks_and_says_so(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows="customer.region", values=["quantity", "goal"])
    assert [row[-1] for row in rows_of(grid)] == [None, None, None]
    assert grid.to_arrow(totals=True).to_pylist()[-1]["goal"] == Decimal("130.49"), "the total involves no region"
    (note,) = [note for note in grid.notes if note.kind == "unrelated"]
    assert "sum(target.amount) has no value by customer.region" in note.text
    assert "no relationship leads from target to customer" in note.text
    alone = shared_stall.pivot(rows="customer.region", values="goal")
    assert rows_of(alone) == [], "no row appears for what has no value"


def test_a_measure_may_repeat_instead(stall: relatum.Model) -> None:
    stall.measure("whole_goal", "sum(target.amount)", unrelated="repeat")
    grid = stall.pivot(rows="customer.region", values=["quantity", "whole_goal"])
    assert {row[-1] for row in rows_of(grid)} == {Decimal("130.49")}
    assert not grid.notes
    calls = stall.pivot(rows="customer.region", values=["quantity", "x: whole_goal * 2"])
    assert {row[-1] for row in rows_of(calls)} == {Decimal("260.98")}, "whoever calls it"


def test_empty_members_are_shown_when_asked(shared_stall: relatum.Model) -> None:
    plain = shared_stall.pivot(rows=["kind.family", "product.product"], values="quantity")
    assert len(rows_of(plain)) == 4
    wide = shared_stall.pivot(rows=["kind.family", "product.product"], values="quantity", show_empty=True)
    # Plants of one chain come with their own family: yew with wood, and never with food.
    assert ("wood", False, "yew", False, None) in rows_of(wide)
    assert len(rows_of(wide)) == 5
    free = shared_stall.pivot(rows="kind.kind", columns="customer.region", values="quantity", show_empty=True)
    assert len(rows_of(free)) == 4 * 2 + 2, "chains combined in every way; sales without a match are shown as before"


def test_a_grid_without_aggregates_lists_the_visible_members(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows="product.product", values="one: 1", where="product.kind = 'tree'")
    assert rows_of(grid) == [("oak", 1), ("yew", 1)]
    dense = shared_stall.pivot(rows="product.product", values="n: coalesce(quantity, 0)")
    assert len(rows_of(dense)) == 4, "a dense formula has its value at the combinations shown"


def test_too_many_cells_are_refused_with_the_count(shared_stall: relatum.Model) -> None:
    with pytest.raises(relatum.RequestError, match=r"would have 6 combinations; the limit is 5"):
        shared_stall.pivot(rows="calendar.date", values="count(sales)", cell_limit=5)
    with pytest.raises(relatum.RequestError, match=r"would have 1,464 combinations"):
        shared_stall.pivot(rows="calendar.date", columns="kind.kind", values="1", cell_limit=1_000)


WRONG = [
    ({"rows": "product.product"}, "No values requested"),
    ({"values": "revenue, revenue"}, "Two values have the same name, revenue"),
    ({"rows": "product.product, product.product", "values": "revenue"}, "is on the axes twice"),
    (
        {"rows": "product", "values": "revenue"},
        "rows: product is a table, but an axis takes columns.\n    product\n    ^^^^^^^\nWrite sales.product, product.product, ",
    ),
    ({"rows": "product.product order by revenue", "values": "revenue"}, "Write product.product by revenue."),
    (
        {"rows": "product.product top 3 bottom 2", "values": "revenue"},
        "top or its bottom members, not both. Write product.product top 3.",
    ),
    ({"rows": "product.product top 3 revenue", "values": "revenue"}, "Write product.product top 3 by revenue."),
    ({"rows": "product.product limit 3", "values": "revenue"}, "Write product.product top 3."),
    ({"rows": "product.product top 3 by revenue desc", "values": "revenue"}, "Write product.product top 3 by revenue."),
    ({"rows": "product.product with others", "values": "revenue"}, "Write product.product top 5 with others."),
    ({"rows": "product.product desc", "values": "revenue"}, "Write product.product by product.product desc."),
    ({"values": "'order size': revenue"}, 'A label of several words needs double quotes. Write "order size": revenue.'),
    ({"values": "order size: revenue, net 2: quantity"}, 'Write "order size": revenue, "net 2": quantity.'),
    (
        {"rows": "calendar", "values": "revenue"},
        "Write calendar.year, calendar.quarter, calendar.month or calendar.week.",
    ),
    ({"rows": "produkt.product", "values": "revenue"}, "Did you mean product?"),
    ({"rows": "product.kid", "values": "revenue"}, "Did you mean product.kind?"),
    ({"rows": "a.b.c", "values": "revenue"}, "'.' cannot be used here"),
]


@pytest.mark.parametrize(("question", "message"), WRONG)
def test_a_question_that_cannot_be_asked(shared_stall: relatum.Model, question: dict[str, str], message: str) -> None:
    with pytest.raises((relatum.RequestError, relatum.FormulaError)) as caught:
        shared_stall.pivot(**question)
    assert message in str(caught.value)


@pytest.mark.parametrize(
    "values",
    ["quantity, rate: revenue / quantity", ["quantity", "rate: revenue / quantity"],
     {"quantity": "quantity", "rate": "revenue / quantity"}],
)  # fmt: skip
def test_values_may_be_given_in_three_ways(shared_stall: relatum.Model, values: Any) -> None:
    assert shared_stall.pivot(values=values).to_arrow().to_pylist() == [{"quantity": 15, "rate": 10.2}]


def test_a_label_may_hold_a_colon_and_a_formula_commas(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(values=['"a: b": coalesce(quantity, 0)', "least(quantity, 3)"])
    assert grid.to_arrow().to_pylist() == [{"a: b": 15, "least(quantity, 3)": 3}]


def test_text_shows_filters_values_totals_and_notes(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(
        rows="product.product", columns="customer.region", values="revenue", where="sales.quantity > 0"
    )
    assert grid.to_text(80).splitlines() == [
        "stall  revenue",
        "where sales.quantity > 0",
        "Plant   North   South  (no match)    total",
        "ivy    €28.00                       €28.00",
        "oak                       €100.00  €100.00",
        "fig    €10.00  €15.00               €25.00",
        "total  €38.00  €15.00     €100.00  €153.00",
        "note: 1 row of sales has no matching product (product.price) and is left out.",
    ]


@pytest.mark.parametrize("width", [40, 60, 80, 200])
def test_no_line_is_wider_than_asked(nursery: relatum.Model, width: int) -> None:
    grid = nursery.pivot(rows="category.department", columns="calendar.quarter", values=["revenue", "margin_rate"])
    lines = grid.to_text(width).splitlines()
    assert max(map(len, lines)) <= width
    year_ends = [line for line in lines if line.startswith("total")]
    assert len({"margin_rate"} & set(" ".join(lines).split())) == 1
    assert year_ends


def test_long_grids_say_what_they_leave_out(nursery: relatum.Model) -> None:
    text = nursery.pivot(rows="calendar.date", values="quantity").to_text(80)
    assert "rows not shown" in text
    assert text.splitlines()[-1].endswith("rows not shown")
    assert any(line.startswith("total") for line in text.splitlines())


def test_negative_null_and_large_numbers_read_clearly() -> None:
    model = relatum.Model(locale="de_DE")
    model.add_table("t", pa.table({"k": ["a", "b", None], "v": [-1234567, None, 5], "f": [0.000123, 2.5, None]}))
    text = model.pivot(rows="t.k", values=["v: sum(t.v)", "f: sum(t.f)"]).to_text(80)
    assert "−1.234.567" in text
    assert "(null)" in text
    assert " – " in text


def test_json_keeps_decimals_exact(shared_stall: relatum.Model) -> None:
    document = json.loads(shared_stall.pivot(rows="kind.kind", values="goal").to_json(), parse_float=Decimal)
    assert document["records"][0] == {"kind.kind": "fruit", "goal": Decimal("30.50")}
    assert document["where"] == ""
    dated = json.loads(shared_stall.pivot(rows="sales.sold_on", values="quantity").to_json())
    assert dated["records"][0]["sales.sold_on"] == "2024-01-30"


def test_csv_is_tidy(shared_stall: relatum.Model) -> None:
    text = shared_stall.pivot(rows="customer.region", values=["revenue", "first: min(sales.sold_on)"]).to_csv(
        totals=True
    )
    rows = list(csv.reader(io.StringIO(text)))
    assert rows[0] == ["customer.region", "customer.region:no_match", "customer.region:total", "revenue", "first"]
    assert rows[1] == ["North", "false", "false", "38", "2024-01-30"]
    assert rows[-1] == ["", "false", "true", "153", "2024-01-30"]


def test_pandas_sees_the_grid_as_shown(shared_stall: relatum.Model) -> None:
    frame = shared_stall.pivot(
        rows="product.product", columns="customer.region", values=["revenue", "quantity"]
    ).to_pandas()
    assert list(frame.index) == ["ivy", "oak", "fig", "(no match)", "total"]
    assert frame.loc["fig", ("South", "quantity")] == 3
    assert frame.loc["total", ("total", "revenue")] == 153
    single = shared_stall.pivot(values="revenue").to_pandas()
    assert single["revenue"].tolist() == [153]


def test_a_grid_is_a_frame_to_others(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows="calendar.month", values="goal")
    frame = pl.DataFrame(grid)
    assert frame["goal"].to_list() == [Decimal("10.00"), Decimal("20.50"), Decimal("99.99")]


def test_months_of_several_years_put_together_earn_a_note(nursery: relatum.Model) -> None:
    grid = nursery.pivot(rows="calendar.month_of_year", values="quantity")
    (note,) = [note for note in grid.notes if note.kind == "recurring"]
    assert "combines 3 years: calendar.month keeps them separate" in note.text
    one_year = nursery.pivot(rows="calendar.month_of_year", values="quantity", where="calendar.year = 2023")
    assert not [note for note in one_year.notes if note.kind == "recurring"]
    apart = nursery.pivot(rows="calendar.month_of_year", columns="calendar.year", values="quantity")
    assert not [note for note in apart.notes if note.kind == "recurring"]


def test_booleans_dates_and_numbers_are_members(shared_stall: relatum.Model) -> None:
    assert rows_of(shared_stall.pivot(rows="sales.paid", values="quantity")) == [(False, 4), (True, 10), (None, 1)]
    assert rows_of(shared_stall.pivot(rows="product.weight", values="quantity"))[0] == (Decimal("0.5"), False, 5)
    assert rows_of(shared_stall.pivot(rows="calendar.week", values="quantity"))[0] == (date(2024, 1, 29), 5)


def test_a_derived_column_slices_and_is_summed(stall: relatum.Model) -> None:
    stall.derive("product", "dear", "price >= 20")
    stall.derive("sales", "value", "quantity * product.price")
    stall.derive("sales", "twice", "value * 2")
    grid = stall.pivot(rows="product.dear", values="v: sum(sales.twice)")
    assert rows_of(grid) == [(False, 106), (True, 200)]


def test_edits_that_are_refused_leave_the_model(stall: relatum.Model) -> None:
    before = stall.declaration
    for edit in (
        lambda: stall.measure("revenue", "1"),
        lambda: stall.measure("sales", "1"),
        lambda: stall.measure("bad", "sum(1)"),
        lambda: stall.measure("bad", "1", format="x"),
        lambda: stall.measure("bad", "1", unrelated="maybe"),
        lambda: stall.derive("product", "price", "1"),
        lambda: stall.derive("nothing", "x", "1"),
        lambda: stall.add_table("sales", pa.table({"a": [1]})),
        lambda: stall.add_table(" x", pa.table({"a": [1]})),
        lambda: stall.add_table("x", pa.table({"a": [1]}), key="b"),
        lambda: stall.add_table("x", pa.table({"a": [1]}), columns={"a": {"labl": "A"}}),
        lambda: stall.add_calendar("c", date(2024, 2, 1), date(2024, 1, 1)),
        lambda: stall.add_calendar("c", "2024-01-01", "2024-02-01"),  # type: ignore[arg-type]
        lambda: stall.add_calendar("c", date(2024, 1, 1), date(2024, 2, 1), week_starts="noday"),
        lambda: stall.control("nothing", 1),
    ):
        with pytest.raises(relatum.RelatumError):
            edit()
        assert stall.declaration == before
    assert stall.evaluate("revenue") == 153
