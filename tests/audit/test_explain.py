"""Explanations: they agree with the grid, whatever the model; and each kind of cell by hand."""

from __future__ import annotations

import math
import random
import shutil
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import relatum
from agreement import REFUSED, alike, build
from grids import REFUSED_REQUESTS, pivoted, random_grid
from relatum.cli.main import app
from relatum.pivot.result import BELOW, OTHERS, TOTAL


def cells_of(grid: relatum.Grid) -> list[tuple[dict[str, Any], list[Any]]]:
    """The cells of a grid: the members of each as an explanation is asked for them, and its values."""
    result, found = grid.result, []
    for record in grid.to_arrow(totals=True).to_pylist():
        at: dict[str, Any] = {}
        for axis in result.axes:
            name = axis.name
            if axis.attribute is not None or record[f"{name}:total"] or name in _below(result, record):
                continue
            no_match, others = record.get(f"{name}:no_match"), record.get(f"{name}:others")
            at[name] = relatum.NO_MATCH if no_match else relatum.OTHERS if others else record[name]
        found.append((at, [record[value.label] for value in result.values]))
    return found


def _below(result: Any, record: dict[str, Any]) -> set[str]:
    """The fields below a member that is not opened, or below others."""
    found: set[str] = set()
    for side in ("rows", "columns"):
        below = False
        for axis in result.axes:
            if axis.side == side and axis.attribute is None:
                found |= {axis.name} if below else set()
                below = below or bool(record.get(f"{axis.name}:others")) or bool(record.get(f"{axis.name}:closed"))
    return found


def untold(model: relatum.Model, asked: Any, rnd: random.Random) -> str | None:
    """What an explanation of a random cell says otherwise than its grid; None where they agree."""
    grid = pivoted(model, asked)
    cells = cells_of(grid)
    if not cells:
        return None
    at, expected = rnd.choice(cells)
    number = rnd.randrange(len(asked.values))
    named = [axis.name for axis in grid.result.axes if axis.attribute is None]
    if any(named.count(name) > 1 for name in named):
        return None
    found = grid.explain(at, f"v{number}", listed=10_000)
    if not alike(found.value, expected[number]):
        return f"{at}: explained {found.value}, the grid has {expected[number]}"
    if (found.value is None) != bool(found.reason):
        return f"{at}: value {found.value}, reason {found.reason!r}"
    for each in found.evidence:
        told = each.shown
        if told is not None and each.kind != "values" and not alike(told, each.value):
            return f"{at}: {each.text} is {each.value}, what is listed comes to {told}"
        if each.kind == "rows" and each.filters and each.filters[-1].after != each.count:
            return f"{at}: {each.filters} leave {each.count} rows"
        if each.kind == "rows" and each.table.num_rows != each.count:
            return f"{at}: {each.count} rows, {each.table.num_rows} listed"
    return None


def test_what_is_told_of_a_random_cell_is_what_the_grid_says() -> None:
    seen = Counter[str]()

    @settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(st.integers(0, 2**60))
    def explain(seed: int) -> None:
        rnd = random.Random(seed)
        case = random_grid(rnd)
        seen["cases"] += 1
        try:
            wrong = untold(build(case.star), case.asked, rnd)
        except relatum.RelatumError as error:
            if not any(reason in str(error) for reason in (*REFUSED, *REFUSED_REQUESTS)):
                raise
            seen["refused"] += 1
            return
        assert wrong is None, f"{wrong}\n{case}"

    explain()
    assert seen["refused"] <= 0.35 * seen["cases"]


