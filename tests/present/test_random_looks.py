"""Random requests of the demo through every medium: each is drawn or refused by name, and says what the grid says."""

from __future__ import annotations

import random
import warnings
from pathlib import Path
from typing import Any

import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg

import relatum
from relatum.present.charts.choose import KINDS
from relatum.present.charts.frame import frame_of
from relatum.present.sheet import nested, sheet_of
from sheets import Book
from stall import run

FIELDS = [
    "category.department", "category.category by revenue desc", "customer.region no total", "calendar.year total before", "calendar.month", "calendar.weekday",
    "product.plant top 4 with others", "range to category.category", "band(product.pot_litres at 2, 10)", "customer.kind closed", "sales.discount",
    '"pot class": product.pot_class', "customer.customer_id top 3, customer.name", "category.department open ('Edibles'), category.category",
]  # fmt: skip
VALUES = [
    "revenue", "revenue scale automatic", "margin_rate digits 2", "orders", "days_to_ship duration days", "attainment", "max(sales.sold_on) format 'd MMM y'",
    "min(customer.name)", "growth(revenue over 1 year)", "share(revenue of total)", "revenue - 60000", "avg(sales.quantity) blank 'none' zero 'nil'",
    "customers > 20", "sum(sales.quantity) scale lakh", "target scale millions",
]  # fmt: skip
WHERE = [
    "",
    "",
    "calendar.year = 2024",
    "customer.region = 'North'",
    "category.department = 'Water'",
    "sales.quantity > 1000000",
    "category is no match",
]
RULES: list[dict[str, Any]] = [
    {"when": "revenue > 50000", "mark": "▲"}, {"when": "revenue < 10000", "colour": "bad", "fill": "low"}, {"field": "category.department", "when": "revenue > 200000", "weight": "bold"},
    {"field": "calendar.year", "members": [2023], "colour": "#112233"},
]  # fmt: skip


def random_grid(nursery: relatum.Model, seed: int) -> relatum.Grid | None:
    """A grid of some fields, values and rules; None where the request is refused."""
    chance = random.Random(seed)
    fields = chance.sample(FIELDS, chance.choice([0, 1, 1, 2, 2, 3]))
    count = chance.randint(0, len(fields))
    values = {f"v{at}": each for at, each in enumerate(chance.sample(VALUES, chance.randint(1, 3)))}
    rules = chance.sample(RULES, chance.randint(0, 2))
    if chance.random() < 0.4:
        rules.append(
            chance.choice([{"value": "v0", "bar": True}, {"value": "v0", "shades": ["low", "middle", "high"]}])
        )
    try:
        grid = nursery.pivot(
            fields[:count],
            fields[count:],
            values,
            chance.choice(WHERE),
            style=rules,
            values_on=chance.choice(["rows", "columns"]),
        )
        sheet_of(grid.result)
    except relatum.RelatumError:
        return None
    return grid


@pytest.mark.parametrize("turn", range(3))
def test_every_chart_draws_a_grid_or_says_why_not(nursery: relatum.Model, turn: int) -> None:
    drawn = 0
    for seed in range(turn * 100, turn * 100 + 7):
        grid = random_grid(nursery, seed)
        if grid is None:
            continue
        for kind in (None, random.Random(seed).choice(KINDS)):
            try:
                figure = grid.chart(kind)
            except relatum.RequestError as error:
                assert error.reason and not error.reason.startswith("This is a fault")
                continue
            drawn += 1
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                FigureCanvasAgg(figure).draw()
            frame = frame_of(grid.result)
            assert all(len(series.numbers) == len(series.cells) == len(frame.categories) for series in frame.series)
    assert drawn > 0


