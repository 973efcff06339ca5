"""Grids as workbooks and Markdown: read back, drawn as a spreadsheet draws them, sums traced to their rows."""

from __future__ import annotations

import datetime
from pathlib import Path

import pyarrow as pa
import pytest

import relatum
from relatum.present.sheet import sheet_of
from sheets import Book, drawn
from stall import run

CODES = [
    (1234.5, '"€"#,##0.00;"−€"#,##0.00', "€1,234.50"), (-1234.5, '"€"#,##0.00;"−€"#,##0.00', "−€1,234.50"), (0.1234, "0.0%", "12.3%"),
    (1234567, "#,##0,", "1,235"), (1234567, r"00\,00\,000", "12,34,567"), (0, '#,##0;"−"#,##0;"nil"', "nil"), (0.0861, '[h]:mm', "2:03"),
    (7, "0000", "0007"), (12.5, '"▼ "#,##0.0', "▼ 12.5"),
]  # fmt: skip


@pytest.mark.parametrize(("number", "code", "text"), CODES)
def test_codes_are_drawn_as_the_standard_says(number: float, code: str, text: str) -> None:
    assert drawn(number, code, ".", ",") == text


@pytest.fixture
def shop() -> relatum.Model:
    model = relatum.Model("shop")
    model.add_table("sales", pa.table({"product": ["fig", "fig", "ivy", "=yew", "fig"], "kind": ["tree", "tree", "vine", "tree", "tree"],
                                       "year": [2023, 2024, 2024, 2024, 2024], "pieces": [2, 3, 4, 5, None], "price": [1.5, 2.0, 0.25, 4.0, 9.0]}))  # fmt: skip
    model.measure("pieces", "sum(sales.pieces)")
    model.measure("worth", "sum(sales.pieces * sales.price)", format="¤#,##0.00")
    return model


def test_a_workbook_has_formats_heads_levels_and_what_to_know(shop: relatum.Model, tmp_path: Path) -> None:
    grid = shop.pivot("sales.kind, sales.product", "sales.year", "worth, pieces", "sales.pieces > 1",
                      style=[{"value": "pieces", "when": "pieces > 4", "mark": "▲", "fill": "#ffee88"}, {"value": "worth", "bar": True}])  # fmt: skip
    grid.save(tmp_path / "g.xlsx")
    book = Book((tmp_path / "g.xlsx").read_bytes())
    page = book.book["Grid"]
    rows = book.rows("Grid")
    assert rows[0][0] == "shop  worth, pieces" and rows[1][0] == "where sales.pieces > 1"
    assert rows[2][2] == "2023" and rows[3][:4] == ["kind", "product", "worth", "pieces"]
    assert rows[4][:6] == ["tree", "=yew", "", "", "€20.00", "▲ 5"]
    assert page["B5"].data_type == "s", "a text that begins with = is not a formula"
    assert page["E5"].value == 20 and page["E5"].number_format == '"€"#,##0.00;"−€"#,##0.00'
    assert page.freeze_panes == "C5"
    assert [page.row_dimensions[row].outlineLevel for row in range(5, 10)] == [1, 1, 0, 1, 0]
    assert page["F5"].fill.start_color.rgb == "FFFFEE88"
    assert page["B5"].font.bold is not True and page["A7"].font.bold is True and page["C10"].font.bold is True, (
        "the total stands out"
    )
    (bar,) = [rule for ranges in page.conditional_formatting for rule in ranges.rules]
    assert bar.type == "dataBar" and float(bar.dataBar.cfvo[1].val) == 20
    about = {line[0]: line[1:] for line in book.rows("About") if line[0]}
    assert about["where"][0] == "sales.pieces > 1"
    assert about["worth"][0] == "worth = sum(sales.pieces * sales.price)", "what it means, down to its parts"
    assert about["rows"][0] == "sales.kind, sales.product" and "legend" in about