#: A value, its cell, what it is, why it has none, and how many rows are behind its first aggregate.
CELLS = [
    ("quantity", {"product.product": "fig"}, {}, 5, "", 3), ("quantity", {}, {}, 15, "", 6), ("quantity", {"product.product": relatum.NO_MATCH}, {}, 5, "", 1),
    ("quantity", {"product.product": "yew"}, {}, None, "no rows", 0), ("goal", {"product.product": "fig"}, {}, None, "unrelated", None),
    ("quantity", {"calendar.month": "2024-12"}, {}, None, "null inputs", 1), ("quantity / (quantity - 5)", {"product.product": "fig"}, {}, None, "division by zero", 3),
    ("quantity[back 1 month]", {"product.product": "fig"}, {}, None, "no period", None), ("sole(sales.quantity)", {"product.product": "fig"}, {}, None, "not the sole value", 3),
    ("rank(quantity among product)", {"kind.kind": "fruit"}, {}, None, "no current member", None), ("rank(quantity among product)", {"product.product": "ivy"}, {}, 2, "", 4),
    ("growth(quantity over 1 month)", {"calendar.month": "2024-02"}, {}, 2.5, "", 2), ("share(quantity of total)", {"product.product": "ivy"}, {}, 4 / 15, "", 1),
    ("quantity", {"product.product": relatum.OTHERS}, {"fields": "product.product top 1 with others"}, 5, "", 2), ("max(quantity per product)", {}, {}, 5, "", 3),
    ("quantity[keep top 1 product by quantity]", {}, {}, 5, "", 3), ("let q = quantity then q / quantity[ignoring axes]", {"product.product": "fig"}, {}, 5 / 15, "", 3),
    ("avg(sales.quantity)", {"product.product": "fig"}, {}, 2.5, "", 3), ("count(distinct sales.customer)", {}, {}, 3, "", 3), ("median(sales.quantity)", {}, {}, 3.0, "", 6),
    ("case when quantity > 100 then 1 end", {}, {}, None, "no case applies", 6), ("quantity", {"sales.customer": None}, {}, 1, "", 1),
    ("quantity", {"calendar.month": "2024-02"}, {"where": "customer.region = 'North'", "keep": "product where quantity > 3"}, 4, "", 1),
]  # fmt: skip


@pytest.mark.parametrize(("value", "at", "parts", "expected", "reason", "rows"), CELLS)
def test_a_cell_is_explained(
    shared_stall: relatum.Model, value: str, at: Any, parts: Any, expected: Any, reason: str, rows: int | None
) -> None:
    found = shared_stall.explain(value, at, **parts)
    assert alike(found.value, expected)
    assert found.reason == reason
    assert (found.evidence[0].count if found.evidence else None) == rows
    assert bool(found.story.because) == bool(reason)
    text = str(found)
    assert "formula" in text
    assert all(word not in text for word in ("Slot(", "Aggregate(", "object at"))


def test_filters_tell_where_they_come_from_and_what_they_leave(shared_stall: relatum.Model) -> None:
    found = shared_stall.explain(
        "quantity[where product.price < 100]",
        {"product.kind": "fruit", "calendar.month": "2024-01"},
        "customer.region = 'North'",
        columns="calendar.month",
    )
    told = [(each.text, each.origin, each.route, each.before, each.after) for each in found.filters]
    assert told == [
        ("customer.region = 'North'", "request", ("customer", "sales"), 6, 2),
        ("product.kind = 'fruit'", "row", ("product", "sales"), 2, 1),
        ("calendar.month = '2024-01'", "column", ("calendar", "sales"), 1, 1),
        ("product.price < 100", "formula", ("product", "sales"), 1, 1),
    ]
    moved = shared_stall.explain("quantity[year to date]", {"calendar.month": "2024-02"})
    assert "year to date: 2024-01-01 to 2024-02-29 (60 dates)" in str(moved)
    assert "1 member: ivy" in str(shared_stall.explain("quantity[keep product where quantity = 4]"))
    assert "1 of 6 rows has no matching product" in str(shared_stall.explain("revenue"))


def test_what_stands_twice_is_told_once(shared_stall: relatum.Model) -> None:
    found = shared_stall.explain(
        "quantity / (quantity + quantity[back 1 month])", {"calendar.month": "2024-02"}, listed=2
    )
    assert [part.evidence for part in found.parts if part.evidence is not None] == [0, 0, 1]
    assert [each.count for each in found.evidence] == [2, 1]
    assert str(found).count("sum(sales.quantity) over ") == 2


