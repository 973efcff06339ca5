"""``relatum edit``: what it tells, what it writes, and that a refused edit leaves the file as it was."""

from __future__ import annotations

from pathlib import Path

import pytest

import relatum
from conftest import run

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


#: A command, what is told on standard error, what changes, and what stands in the file after it.
EDITS: list[tuple[list[str], list[str], str, str]] = [
    (["rename", "sales.quantity", "pieces"], ["rewrites measure revenue", "rewrites measure double", "rewrites control 1"], "renamed  column sales.quantity to sales.pieces", "sum(sales.pieces * product.price)"),
    (["rename", "revenue", "turnover"], ["rewrites measure double"], "renamed  measure revenue to turnover", 'formula = "2 * turnover"'),
    (["rename", "product", "article"], ["rewrites relationship"], "renamed  table product to article", 'link = "sales.product -> article.product"'),
    (["remove", "double"], [], "removed  measure double", "# Who knows why."),
    (["remove", "revenue", "--force"], ["breaks measure double", "breaks control 1"], "removed  measure double", "# the only one"),
    (["relate", "sales.product -> product.product", "--direction", "both"], ["concerns measure revenue"], "direction down -> both", 'direction = "both"'),
    (["measure", "revenue", "sum(sales.quantity)"], ["concerns measure double"], "formula sum(sales.quantity * product.price) -> sum(sales.quantity)", 'about = "Money"'),
    (["measure", "pieces", "sum(sales.quantity)", "--format", "0"], [], "added    measure pieces", "[measure.pieces]"),
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


REFUSED = [
    (["rename", "sales.quantity", "product"], "has a column product already"), (["rename", "nothing", "x"], "nothing named nothing"),
    (["remove", "revenue"], "is needed by measure double"), (["remove", "sales.quantity"], "a column of the source"),
    (["measure", "revenue", "sum(sales.nothing)"], "no column nothing"), (["measure", "revenue", "1 +"], "stops too early"),
    (["relate", "sales.product -> product.nothing"], "no column nothing"), (["relate", "sales.product"], "no single '->'"),
    (["relate", "sales.product -> product.product", "--direction", "up"], "down or both or off"),
]  # fmt: skip


@pytest.mark.parametrize(("command", "said"), REFUSED)
def test_a_refused_edit_leaves_the_file_as_it_was(shop: Path, command: list[str], said: str) -> None:
    result = run("edit", shop, *command)
    assert result.exit_code == 2
    assert said in result.stderr, result.stderr
    assert "Traceback" not in result.stderr
    assert shop.read_text() == MODEL
