"""``relatum edit``: what it tells, what it writes, and that a refused edit leaves the file as it was."""

from __future__ import annotations

from pathlib import Path

import pytest

import relatum
from stall import run

MODEL = """relatum = 1
name = "shop"  # ours

[table.sales]
source = "sales.csv"

# Who knows why.
[table.product]
source = "product.csv"
key = "product"

[[relationship]]
link = "sales.product -> product.product"  # the only one

[measure.revenue]
formula = "sum(sales.quantity * product.price)"
format = "#,##0.00"
about = "Money"

[measure.double]
formula = "2 * revenue"

[[control]]
measure = "revenue"
equals = 50
"""


@pytest.fixture
def shop(tmp_path: Path) -> Path:
    (tmp_path / "m.toml").write_text(MODEL)
    (tmp_path / "sales.csv").write_text("product,quantity\na,1\nb,2\n")
    (tmp_path / "product.csv").write_text("product,price\na,10\nb,20\n")
    return tmp_path / "m.toml"


#: A command, its standard error, its changes, and part of the file afterwards.
EDITS: list[tuple[list[str], list[str], str, str]] = [
    (["rename", "sales.quantity", "pieces"], ["rewrites measure revenue", "rewrites measure double", "rewrites control 1"], "renamed  column sales.quantity to sales.pieces", "sum(sales.pieces * product.price)"),
    (["rename", "revenue", "turnover"], ["rewrites measure double"], "renamed  measure revenue to turnover", 'formula = "2 * turnover"'),
    (["rename", "product", "article"], ["rewrites relationship"], "renamed  table product to article", 'link = "sales.product -> article.product"'),
    (["remove", "double"], [], "removed  measure double", "# Who knows why."),
    (["remove", "revenue", "--force"], ["breaks measure double", "breaks control 1"], "removed  measure double", "# the only one"),
    (["relate", "sales.product -> product.product", "--direction", "both"], ["concerns measure revenue"], "direction down -> both", 'direction = "both"'),
    (["measure", "revenue", "sum(sales.quantity)"], ["concerns measure double"], "formula sum(sales.quantity * product.price) -> sum(sales.quantity)", 'about = "Money"'),
    (["measure", "pieces", "sum(sales.quantity)", "--format", "0"], [], "added    measure pieces", "[measure.pieces]"),
    (["column", "product.price", "--type", "decimal(2)", "--label", "Price"], ["concerns measure revenue"], "changed  column product.price: type none -> decimal(2)", '[table.product.column.price]\ntype = "decimal(2)"\nlabel = "Price"'),
    (["column", "sales.quantity", "--null", "-", "--null", "NA"], ["concerns measure revenue"], "changed  column sales.quantity: null none -> -, NA", 'null = ["-", "NA"]'),
    (["column", "product.price", "--hidden"], ["concerns measure revenue"], "hidden false -> true", "hidden = true"),
    (["table", "sales", "--about", "A line", "--footer", "0"], ["concerns relationship"], "changed  table sales: about none -> A line", 'source = "sales.csv"\nabout = "A line"'),
    (["derive", "product.dear", "price > 15", "--label", "Dear", "--order-by", "price"], [], "added    derived column product.dear", '[table.product.derived.dear]\nformula = "price > 15"\nlabel = "Dear"\norder_by = "price"'),
    (["derived-table", "best", "most: revenue", "n: count(sales)", "--per", "product.product"], [], "added    table best", 'per = "product.product"'),
    (["role", "ware", "product", "--label", "Ware"], [], "added    table ware", 'role_of = "product"'),
    (["calendar", "days", "--from", "2024-01-01", "--to", "2024-12-31", "--fiscal-year-starts", "4"], [], "added    table days", "calendar = {from = 2024-01-01, to = 2024-12-31, fiscal_year_starts = 4}"),
    (["hierarchy", "range", "product.price", "product.product"], [], "added    hierarchy range", 'levels = ["product.price", "product.product"]'),
    (["control", "revenue", "10.0", "--at", "product.product = 'a'", "--tolerance", "0.5"], [], "added    control revenue product.product = 'a'", "equals = 10.0"),
    (["control", "revenue", "50.5", "--tolerance", "1"], [], "changed  control revenue: equals 50 -> 50.5", "equals = 50.5"),
    (["pivot", "wares", "--rows", "product.product by revenue desc", "--values", "revenue, n: count(sales)"], [], "added    pivot wares", 'rows = ["product.product by revenue desc"]'),
]  # fmt: skip


@pytest.mark.parametrize(("command", "told", "said", "written"), EDITS, ids=[" ".join(each[0][:2]) for each in EDITS])
def test_an_edit(shop: Path, command: list[str], told: list[str], said: str, written: str) -> None:
    dry = run("edit", shop, *command, "--dry-run")
    assert (dry.exit_code, shop.read_text()) == (0, MODEL), dry.stderr
    done = run("edit", shop, *command)
    assert done.exit_code == 0, done.stderr
    assert said in dry.stdout and dry.stdout == done.stdout
    for line in told:
        assert line in done.stderr and line in dry.stderr
    text = shop.read_text()
    assert written in text
    assert "# ours" in text and "# Who knows why." in text
    relatum.open(shop)


