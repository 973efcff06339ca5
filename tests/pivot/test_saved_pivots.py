"""Saved pivots: in the file, in the model, in the shell; known to show, impact, rename, diff and check."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest
from click.testing import CliRunner

import relatum
from relatum.cli.main import app

SAVED = """
[pivot.northern]   # what each brings
rows = "category.department by revenue desc closed, category.category"
columns = "calendar.year"
values = ["revenue", "share: share(revenue of column) format '0 %'"]
where = "customer.region = 'North'"
keep = ["sales.order_no where quantity > 5"]
about = "What each department brings"
"""


@pytest.fixture
def file(hollowmere: Path, tmp_path: Path) -> Path:
    """The demo with a saved pivot."""
    folder = tmp_path / "demo"
    shutil.copytree(hollowmere.parent, folder)
    path = folder / hollowmere.name
    path.write_text(path.read_text() + SAVED)
    return path


def run(*arguments: object, code: int = 0) -> str:
    result = CliRunner().invoke(app, [str(each) for each in arguments], env={"COLUMNS": "120"})
    assert result.exit_code == code, result.output
    return result.output


def test_a_saved_pivot_is_run_with_parts_replaced(file: Path) -> None:
    model = relatum.open(file)
    grid = model.pivot(saved="northern")
    assert grid.request.rows == ("category.department by revenue desc closed", "category.category")
    assert "keep sales.order_no where quantity > 5" in str(grid)
    assert "▸ " in str(grid)
    turned = model.pivot(saved="northern", columns="customer.kind", where="")
    assert turned.request.columns == ("customer.kind",)
    assert turned.request.where == ""
    with pytest.raises(relatum.ModelError, match="saved pivot deps"):
        model.pivot(saved="deps")


def test_what_is_saved_comes_back_as_it_was(file: Path) -> None:
    model = relatum.open(file)
    grid = model.pivot(
        "band(sales.quantity by 50), calendar.year top 2 with others",
        values='"the sum": revenue, n: orders on rows',
        totals=False,
    )
    model.keep_pivot("sizes", grid, about="By size")
    model.save(file)
    text = file.read_text()
    assert "# what each brings" in text, "a person's comments stay"
    again = relatum.open(file)
    assert again.declaration.pivots["sizes"] == model.declaration.pivots["sizes"]
    assert again.pivot(saved="sizes").request == grid.request
    assert again.pivot(saved="sizes").to_arrow().equals(grid.to_arrow())
    with pytest.raises(relatum.ModelError, match="The pivot sizes already"):
        model.keep_pivot("sizes", grid)
    with pytest.raises(relatum.ModelError, match="is already the name of a measure"):
        model.keep_pivot("revenue", grid)


def test_renaming_and_removing_know_saved_pivots(file: Path) -> None:
    model = relatum.open(file)
    for name in ("revenue", "category.department", "category", "calendar.year", "sales.order_no", "quantity"):
        assert ("pivot", "northern") in [(each.kind, each.name) for each in model.impact(name).breaks]
    before = model.pivot(saved="northern").to_arrow(totals=True)
    for name, new in (
        ("revenue", "turnover"),
        ("category", "assortment"),
        ("sales.order_no", "order"),
        ("northern", "deps"),
    ):
        model.rename(name, new)
    saved = model.declaration.pivots["deps"]
    assert saved.rows == ("assortment.department by turnover desc closed, assortment.category",)
    assert saved.keep == 'sales."order" where quantity > 5' or saved.keep == "sales.order where quantity > 5"
    assert model.pivot(saved="deps").to_arrow(totals=True).num_rows == before.num_rows
    with pytest.raises(relatum.ModelError, match="needed by"):
        model.remove("turnover")
    model.remove("deps")
    assert "departments" in model.declaration.pivots and "by_department" not in model.declaration.pivots


def test_check_and_diff_tell_of_saved_pivots(file: Path) -> None:
    other = file.with_name("other.toml")
    other.write_text(file.read_text().replace("category.department by revenue desc closed", "category.departmint"))
    report = relatum.open(other).check()
    (found,) = [each for each in report.findings if each.subject == "pivot northern"]
    assert (found.severity, "no column departmint" in found.text) == ("problem", True)
    shown = run("diff", file, other, code=1)
    assert all(each in shown for each in ("pivot", "northern", "rows", "category.departmint"))
    run("pivot", other, "northern", code=2)


FAULTS = [
    ("[pivot.x]\nrows = 'a.b'\n", "The key values is missing"), ("[pivot.x]\nvalues = []\n", "has no values"),
    ("[pivot.x]\nvalues = 'revenue'\nvalues_on = 'sides'\n", "values_on"), ("[pivot.revenue]\nvalues = 'revenue'\n", "is already the name of a measure"),
    ("[pivot.x]\nvalue = 'revenue'\n", "Did you mean values"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "message"), FAULTS)
def test_a_faulty_entry_is_told_with_its_line(file: Path, text: str, message: str) -> None:
    lines = file.read_text().count("\n")
    file.write_text(f"{file.read_text()}\n{text}")
    with pytest.raises(relatum.ModelError, match=message) as caught:
        relatum.open(file)
    assert (caught.value.line or 0) > lines


@pytest.mark.outside
def test_the_shell_runs_turns_and_saves(file: Path) -> None:
    assert "What each department brings" in run("show", file)
    shown = run("pivot", file, "northern", "--open", "Edibles", "--layout", "nested")
    assert "▾ Edibles" in shown
    assert "  Herbs" in shown
    assert "Herbs" in run("pivot", file, "northern", "--depth", 2)
    assert "not a member of a closed field" in run("pivot", file, "northern", "--open", "Nothing", code=2)
    turned = run("pivot", file, "northern", "--turn", "--keep-as", "turned", "--values", "orders")
    assert "turned" in turned
    assert relatum.open(file).declaration.pivots["turned"].columns[0].startswith("category.department")
    assert "No values requested" in run("pivot", file, code=2)


def test_the_shell_lists_members(file: Path) -> None:
    shown = run("members", file, "category.category", "--where", "customer.region = 'North'", "--like", "er")
    assert "Perennials" not in shown
    assert "Ferns" in shown
    assert "without rows" in shown
    assert '"present": true' in run("members", file, "category.category", "--format", "json")
    assert "There is no table categori" in run("members", file, "categori.category", code=2)


#: A saved pivot's keys, and what show tells of them beside its rows and values.
TOLD = [
    ("totals = false", [("totals", "none")]), ("values_on = 'rows'", [("values on", "rows")]), ("show_empty = true", [("empty", "shown")]),
    ("where = \"customer.region = 'North'\"", [("where", "customer.region = 'North'")]), ("keep = 'top 5 customer by revenue'", [("keep", "top 5 customer by revenue")]),
    ("columns = 'calendar.year'\nabout = '[bold]By year'", [("columns", "calendar.year"), ("", "[bold]By year")]), ("", []),
]  # fmt: skip


@pytest.mark.parametrize(("keys", "told"), TOLD)
def test_show_tells_each_part(file: Path, keys: str, told: list[tuple[str, str]]) -> None:
    file.write_text(
        f"{file.read_text()}\n[pivot.told]\nrows = 'category.department'\nvalues = ['revenue', 'orders']\n{keys}\n"
    )
    lines = [
        re.split(r"\s{2,}", line.strip(), maxsplit=2) for line in run("show", file, "told").splitlines() if line.strip()
    ]
    assert lines[1] == ["told", "rows", "category.department"]
    assert lines[2:] == sorted(
        [["values", "revenue, orders"], *([word, text] if word else [text] for word, text in told)],
        key=lambda each: each[0] != "columns",
    )
    grid = relatum.open(file).pivot(saved="told")
    assert (grid.request.totals, grid.request.values_on, grid.request.show_empty) == (
        "totals" not in keys,
        "rows" if "values_on" in keys else "columns",
        "show_empty" in keys,
    )