def test_rows_behind_make_every_sum_a_formula_that_gives_the_cell(shop: relatum.Model, tmp_path: Path) -> None:
    values = "worth, pieces, average: worth / pieces, half: pieces * 0.5 - 1, many: count(distinct sales.product), n: count(sales)"
    grid = shop.pivot("sales.kind, sales.product", "sales.year", values)
    grid.save(tmp_path / "g.xlsx", rows_behind=True)
    book = Book((tmp_path / "g.xlsx").read_bytes())
    page, cached = book.book["Grid"], book.cached["Grid"]
    seen = 0
    for line in page.iter_rows(min_row=5, min_col=3):
        for cell in line:
            if isinstance(cell.value, str) and cell.value.startswith("="):
                seen += 1
                assert book.worked_out(cell.value) == pytest.approx(cached[cell.coordinate].value), cell.value
    counted = [
        cell
        for line in sheet_of(grid.result).cells
        for cell in line
        if cell.there and not cell.null and cell.number != 4
    ]
    assert seen == len(counted), "every value but the distinct count is told by rows"
    heads = [cell.value for cell in book.book["Rows of sales"][1]]
    assert heads[:3] == ["row", "sales.pieces", "sales.price"] and "product (number)" in heads
    total = page.cell(page.max_row, page.max_column - 5)
    before = book.worked_out(total.value)
    rows = book.book["Rows of sales"]
    column = heads.index("value 1") + 1
    rows.cell(2, column).value += 100
    assert book.worked_out(total.value) == pytest.approx(before + 100), "a changed row changes the sum"


def test_rows_behind_of_the_demo_with_lookups_and_a_condition(hollowmere: Path, tmp_path: Path) -> None:
    out = tmp_path / "g.xlsx"
    result = run("pivot", hollowmere, "--rows", "category.department, category.category", "--columns", "customer.region", "--values",
                 "revenue scale lakh, margin_rate, orders", "--where", "calendar.month = '2024-03'", "--out", out, "--rows-behind")  # fmt: skip
    assert result.exit_code == 0, result.stderr
    book = Book(out.read_bytes())
    formulas = [cell for line in book.book["Grid"].iter_rows(min_row=5, min_col=3) for cell in line
                if isinstance(cell.value, str) and cell.value.startswith("=")]  # fmt: skip
    assert len(formulas) > 50
    for cell in formulas:
        assert book.worked_out(cell.value) == pytest.approx(book.cached["Grid"][cell.coordinate].value, rel=1e-9)
    for arguments, reason in ((["revenue", "--out", tmp_path / "g.csv"], "rows_behind works only with .xlsx files"),
                              (["orders", "--out", out], "No value in this grid is a sum")):  # fmt: skip
        refused = run("pivot", hollowmere, "--rows-behind", "--values", *arguments)
        assert refused.exit_code == 2 and reason in refused.stderr


def test_more_rows_than_can_be_handed_out_are_refused(
    shop: relatum.Model, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("relatum.pivot.behind.MOST_ROWS", 3)
    with pytest.raises(relatum.RequestError, match="There are 5 rows of sales behind the grid; the limit is 3"):
        shop.pivot("sales.kind", values="pieces").save(tmp_path / "g.xlsx", rows_behind=True)
    assert not (tmp_path / "g.xlsx").exists()


KEPT = [
    ("n: count(sales)", 3, "3"), ("d: max(sales.day)", None, "2024-03-03"), ("t: min(sales.product)", None, "+a"),
    ("big: sum(sales.long)", None, "2,305,843,009,213,693,953"), ("w: sum(sales.secs) duration seconds", None, "1:00:10"),
    ("m: sum(sales.minus) duration hours", None, "−1:30"), ("b: min(sales.product = 'x')", None, "false"),
]  # fmt: skip


@pytest.mark.parametrize(("value", "stored", "text"), KEPT)
def test_what_is_no_plain_number_is_shown_alike(value: str, stored: object, text: str) -> None:
    model = relatum.Model("m")
    days = [datetime.date(2024, 3, day) for day in (1, 2, 3)]
    model.add_table("sales", pa.table({"day": days, "product": ["@b", "+a", "-c"], "long": [2**61, 0, 1],
                                       "secs": [3600, 10, 0], "minus": [-1.0, -0.5, 0.0]}))  # fmt: skip
    book = Book(model.pivot(values=value)._workbook(False))
    cell = book.cached["Grid"].cell(4, 2)
    shown = str(cell.value)[:10] if value.startswith("d") else book.text("Grid", 4, 2)
    assert shown == text
    assert stored is None or cell.value == stored


def test_markdown_shows_the_grid(shop: relatum.Model) -> None:
    text = shop.pivot(
        "sales.product", values="pieces", where="sales.pieces > 2", style=[{"when": "pieces > 4", "mark": "▲"}]
    ).to_markdown()
    assert text.splitlines() == [
        "**shop** pieces", "", r"where sales.pieces \> 2", "", "| product | pieces |", "| :-- | --: |", "| =yew | ▲ 5 |", "| fig | 3 |",
        "| ivy | 4 |", "| **total** | **▲ 12** |", "", r"- ▲ pieces \> 4",
    ]  # fmt: skip
