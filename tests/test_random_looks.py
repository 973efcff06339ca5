"""Random requests of the demo through every medium: each is drawn or refused by name, and says what the grid says."""

from __future__ import annotations

import random
import warnings
from typing import Any

import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg

import relatum
from relatum.present.charts.choose import KINDS
from relatum.present.charts.frame import frame_of
from relatum.present.sheet import nested, sheet_of
from sheets import Book

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
WHERE = ["", "", "calendar.year = 2024", "customer.region = 'North'", "category.department = 'Water'", "sales.quantity > 1000000", "category is no match"]
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
        rules.append(chance.choice([{"value": "v0", "bar": True}, {"value": "v0", "shades": ["low", "middle", "high"]}]))
    try:
        grid = nursery.pivot(fields[:count], fields[count:], values, chance.choice(WHERE), style=rules, values_on=chance.choice(["rows", "columns"]))
        sheet_of(grid.result)
    except relatum.RelatumError:
        return None
    return grid


@pytest.mark.parametrize("turn", range(6))
def test_every_chart_draws_a_grid_or_says_why_not(nursery: relatum.Model, turn: int) -> None:
    drawn = 0
    for seed in range(turn * 100, turn * 100 + 12):
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


@pytest.mark.parametrize("turn", range(4))
def test_text_page_workbook_and_markdown_take_every_grid(nursery: relatum.Model, turn: int) -> None:
    for seed in range(1000 + turn * 100, 1000 + turn * 100 + 10):
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
        assert [[text[:10] if text[:4].isdigit() and text[4:5] == "-" else text for text in line] for line in shown] == dates or not sheet.columns, seed
        page, notebook, markdown = grid.to_html(), grid._repr_html_(), grid.to_markdown()
        assert page.startswith("<!doctype html>") and notebook.count("<table") == 1 and markdown.startswith("**nursery** ")
        lines = nested(sheet, [axis.attribute is not None for axis in grid.result.axes[: grid.result.row_count]])
        assert sum(line.cells is not None for line in lines) == len(sheet.rows), "every line of the grid has its own"
        for width in (60, 200):
            assert grid.to_text(width, layout="nested")


@pytest.mark.parametrize("turn", range(4))
def test_rows_behind_any_grid_give_its_cells(nursery: relatum.Model, turn: int) -> None:
    told = 0
    for seed in range(3000 + turn * 100, 3000 + turn * 100 + 10):
        grid = random_grid(nursery, seed)
        if grid is None:
            continue
        try:
            book = Book(grid.again(where="calendar.month = '2024-04'")._workbook(True))
        except relatum.RequestError as error:
            assert "No value of the grid is a sum" in error.reason
            continue
        for line in book.book["Grid"].iter_rows():
            for cell in line:
                if isinstance(cell.value, str) and cell.value.startswith("=") and "ROUND" not in cell.value:
                    told += 1
                    wanted = book.cached["Grid"][cell.coordinate].value
                    days = wanted.total_seconds() / 86400 if hasattr(wanted, "total_seconds") else wanted
                    assert book.worked_out(cell.value) == pytest.approx(days, rel=1e-9, abs=1e-12), (seed, cell.value)
    assert told > 0
