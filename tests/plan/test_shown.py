"""What a grid shows, judged at every grain; and which notes a total earns."""

from __future__ import annotations

from datetime import date
from typing import Any

import pyarrow as pa
import pytest

import relatum


def rows(model: relatum.Model, **request: Any) -> list[tuple[Any, ...]]:
    """The grid's lines, totals among them, as tuples: members, then values."""
    grid = model.pivot(**request)
    table = grid.to_arrow(totals=True)
    fields = [axis.name for axis in grid.result.axes]
    lines = []
    for record in table.to_pylist():
        key = [
            "total" if record[f"{name}:total"] else "(no match)" if record.get(f"{name}:no_match") else record[name]
            for name in fields
        ]
        lines.append((*key, *(record[value.label] for value in grid.result.values)))
    return lines


def test_a_value_unrelated_to_the_columns_stands_in_their_total(shared_stall: relatum.Model) -> None:
    found = rows(shared_stall, rows="kind.kind", columns="customer.region", values="goal")
    assert [
        (kind, float(value)) for kind, region, value in found if region == "total" and kind != "total" and value
    ] == [("fruit", 30.5), ("tree", 99.99)]
    assert all(region == "total" for _, region, _ in found)
    printed = str(shared_stall.pivot(rows="kind.kind", columns="customer.region", values="goal"))
    assert "99.99" in printed and "fern" not in printed.split("note")[0]


def test_a_keep_that_empties_every_full_cell_leaves_the_totals(shared_stall: relatum.Model) -> None:
    value = "v: quantity[keep product.kind where quantity > 4]"
    found = rows(shared_stall, rows="customer.region", columns="sales.note", values=value)
    assert found == [("total", "total", 5)], "no region and note sells more than 4 of a kind; all of them together do"
    by_kind = rows(
        shared_stall, rows="product.kind, sales.note", values="v: count(sales)[keep top 1 product.kind by goal]"
    )
    assert [line[:2] for line in by_kind if line[1] == "total"] == [("total", "total")]


def test_members_that_the_condition_leaves_out_are_never_shown(shared_stall: relatum.Model) -> None:
    found = rows(
        shared_stall, rows="product.kind", values="v: quantity[ignoring product]", where="product.kind <> 'tree'"
    )
    assert [line[0] for line in found] == ["climber", "fruit", "total"]
    assert [
        line[0] for line in rows(shared_stall, rows="product.kind", values="quantity", where="product is no match")
    ] == ["(no match)", "total"]
    assert ("(no match)",) not in [
        line[:1] for line in rows(shared_stall, rows="product.kind", values="quantity", where="product.price > 1")
    ]


def test_no_match_is_among_bare_members_where_something_has_a_value(shared_stall: relatum.Model) -> None:
    bare = [line[0] for line in rows(shared_stall, rows="product.kind", values="v: quantity[ignoring product]")]
    assert bare == ["climber", "fruit", "tree", "(no match)", "total"], "elm finds no product"
    nothing = [
        line[0]
        for line in rows(
            shared_stall, rows="product.kind", values="v: sum(target.amount)[ignoring product, ignoring kind] * null"
        )
    ]
    assert nothing[-1] == "total"
    matched = [
        line[0]
        for line in rows(shared_stall, rows="kind.kind", values="v: goal[ignoring kind]", where="kind.kind <> 'fern'")
    ]
    assert "(no match)" not in matched


def test_empty_members_are_shown_at_every_grain(shared_stall: relatum.Model) -> None:
    found = rows(shared_stall, rows="kind.family, product.product", values="quantity", show_empty=True)
    assert ("shade", "total", None) in found, "a family without a product is a member of its own grain"
    assert ("wood", "yew", None) in found


@pytest.mark.parametrize(("values", "axes", "told"), [
    ("rank(revenue among product)", {"rows": "product.product"}, []),
    ("rank(revenue among product)", {"rows": "customer.region"}, ["among"]),
    ("rank(revenue among product)", {}, ["among"]),
    ("running(revenue among kind by revenue)", {"rows": "kind.family, kind.kind"}, []),
    ("revenue[back 1 month]", {"rows": "calendar.month"}, []),
    ("revenue[back 1 month]", {"rows": "product.kind"}, ["period"]),
    ("revenue[quarter to date, back 1 quarter]", {}, []),
    ("revenue[back 1 quarter, quarter to date]", {}, ["period"]),
    ("revenue[trailing 1 month, back 1 month]", {}, []),
    ("revenue[to date, back 1 month]", {}, ["period"]),
    ("quantity[keep top 1 product.weight by quantity]", {}, []),
    ("quantity[keep bottom 1 product.weight by count(sales)]", {}, ["null"]),
])  # fmt: skip
def test_notes_that_a_total_earns(
    shared_stall: relatum.Model, values: str, axes: dict[str, str], told: list[str]
) -> None:
    kinds = [
        note.kind
        for note in shared_stall.pivot(values={"v": values}, **axes).notes
        if note.kind in ("among", "period", "null")
    ]
    assert [kind for kind in kinds if "later dates" not in kind] == told