def test_what_an_edit_does_not_state_stays(shop: Path) -> None:
    for command in (
        ["calendar", "days", "--from", "2024-01-01", "--to", "2024-12-31", "--fiscal-year-starts", "4"], ["column", "days.month", "--label", "Month"],
        ["calendar", "days", "--to", "2025-12-31"], ["derive", "product.dear", "price > 15", "--label", "Dear", "--about", "So"],
        ["derive", "product.dear", "price > 5", "--order-by", "price"], ["pivot", "wares", "--rows", "product.product", "--values", "revenue", "--about", "W"],
        ["pivot", "wares", "--rows", "product.dear", "--no-totals"], ["role", "ware", "product", "--label", "W"], ["role", "ware", "product"],
        ["column", "sales.quantity", "--type", "integer", "--label", "Q"], ["column", "sales.quantity", "--type", ""],
    ):  # fmt: skip
        done = run("edit", shop, *command)
        assert done.exit_code == 0, done.stderr
    made = relatum.open(shop).declaration
    assert (made.tables["days"].calendar.fiscal_year_starts, made.tables["days"].calendar.last.year) == (4, 2025)
    assert made.label("days", "month") == "Month" and made.tables["ware"].label == "W"
    dear = made.tables["product"].derived["dear"]
    assert (dear.formula, dear.about, made.label("product", "dear"), made.settings("product", "dear").order_by) == (
        "price > 5",
        "So",
        "Dear",
        "price",
    )
    assert (made.pivots["wares"].rows, made.pivots["wares"].about, made.pivots["wares"].totals) == (
        ("product.dear",),
        "W",
        False,
    )
    assert made.settings("sales", "quantity").label == "Q" and not made.settings("sales", "quantity").type
    assert "# ours" in shop.read_text() and "# the only one" in shop.read_text()


def test_a_hidden_column_is_in_no_list_and_in_every_formula(shop: Path) -> None:
    assert run("edit", shop, "column", "product.price", "--hidden").exit_code == 0
    shown = run("show", shop, "product").stdout
    assert "hidden: price" in shown and "integer" not in shown
    assert "integer" in run("show", shop, "product.price").stdout
    assert run("pivot", shop, "--values", "max(product.price)").exit_code == 0
    assert "Known: product.\n" in run("pivot", shop, "--values", "max(product.x)").stderr
    assert run("edit", shop, "column", "product.price", "--shown").exit_code == 0
    assert "hidden" not in shop.read_text()


REFUSED = [
    (["column", "product.price"], "Nothing to set"), (["column", "product.nothing", "--label", "x"], "no column nothing"), (["column", "price", "--label", "x"], "Write table.column"),
    (["column", "sales.product", "--type", "date"], "which is not a date"), (["table", "sales", "--key", "quantiti"], "Did you mean quantity"), (["table", "sales", "--label", "x"], "is not a role"),
    (["calendar", "days", "--to", "2024-12-31"], "has no range"), (["calendar", "days", "--from", "soon", "--to", "2024-12-31"], "which is not a date"),
    (["control", "revenue", "abc"], "is not a value"), (["control", "revenue", '"5"'], "Give a number, without quotes"), (["control", "revenue", "5", "--at", "product.product = 3"], "but product.product is a text"),
    (["control", "revenue", "5", "--at", "product.product is null"], "a value for each column"), (["pivot", "wares", "--rows", "product.x", "--values", "revenue"], "no column x"),
    (["derive", "dear", "1"], "Write table.column"), (["derive", "product.dear", "price > 1", "--order-by", "x"], "no column x"), (["derived-table", "best", "revenue", "--per", "product.x"], "names product.x"),
    (["role", "ware", "nothing"], "nothing"), (["hierarchy", "range", "product.x", "product.product"], "no column x"),
    (["rename", "sales.quantity", "product"], "has a column product already"), (["rename", "nothing", "x"], "has nothing called nothing"),
    (["remove", "revenue"], "is needed by measure double"), (["remove", "sales.quantity"], "a column of the source"),
    (["measure", "revenue", "sum(sales.nothing)"], "no column nothing"), (["measure", "revenue", "1 +"], "ends too early"),
    (["relate", "sales.product -> product.nothing"], "no column nothing"), (["relate", "sales.product"], "exactly one '->'"),
    (["relate", "sales.product -> product.product", "--direction", "up"], "down or both or off"),
]  # fmt: skip


@pytest.mark.parametrize(("command", "said"), REFUSED)
def test_a_refused_edit_leaves_the_file_as_it_was(shop: Path, command: list[str], said: str) -> None:
    result = run("edit", shop, *command)
    assert result.exit_code == 2
    assert said in result.stderr, result.stderr
    assert "Traceback" not in result.stderr
    assert shop.read_text() == MODEL