@pytest.mark.parametrize(("value", "listed", "told"), [
    ("quantity", 2, "4 more rows; the 2 listed come to 5, all to 15"), ("quantity", 9, "the 6 listed come to 15"), ("count(sales)", 4, "2 more rows; the 4 listed come to 4, all to 6"),
    ("avg(sales.quantity)", 3, "the 3 listed come to"), ("max(sales.sold_on)", 6, "the 6 listed come to 2024-"), ("count(distinct sales.customer)", 2, "1 more value"),
    ("max(quantity per product)", 9, "the 3 listed come to 5"), ("median(sales.quantity)", 1, "5 more rows"), ("quantity", 0, ""),
])  # fmt: skip
def test_what_is_listed_is_told(shared_stall: relatum.Model, value: str, listed: int, told: str) -> None:
    text = str(shared_stall.explain(value, listed=listed))
    assert told in text
    assert listed or "listed" not in text


def test_the_rows_behind_come_to_the_cell(shared_stall: relatum.Model) -> None:
    found = shared_stall.explain("revenue", {"product.product": "fig"}, listed=1)
    assert found.evidence[0].shown == 10
    table = found.rows
    assert table.column_names == ["row", "sales.quantity", "sales.product", "product.price", "value"]
    assert sum(each for each in table["value"].to_pylist() if each is not None) == found.value == 25
    parts = dict(shared_stall.explain("avg(sales.quantity)").evidence[0].parts)
    assert parts == {"sum": 15, "count": 5}
    weighted = dict(shared_stall.explain("avg(product.price weighted by sales.quantity)").evidence[0].parts)
    assert weighted["sum of value times weight"] / weighted["sum of weights"] == pytest.approx(15.3)
    assert shared_stall.explain("median(sales.quantity)").rows["sales.quantity"][0].as_py() == 3
    assert shared_stall.explain("count(distinct sales.customer)").rows.to_pylist()[0] == {"value": "ann", "rows": 2}
    with pytest.raises(relatum.RequestError, match="0 aggregates"):
        shared_stall.explain("1").rows  # noqa: B018


def test_the_difference_of_two_cells_adds_up(nursery: relatum.Model) -> None:
    for value, at, other, along in (
        ("revenue", {"calendar.year": 2024}, {"calendar.year": 2023}, ""), ("revenue", {"calendar.year": 2024}, {"calendar.year": 2023}, "category.department"),
        ("net_revenue", {"category.category": "Ferns", "calendar.quarter": "2024-Q2"}, {"calendar.quarter": "2024-Q1"}, ""), ("quantity", {"customer.region": "North"}, {"customer.region": "South"}, ""),
        ("orders", {"calendar.year": 2024}, {"calendar.year": 2023}, "category.department"), ("average_order", {"calendar.year": 2024}, {"calendar.year": 2023}, "customer.kind"),
    ):  # fmt: skip
        found = nursery.explain(value, at, against=other, along=along)
        difference = found.difference
        assert difference is not None
        assert difference.after == found.value
        assert difference.total == difference.after - difference.before
        total = sum((each.part for each in difference.parts), start=type(difference.total)(0))
        assert total == difference.total or math.isclose(total, difference.total, rel_tol=1e-9)
        if isinstance(difference.total, Decimal):
            assert total == difference.total
        if value in ("revenue", "net_revenue"):
            assert [each.name for each in difference.factors][:3] == ["quantity", "mix", "price"]
            assert sum((each.part for each in difference.factors), start=Decimal(0)) == difference.total
        assert not along or difference.by == along
    for wrong, reason in (
        ({"calendar.year": 1999}, "has no member 1999"),
        ({"customer.region": "North"}, "same fields"),
        ({"calendar.year": 2022}, ""),
    ):
        if reason:
            with pytest.raises(relatum.RelatumError, match=reason):
                nursery.explain("revenue", {"calendar.year": 2024}, against=wrong)