def test_a_move_of_a_period_that_a_step_makes_has_a_value_on_a_bare_total(shared_stall: relatum.Model) -> None:
    # The data ends on the last day of 2024: the quarter to date is October to December, and moves to July to September.
    assert shared_stall.evaluate("quantity[quarter to date]") is None, "the last sale has no quantity"
    assert shared_stall.evaluate("count(sales)[quarter to date]") == 1
    assert shared_stall.evaluate("count(sales)[quarter to date, back 3 quarter]") == 5


def test_overlapping_members_are_noted() -> None:
    model = relatum.Model()
    model.add_table("visit", pa.table({"who": [1, 1, 2], "n": [1, 2, 4]}))
    model.add_table("club", pa.table({"who": [1, 1, 2], "name": ["a", "b", "a"]}))
    model.relate("visit.who >-< club.who", direction="left")
    grid = model.pivot(rows="club.name", values="v: sum(visit.n)")
    assert grid.to_arrow(totals=True)["v"].to_pylist() == [7, 3, 7]
    assert [note.kind for note in grid.notes] == ["overlap"]


SIDES = [
    ("count(sales)[via sales.shipped_on]", None), ("count(sales)[via sales.(shipped_on)]", None),
    ("count(stock)[both ways stock.(place, product)]", None), ("count(stock)[both ways stock.(product, place)]", None),
    ("count(stock)[both ways stock.place]", "No relationship has stock.place as its many side"),
    ("count(sales)[via sales.day]", "No standby relationship has sales.day as its many side"),
    ("count(sales)[via sales]", "No standby relationship has sales as its many side"),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "message"), SIDES)
def test_a_relationship_is_named_by_exactly_the_columns_of_its_many_side(formula: str, message: str | None) -> None:
    model = relatum.Model()
    day = date(2024, 1, 1)
    model.add_table("sales", pa.table({"day": [day], "shipped_on": [day]}))
    model.add_table("stock", pa.table({"place": [1], "product": [1], "n": [1]}))
    model.add_table("shelf", pa.table({"place": [1], "product": [1], "name": ["x"]}))
    model.add_calendar("calendar", day, day)
    model.relate("sales.day -> calendar.date")
    model.relate("sales.shipped_on -> calendar.date", standby=True)
    model.relate("stock.(place, product) -> shelf.(place, product)")
    if message is None:
        assert model.evaluate(formula) == 1
    else:
        with pytest.raises(relatum.FormulaError, match=message):
            model.evaluate(formula)


def test_a_rank_is_no_problem_for_the_audit(stall: relatum.Model) -> None:
    stall.measure("place", "rank(revenue among product)")
    stall.measure("sum_up", "running(revenue among kind.family by revenue desc)")
    stall.measure("nothing", "rank(revenue * null among product)")
    found = [finding.subject for finding in stall.check().findings if finding.subject.startswith("measure")]
    assert found == ["measure nothing"]


def test_sole_under_a_condition_with_a_let_name(shared_stall: relatum.Model) -> None:
    assert shared_stall.evaluate("let x = 50 then sole(product.kind)[where product.price > x]") == "tree"
    assert shared_stall.evaluate("let x = 6 then sole(product.kind)[where product.price > x]") is None
    assert shared_stall.evaluate("let x = 10 then sole(product.kind)[where product.price > x]") == "tree"
    assert shared_stall.evaluate("let x = 6 then sole(product.weight)[where product.price = x + 1]") is None, (
        "a visible null"
    )


def test_a_repeated_value_is_not_in_force_even_where_nothing_can_move(stall: relatum.Model) -> None:
    stall.measure("sold", "count(sales)", unrelated="repeat")
    grid = stall.pivot(rows="target.month", values="v: sold[back 2 day]", totals=False)
    assert grid.to_arrow()["target.month"].to_pylist() == ["2024-01", "2024-02", "2024-03"], (
        "bare members, each without a value"
    )