@pytest.mark.parametrize("turn", range(2))
def test_text_page_workbook_and_markdown_take_every_grid(nursery: relatum.Model, turn: int) -> None:
    for seed in range(1000 + turn * 100, 1000 + turn * 100 + 6):
        grid = random_grid(nursery, seed)
        if grid is None:
            continue
        sheet = sheet_of(grid.result)
        texts = [[f"{cell.look.mark} {cell.text}".strip() for cell in line] for line in sheet.cells]
        book = Book(grid._workbook(False))
        rows = book.rows("Grid")
        first = 2 + (max((len(line.labels) for line in sheet.columns), default=0) or 1)
        heads = len(sheet.headings) or 1
        shown = [line[heads : heads + len(sheet.columns)] for line in rows[first : first + len(texts)]]
        dates = [[text[:10] if text[:4].isdigit() and text[4:5] == "-" else text for text in line] for line in texts]
        assert [
            [text[:10] if text[:4].isdigit() and text[4:5] == "-" else text for text in line] for line in shown
        ] == dates or not sheet.columns, seed
        page, notebook, markdown = grid.to_html(), grid._repr_html_(), grid.to_markdown()
        assert (
            page.startswith("<!doctype html>") and notebook.count("<table") == 1 and markdown.startswith("**nursery** ")
        )
        lines = nested(sheet, [axis.attribute is not None for axis in grid.result.axes[: grid.result.row_count]])
        assert sum(line.cells is not None for line in lines) == len(sheet.rows), "every line of the grid has its own"
        for width in (60, 200):
            assert grid.to_text(width, layout="nested")


@pytest.mark.parametrize("turn", range(2))
def test_rows_behind_any_grid_give_its_cells(nursery: relatum.Model, turn: int) -> None:
    told = 0
    for seed in range(3000 + turn * 100, 3000 + turn * 100 + 6):
        grid = random_grid(nursery, seed)
        if grid is None:
            continue
        try:
            book = Book(grid.again(where="calendar.month = '2024-04'")._workbook(True))
        except relatum.RequestError as error:
            assert "No value in this grid is a sum" in error.reason
            continue
        for line in book.book["Grid"].iter_rows():
            for cell in line:
                if isinstance(cell.value, str) and cell.value.startswith("=") and "ROUND" not in cell.value:
                    told += 1
                    wanted = book.cached["Grid"][cell.coordinate].value
                    days = wanted.total_seconds() / 86400 if hasattr(wanted, "total_seconds") else wanted
                    assert book.worked_out(cell.value) == pytest.approx(days, rel=1e-9, abs=1e-12), (seed, cell.value)
    assert told > 0


CONDITIONS = [
    "revenue > 50000", "margin_rate < 0.39", "orders > 100 and revenue > 20000", "share(revenue of total) > 0.1", "revenue[back 1 year] is null",
    "coalesce(revenue, 0) >= 0", "rank(revenue among category.category) <= 3", "max(sales.sold_on) >= date '2024-06-01'",
]  # fmt: skip


@pytest.mark.parametrize("turn", range(2))
def test_a_rule_changes_no_number_and_holds_where_its_condition_is_true(nursery: relatum.Model, turn: int) -> None:
    held = 0
    for seed in range(5000 + turn * 100, 5000 + turn * 100 + 7):
        chance = random.Random(seed)
        fields = chance.sample(FIELDS[:8], chance.choice([1, 2, 2]))
        values = [f"v: {chance.choice(VALUES[:5])}"]
        condition = chance.choice(CONDITIONS)
        try:
            plain = nursery.pivot(fields[:1], fields[1:], values)
            beside = plain.again(values=[*values, f"c: {condition}"])
        except relatum.RelatumError:
            continue
        styled = plain.again(style=[{"value": "v", "when": condition, "mark": "●"}])
        assert styled.to_arrow(totals=True).equals(plain.to_arrow(totals=True)), (seed, fields, values, condition)
        keys = [name for name in plain.to_arrow(totals=True).column_names if name != "v"]
        wanted = {
            tuple(record[key] for key in keys): record["c"]
            for record in beside.to_arrow(totals=True).to_pylist()
            if all(key in record for key in keys)
        }
        shown = {
            (row, column): cell.look.mark == "●"
            for row, line in enumerate(sheet_of(styled.result).cells)
            for column, cell in enumerate(line)
            if cell.there
        }
        records = styled.to_arrow(totals=True).to_pylist()
        assert len(records) == len(shown)
        for record, (_, marked) in zip(records, sorted(shown.items()), strict=True):
            assert marked == bool(wanted[tuple(record[key] for key in keys)]), (seed, record, condition)
            held += marked
    assert held > 10