@pytest.mark.parametrize(
    "formula",
    ["sum(sales.pieces * sales.price)", "sum(sales.price * sales.pieces)", "sum(1 * sales.pieces * sales.price)"],
)
@pytest.mark.parametrize("kind", [Decimal, float])
def test_price_quantity_and_mix_by_hand(formula: str, kind: Any) -> None:
    model = relatum.Model()
    model.add_table(
        "sales",
        pa.table(
            {
                "year": [1, 1, 2, 2],
                "item": ["a", "b", "a", "b"],
                "pieces": [10, 10, 5, 25],
                "price": [kind(each) for each in (2, 4, 3, 4)],
            }
        ),
    )
    model.add_table("item", pa.table({"item": ["a", "b"], "name": ["A", "B"]}), key="item")
    model.relate("sales.item -> item.item")
    found = model.explain(formula, {"sales.year": 2}, against={"sales.year": 1}).difference
    assert found is not None
    assert (found.before, found.after, found.by) == (60, 115, "item.name")
    # 10 more pieces at 3 each; of 30 now 25 instead of 15 at 4 and 5 instead of 15 at 2; a became 1 dearer, 5 times.
    assert [(each.name, each.part) for each in found.factors] == [("quantity", 30), ("mix", 20), ("price", 5)]
    assert {each.name: each.part for each in found.parts} == {"A": -5, "B": 60}


SIDES = [
    # Before and after: pieces and price by item. What is on one side alone changes no price.
    ({"a": (10, 2), "b": (5, 4)}, {"a": (10, 2), "c": (3, 7)}, {"quantity": 0, "mix": 0, "price": 0, "new": 21, "gone": -20}),
    ({"a": (10, 2)}, {"b": (10, 3)}, {"new": 30, "gone": -20}),
    ({"a": (10, 2), "b": (10, 4)}, {"a": (10, 3), "b": (10, 4), "c": (1, 5)}, {"quantity": 0, "mix": 0, "price": 10, "new": 5}),
    ({"a": (10, 2), "b": (0, 4)}, {"a": (20, 2), "b": (2, 4)}, {"quantity": 20, "mix": 0, "price": 0, "new": 8}),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "factors"), SIDES)
def test_new_and_gone_members_are_parts_of_their_own(
    before: dict[str, tuple[int, int]], after: dict[str, tuple[int, int]], factors: dict[str, int]
) -> None:
    rows = [
        {"year": year, "item": item, "pieces": pieces, "price": price}
        for year, side in ((1, before), (2, after))
        for item, (pieces, price) in side.items()
    ]
    model = relatum.Model()
    model.add_table("sales", pa.Table.from_pylist(rows))
    model.add_table("item", pa.table({"item": ["a", "b", "c"], "name": ["A", "B", "C"]}), key="item")
    model.relate("sales.item -> item.item")
    found = model.explain("sum(sales.pieces * sales.price)", {"sales.year": 2}, against={"sales.year": 1}).difference
    assert found is not None and {each.name: each.part for each in found.factors} == factors
    assert sum(each.part for each in found.factors) == found.total


def test_what_moved_is_told_by_few_members_and_the_rest_has_before_and_now(nursery: relatum.Model) -> None:
    found = nursery.explain("revenue", {"calendar.year": 2024}, against={"calendar.year": 2023})
    assert found.difference is not None and len(found.difference.parts) <= 12
    for value in ("revenue", "margin_rate"):
        told = nursery.explain(
            value, {"calendar.year": 2024}, against={"calendar.year": 2023}, along="category.category"
        ).difference
        assert told is not None
        *most, others = told.shortened(3)
        names = ", ".join(f"'{each.name}'" for each in most)
        for year, number in ((2023, others.before), (2024, others.after)):
            where = f"calendar.year = {year} and (category.category not in ({names}) or category is no match)"
            assert float(number) == pytest.approx(float(nursery.evaluate(value, where)))


@pytest.mark.parametrize(("formula", "parts"), [
    # Before, a has 1 and 3 and b has 6, on average 10/3; now a has 4, b has 6 and 8, on average 6.
    ("avg(sales.pieces)", {"A": (4 - 10 / 3) / 3 - (4 - 20 / 3) / 3, "B": (14 - 20 / 3) / 3 - (6 - 10 / 3) / 3}),
    ("sum(sales.pieces) / count(sales)", {"A": 10 / 9, "B": 14 / 9}),
    ("max(sales.pieces)", {"A": 1, "B": 2, "the part that does not add up over the members": -1}),
    ("sum(sales.pieces) / count(distinct sales.year)", {"A": 0, "B": 8}), ("count(distinct sales.pieces)", {"A": -1, "B": 1}),
])  # fmt: skip
def test_what_is_divided_moves_by_weight(formula: str, parts: dict[str, float]) -> None:
    model = relatum.Model()
    model.add_table(
        "sales", pa.table({"year": [1, 1, 1, 2, 2, 2], "item": list("aababb"), "pieces": [1, 3, 6, 4, 6, 8]})
    )
    model.add_table("item", pa.table({"item": ["a", "b"], "name": ["A", "B"]}), key="item")
    model.relate("sales.item -> item.item")
    found = model.explain(formula, {"sales.year": 2}, against={"sales.year": 1}).difference
    assert found is not None
    assert {each.name: each.part for each in found.parts} == pytest.approx(
        {name: part for name, part in parts.items() if part}
    )
    assert sum(each.part for each in found.parts) == pytest.approx(found.total)
    assert not found.factors


