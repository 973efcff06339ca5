"""What shows itself in a notebook: plain HTML, whatever the names in it; and the notebook among the examples."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import relatum
from notebook_page import Page
from relatum.present.printed import print_blocks, printed

ROOT = Path(__file__).parents[2]
NOTEBOOKS = sorted((ROOT / "examples").glob("*.ipynb"))
HOSTILE = "<script>alert('&amp;')</script>"


@pytest.fixture
def hostile() -> relatum.Model:
    """A model whose members and labels would be markup if they were not escaped."""
    model = relatum.Model("stall")
    model.add_table("sales", pa.table({"item": ["a", "b", "b"], "pieces": [1, 2, 4]}))
    model.add_table(
        "item", pa.table({"item": ["a", "b"], "name": [HOSTILE, "<b>b</b>"], "part": ["x", "y"]}), key="item"
    )
    model.relate("sales.item -> item.item")
    model.measure("pieces", "sum(sales.pieces)", about=HOSTILE)
    return model


SHOWN: list[tuple[Callable[[relatum.Model], Any], str]] = [
    (lambda model: model, HOSTILE),
    (lambda model: model.pivot("item.name", values={HOSTILE: "pieces"}), HOSTILE),
    (lambda model: model.pivot(columns="item.name", values="pieces", where=f"item.name <> '{HOSTILE.replace(chr(39), chr(39) * 2)}!'"), HOSTILE),
    (lambda model: model.members("item.name"), HOSTILE),
    (lambda model: model.explain("pieces", {"item.name": HOSTILE}), HOSTILE.replace("'", "''")),
    (lambda model: model.explain("pieces", {"item.name": "<b>b</b>"}, against={"item.name": HOSTILE}, along="item.part"), "difference to item.name"),
    (lambda model: model.check(), "stall"),
]  # fmt: skip


@pytest.mark.parametrize(("look", "text"), SHOWN)
def test_names_are_never_markup(hostile: relatum.Model, look: Callable[[relatum.Model], Any], text: str) -> None:
    page = Page(look(hostile)._repr_html_())
    told = [*page.texts, *(cell for table in page.tables for line in table for cell in line)]
    assert any(text in each for each in told), told
    assert all(len({len(line) for line in table}) == 1 for table in page.tables), (
        "each line of a table is as long as the others"
    )


def test_a_grid_shows_what_its_text_shows(nursery: relatum.Model) -> None:
    for rows, columns, values in (
        (["category.department by revenue desc", "category.category top 1 with others"], "calendar.year", "revenue, orders"),
        ("category.department closed, category.category", ["calendar.year no total", "customer.kind"], "revenue, share: share(revenue of column) on rows"),
        ((), "calendar.year", "revenue"), ("calendar.year", (), "revenue, orders on rows"), ((), (), "revenue"),
    ):  # fmt: skip
        grid = nursery.pivot(rows, columns, values)
        (table,) = Page(grid._repr_html_()).tables
        assert len({len(line) for line in table}) == 1
        text = grid.to_text(4000)
        assert sum(cell.startswith(("€", "−€")) for line in table for cell in line) == text.count("€")
        for line in table:
            assert all(cell in text for cell in line if cell), line


def test_members_of_one_name_under_different_parents_are_two(nursery: relatum.Model) -> None:
    grid = nursery.pivot(
        columns="calendar.year no total, customer.kind no total",
        values="revenue, orders",
        where="customer.kind = 'shop'",
    )
    html = grid._repr_html_()
    assert html.count(">shop<") == html.count(">2022<") + html.count(">2023<") + html.count(">2024<") == 3
    assert Page(html).tables[0][0] == [year for year in ("2022", "2023", "2024") for _ in range(2)]


def test_a_draft_shows_what_it_proposes(hollowmere: Path) -> None:
    draft = relatum.draft(hollowmere.parent)
    page = Page(draft._repr_html_())
    listed = [each for each in draft.proposals if each.kind in ("relationship", "measure", "hierarchy", "pivot")]
    assert sum(len(table) - 1 for table in page.tables) == len(listed) > 20
    assert all(any(each.statement in text for text in page.texts) for each in draft.proposals if each.kind == "note")


@pytest.mark.parametrize("ask", [
    lambda model: model.check(),
    lambda model: model.members("customer.town"),
    lambda model: model.explain("revenue", {"calendar.year": 2024}, against={"calendar.year": 2023}),
    lambda model: model.impact("price.unit_price"),
    lambda model: model.compare(model),
])  # fmt: skip
def test_a_notebook_shows_what_a_terminal_prints(nursery: relatum.Model, ask: Callable[[relatum.Model], Any]) -> None:
    shown = ask(nursery)
    blocks = shown.blocks()
    page = Page(shown._repr_html_())
    text = " ".join(printed(lambda console: print_blocks(getattr(blocks, "every", blocks), console), 4000).split())
    told = [*page.texts, *(cell for table in page.tables for line in table for cell in line)]
    assert len(told) > 1 and all(" ".join(each.split()) in text for each in told)


@pytest.mark.parametrize("path", NOTEBOOKS, ids=lambda path: path.name)
def test_a_notebook_runs(hollowmere: Path, tmp_path: Path, path: Path) -> None:
    import nbclient  # noqa: PLC0415 - loads a schema library that takes seconds
    import nbformat  # noqa: PLC0415 - as above

    shutil.copytree(hollowmere.parent, tmp_path / "hollowmere")
    notebook = nbformat.read(path, as_version=4)
    assert all(not cell.outputs for cell in notebook.cells if cell.cell_type == "code"), "outputs are not kept"
    nbclient.NotebookClient(notebook, timeout=120, resources={"metadata": {"path": str(tmp_path)}}).execute()
    shown = [
        output
        for cell in notebook.cells
        if cell.cell_type == "code"
        for output in cell.outputs
        if output.output_type != "stream"
    ]
    assert len(shown) == sum(cell.cell_type == "code" for cell in notebook.cells), "each cell shows one thing"
    pages = [output.data["text/html"] for output in shown if "text/html" in output.data]
    assert len(pages) >= 7
    assert all(Page(page).texts for page in pages)
    assert [output.data["text/plain"] for output in shown if "text/html" not in output.data] == ["True"]


def test_there_is_a_notebook() -> None:
    assert NOTEBOOKS


def test_a_chart_a_formula_and_a_check_show_themselves(nursery: relatum.Model) -> None:
    figure = nursery.pivot("category.department", values="revenue").chart("bars")
    assert figure._repr_png_().startswith(b"\x89PNG")
    page = Page(nursery.formula("growth(revenue over 1 year)")._repr_html_())
    assert page.tables[0][0] == ["aggregate", "over", "looks up", "filtered by"]
    assert "revenue / revenue[back 1 year] - 1" in " ".join(page.texts) and "rows of sales" in page.tables[0][1]
    findings = Page(nursery.check()._repr_html_()).texts
    assert any(each.startswith("Add the missing rows to product") for each in findings)