EXPECTED = [
    "Pflanze          Wert (Tausend)  hours",
    "fig            ███████    1,2 €   1:15",
    "! ivy         █▏       ▼ −0,2 €   0:30",
    "total                     1,0 €   1:45",
    "  ▼  unter null",
    "  !  Pflanze: ivy",
]


def test_words_of_a_look_are_the_same_in_the_file_in_python_and_in_the_shell(tmp_path: Path) -> None:
    (tmp_path / "sales.csv").write_text("product,worth,hours\nfig,1234.5,1.25\nivy,-200,0.5\nyew,,\n")
    text = (
        'relatum = 1\nlocale = "de"\n[table.sales]\nsource = "sales.csv"\n[table.sales.column.product]\nlabel = "Pflanze"\ncolours = { fig = "#123456" }\n'
        'style = [{ members = ["ivy"], mark = "!" }]\n[measure.worth]\nformula = "sum(sales.worth)"\nformat = "#,##0.0 ¤"\nscale = "thousands"\nlabel = "Wert"\nblank = "leer"\n'
        'style = [{ when = "worth < 0", mark = "▼", colour = "bad", about = "unter null" }, { bar = true }]\n[measure.hours]\nformula = "sum(sales.hours)"\nduration = "hours"\n'
        '[theme]\nwidths = { "sales.product" = 12 }\n[theme.light]\naccent = "#7a1f5c"\n'
    )
    (tmp_path / "m.toml").write_text(text)
    model = relatum.Model("model", locale="de")
    model.add_table("sales", str(tmp_path / "sales.csv"))
    model.measure("worth", "sum(sales.worth)", format={"format": "#,##0.0 ¤", "scale": "thousands", "blank": "leer"}, label="Wert",
                  style=[{"when": "worth < 0", "mark": "▼", "colour": "bad", "about": "unter null"}, {"bar": True}])  # fmt: skip
    model.measure("hours", "sum(sales.hours)", format={"duration": "hours"})
    model.look("sales.product", label="Pflanze", colours={"fig": "#123456"}, style=[{"members": ["ivy"], "mark": "!"}])
    model.dress({"widths": {"sales.product": 12}, "light": {"accent": "#7a1f5c"}})
    opened = relatum.open(tmp_path / "m.toml")
    grids = [each.pivot("sales.product", values="worth, hours") for each in (opened, model)]
    assert grids[0].to_text(90) == grids[1].to_text(90)
    assert grids[0].to_html() == grids[1].to_html() and grids[0]._workbook(False) == grids[1]._workbook(False)
    assert grids[0].to_text(90).splitlines()[2:] == EXPECTED
    model.save(tmp_path / "n.toml")
    again = relatum.open(tmp_path / "n.toml")
    for part in ("measures", "theme"):
        assert getattr(again.declaration, part) == getattr(opened.declaration, part)
    assert again.declaration.tables["sales"].columns["product"] == opened.declaration.tables["sales"].columns["product"]
    (tmp_path / "house.toml").write_text('font = "serif"\n[widths]\nworth = 30\n')
    plain = tmp_path / "p.toml"
    plain.write_text('relatum = 1\nlocale = "de"\n[table.sales]\nsource = "sales.csv"\n')
    result = run("pivot", plain, "--rows", "sales.product", "--values", "worth: sum(sales.worth) scale thousands format '#,##0.0 ¤' blank 'leer'",
                 "--theme", tmp_path / "house.toml", "--style", 'when = "worth < 0", mark = "▼"')  # fmt: skip
    assert result.exit_code == 0 and "▼ −0,2 €" in result.stdout
    assert max(map(len, result.stdout.splitlines()[2:6])) == 39, "the theme's width holds"
    wrong = run(
        "pivot", plain, "--rows", "sales.product", "--values", "count(sales)", "--theme", tmp_path / "gone.toml"
    )
    assert wrong.exit_code == 2 and "no such file" in wrong.stderr