def test_a_verified_cell_becomes_a_control(hollowmere: Path, tmp_path: Path) -> None:
    folder = tmp_path / "demo"
    shutil.copytree(hollowmere.parent, folder)
    file = folder / hollowmere.name
    arguments = [
        "explain",
        str(file),
        "revenue",
        "--at",
        "category.category = 'Ferns', calendar.year = 2024",
        "--where",
        "customer.region = 'North'",
    ]
    out = tmp_path / "rows.csv"
    result = CliRunner().invoke(app, [*arguments, "--as-control", "--rows-out", str(out), "--rows", "2"])
    assert result.exit_code == 0, result.output
    model = relatum.open(file)
    control = model.declaration.controls[-1]
    assert dict(control.at) == {"customer.region": "North", "category.category": "Ferns", "calendar.year": 2024}
    assert not [each for each in model.check().findings if "control" in each.subject and each.severity == "problem"]
    lines = out.read_text().splitlines()
    assert sum(Decimal(line.split(",")[-1] or 0) for line in lines[1:]) == Decimal(str(control.equals))
    for value, at, where, reason in (
        ("revenue + 1", {}, "", "needs a measure"), ("revenue", {"category.category": relatum.NO_MATCH}, "", "cannot be described that way"),
        ("revenue", {}, "sales.quantity > 3", "cannot be described that way"), ("target", {"product.plant": "Aloe"}, "", "this cell has none"),
    ):  # fmt: skip
        with pytest.raises(relatum.RequestError, match=reason):
            model.explain(value, at, where).as_control()


SHELL = [
    (["--at", "category.category = 'Ferns'", "--against", "category.category = 'Herbs'"], 0, "difference"), (["--at", "category.category is no match"], 0, "is no match"),
    (["--fields", "product.plant top 3 with others", "--at", "product.plant = others"], 0, "members: "), (["--at", "product.plant = others"], 2, "does not show others"),
    (["--at", "category.category = 'Fernz'"], 2, "Did you mean Ferns"), (["--at", "category.category > 3"], 2, "does not name a member"), (["--format", "json"], 0, '"reason": ""'),
    (["--at", "calendar.date = date '2024-05-03', sales.quantity = -3"], 0, "-3"), (["--rows-out", "x.pdf"], 2, "Known endings"),
]  # fmt: skip


@pytest.mark.parametrize(("options", "code", "shown"), SHELL)
def test_the_shell_explains(hollowmere: Path, options: list[str], code: int, shown: str) -> None:
    result = CliRunner().invoke(app, ["explain", str(hollowmere), "revenue", *options])
    assert result.exit_code == code, result.output
    assert shown in result.output


def test_codes_that_stand_for_no_member_are_no_members() -> None:
    assert len({TOTAL, OTHERS, BELOW}) == 3
    assert max(TOTAL, OTHERS, BELOW) < 0


def test_a_field_is_known_by_its_whole_name() -> None:
    model = relatum.Model()
    model.add_table("sales", pa.table({"year_month": ["x", "y"], "year": [1, 2], "pieces": [3, 4]}))
    found = model.explain(
        "sum(sales.pieces)", {"sales.year": 1, "sales.year_month": "x"}, fields="sales.year_month by sum(sales.pieces)"
    )
    assert (found.value, [each.text for each in found.filters]) == (3, ["sales.year_month = 'x'", "sales.year = 1"])
    labelled = model.explain("sum(sales.pieces)", {"size": "2 to 4"}, fields="size: band(sales.pieces by 2)")
    assert labelled.value == 3
