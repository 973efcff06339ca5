"""The demo: its blemishes, its numbers, and the same again on every machine."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from conftest import LINES
from relatum.demo.generate import generate
from relatum.demo.range import CATEGORIES
from relatum.demo.write import write_demo


def test_the_tables_of_the_demo(nursery: relatum.Model) -> None:
    assert set(nursery.declaration.tables) == {
        "sales",
        "quota",
        "stock",
        "product",
        "category",
        "price",
        "customer",
        "calendar",
    }
    assert nursery.evaluate("count(sales)") == LINES
    assert nursery.evaluate("min(sales.sold_on)") >= date(2022, 1, 1)
    assert nursery.evaluate("max(sales.sold_on)") <= date(2024, 12, 31)
    assert str(nursery.session.catalog.columns("price")["unit_price"]) == "decimal(2)"
    assert str(nursery.session.catalog.columns("customer")["customer_id"]) == "text"


BLEMISHES = [
    ("lines of unknown products", "count(sales)", "product.product_id is null"),
    ("sales without a customer", "count(sales)", "sales.customer_id is null"),
    ("lines before the first price", "count(sales)", "price.unit_price is null over sales"),
    ("returns", "count(sales)", "sales.quantity < 0"),
    ("orders not yet shipped", "count(sales)", "sales.shipped_on is null"),
    ("customers without a town", "count(customer)", "customer.town is null"),
]


@pytest.mark.parametrize(("blemish", "formula", "where"), BLEMISHES)
def test_a_blemish_is_there_and_small(nursery: relatum.Model, blemish: str, formula: str, where: str) -> None:
    table = formula.split("(")[1].rstrip(")")
    blemished, whole = nursery.evaluate(formula, where), nursery.evaluate(f"count({table})")
    assert 0 < blemished < 0.1 * whole, blemish


def test_plants_never_sold_and_an_empty_category(nursery: relatum.Model) -> None:
    assert nursery.evaluate("count(product)") - nursery.evaluate("count(distinct product.product_id over sales)") >= 14
    empty = [each.category for each in CATEGORIES if not each.plants]
    shown = nursery.pivot(rows="category.category", values="count(product)").to_arrow()["category.category"].to_pylist()
    assert empty and not set(empty) & set(shown)


LOOKUPS = ["product.plant", "product.pot_class", "category.department", "category.category", "customer.customer",
           "customer.kind", "customer.town", "calendar.year", "calendar.month", "calendar.weekday"]  # fmt: skip


@pytest.mark.parametrize("column", LOOKUPS)
def test_members_add_up_to_the_total_to_the_last_cent(nursery: relatum.Model, column: str) -> None:
    total = nursery.evaluate("revenue")
    assert isinstance(total, Decimal)
    cells = nursery.pivot(rows=column, values="revenue", totals=False).to_arrow()["revenue"].to_pylist()
    assert sum(cell for cell in cells if cell is not None) == total


def test_revenue_is_the_sum_of_lines_at_the_price_of_their_day(hollowmere: Path, nursery: relatum.Model) -> None:
    sales = pq.read_table(hollowmere.with_name("sales.parquet")).to_pylist()
    prices: dict[str, list[tuple[date, Decimal]]] = {}
    for row in generate(LINES)["price"].to_pylist():
        prices.setdefault(row["product_id"], []).append((row["valid_from"], row["unit_price"]))
    total = Decimal(0)
    for line in sales:
        known = [price for start, price in sorted(prices[line["product_id"]]) if start <= line["sold_on"]]
        total += line["quantity"] * known[-1] if known else 0
    assert nursery.evaluate("revenue") == total


def test_controls_agree_and_the_check_finds_the_blemishes(nursery: relatum.Model) -> None:
    report = nursery.check()
    assert len(nursery.declaration.controls) == 3
    assert not [finding for finding in report.findings if finding.subject.startswith("control")]
    subjects = {finding.subject for finding in report.problems}
    assert "sales.product_id -> product.product_id" in subjects
    assert not report.ok
    assert "3 problems" in str(report)


def test_numbers_that_a_person_believes(nursery: relatum.Model) -> None:
    years = nursery.pivot(rows="calendar.year", values="revenue", totals=False).to_arrow()["revenue"].to_pylist()
    assert years == sorted(years), "the nursery grows"
    prices = (
        nursery.pivot(rows="price.valid_from", values="p: avg(price.unit_price)", totals=False)
        .to_arrow()["p"]
        .to_pylist()
    )
    assert len(prices) >= 4
    months = (
        nursery.pivot(rows="calendar.month_of_year", values="quantity", totals=False).to_arrow()["quantity"].to_pylist()
    )
    assert months.index(max(months)) + 1 in (4, 5), "spring is the season"
    assert 0.3 < nursery.evaluate("margin_rate") < 0.5
    customers = (
        nursery.pivot(rows="customer.customer", values="revenue", totals=False).to_arrow()["revenue"].to_pylist()
    )
    top = sorted((value for value in customers if value is not None), reverse=True)
    assert sum(top[: len(top) // 10]) > 0.2 * float(sum(top)), "a few customers buy much"


def test_the_same_seed_gives_the_same_tables() -> None:
    one, other = generate(700), generate(700)
    assert all(one[name].equals(other[name]) for name in one)
    assert not one["sales"].equals(generate(700, seed=1)["sales"])
    assert one["price"].schema.field("unit_price").type == pa.decimal128(38, 2)


@pytest.mark.parametrize("lines", [1, 2, 17])
def test_a_tiny_demo_works(tmp_path: Path, lines: int) -> None:
    model = relatum.open(write_demo(tmp_path / "tiny", lines))
    assert model.evaluate("count(sales)") == lines
    assert model.pivot(rows="category.department", values="margin").result.cells


def test_a_folder_with_other_things_is_left_alone(tmp_path: Path) -> None:
    folder = tmp_path / "mine"
    folder.mkdir()
    (folder / "notes.txt").write_text("mine")
    with pytest.raises(relatum.SourceError, match="holds other files: nothing was written"):
        write_demo(folder, 10)
    assert [path.name for path in folder.iterdir()] == ["notes.txt"]
    with pytest.raises(relatum.SourceError, match="This is a file"):
        write_demo(folder / "notes.txt", 10)


def test_a_demo_is_written_anew_unless_somebody_changed_it(tmp_path: Path) -> None:
    file = write_demo(tmp_path / "demo", 10)
    write_demo(tmp_path / "demo", 20)
    assert relatum.open(file).evaluate("count(sales)") == 20
    file.write_text(file.read_text().replace("Hollowmere", "My nursery"))
    with pytest.raises(relatum.SourceError, match="was changed"):
        write_demo(tmp_path / "demo", 30)
    assert relatum.open(file).evaluate("count(sales)") == 20
