"""Sheets and named tables: what is read, what is left out, and that both are reported."""

from __future__ import annotations

from datetime import date, datetime
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from openpyxl.worksheet.table import Table

import relatum
from relatum.data.arrow import python_values

Rows = list[tuple[Any, ...]]
HEAD, BODY = (
    ("no", "day", "amount"),
    [(1, datetime(2024, 1, 1), 2.5), (2, datetime(2024, 1, 2), 3), (3, datetime(2024, 1, 3), 4.5)],
)
PLAIN = {"no": [1, 2, 3], "day": [date(2024, 1, day) for day in (1, 2, 3)], "amount": [2.5, 3.0, 4.5]}

SHEETS: list[tuple[str, Rows, dict[str, list[Any]], list[str]]] = [
    ("plain", [HEAD, *BODY], PLAIN, []),
    ("titles above", [("Sales of spring",), (), ("as of", "May", None), HEAD, *BODY], PLAIN, ["2 rows above the heading left out: Sales of spring, as of"]),
    ("blank columns", [(None, "no", None, "day", "amount"), *[(None, a, None, b, c) for a, b, c in BODY]], PLAIN, ["2 blank columns left out"]),
    ("a total below", [HEAD, *BODY, (None, None, 10.0)], PLAIN, ["the last row left out: its numbers are the totals"]),
    ("notes below", [HEAD, *BODY, (), ("Source: the till",), ("printed twice",)], PLAIN, ["2 rows below a blank row left out, from Source: the till on"]),
    ("a column without heading", [(*HEAD, None), *[(*row, "x") for row in BODY]], PLAIN, ["1 column without a heading left out"]),
    ("one column", [("word",), ("a",), ("b",)], {"word": ["a", "b"]}, []),
    ("mixed values", [("a", "b"), (1, "x"), ("two", "y"), (3.0, None)], {"a": ["1", "two", "3"], "b": ["x", "y", None]}, ["a: 2 values of 3 not text; all are read as text"]),
    ("no value", [("a", "b"), (1, None), (2, None)], {"a": [1, 2], "b": [None, None]}, ["b: no value in any row"]),
    ("flags and moments", [("f", "t"), (True, datetime(2024, 1, 1, 8, 30)), (False, datetime(2024, 1, 2))],
     {"f": [True, False], "t": [datetime(2024, 1, 1, 8, 30), datetime(2024, 1, 2)]}, []),
    ("an error value", [("a", "b"), (1, "#N/A"), (2, "y")], {"a": [1, 2], "b": [None, "y"]}, []),
]  # fmt: skip


def save(path: Path, sheets: dict[str, Rows]) -> openpyxl.Workbook:
    book = openpyxl.Workbook()
    book.remove(book.active)
    for name, rows in sheets.items():
        sheet = book.create_sheet(name)
        for at, row in enumerate(rows, 1):
            for column, value in enumerate(row, 1):
                cell = sheet.cell(at, column, value)
                if value == "#N/A":
                    cell.data_type = "e"
    book.save(path)
    return book


@pytest.mark.parametrize(("name", "rows", "values", "remarks"), SHEETS, ids=[each[0] for each in SHEETS])
def test_a_sheet(tmp_path: Path, name: str, rows: Rows, values: dict[str, list[Any]], remarks: list[str]) -> None:
    save(tmp_path / "book.xlsx", {"Sheet": rows})
    model = relatum.Model()
    model.add_table("t", tmp_path / "book.xlsx")
    data = model.session.data["t"]
    assert {column: python_values(data.column(column)) for column in data.types} == values
    assert len(data.remarks) == len(remarks)
    assert all(wanted in got for wanted, got in zip(remarks, data.remarks, strict=True)), data.remarks
    report = str(model.check())
    assert all(wanted in report for wanted in remarks)


def test_numbers_shown_with_zeros_in_front_are_codes(tmp_path: Path) -> None:
    book = save(tmp_path / "book.xlsx", {"Sheet": [("code", "n"), (7, 1), (42, 2)]})
    for row in (2, 3):
        book["Sheet"].cell(row, 1).number_format = "0000"
    book.save(tmp_path / "book.xlsx")
    model = relatum.Model()
    model.add_table("t", tmp_path / "book.xlsx")
    assert python_values(model.session.data["t"].column("code")) == ["0007", "0042"]


def test_named_tables_come_before_sheets(tmp_path: Path) -> None:
    book = save(
        tmp_path / "book.xlsx", {"Plan": [("a", "b"), (1, 2), (3, 4), ("total", 6)], "Notes": [("x", "y"), (5, 6)]}
    )
    named = Table(displayName="Orders", ref="A1:B4", totalsRowCount=1)
    book["Plan"].add_table(named)
    book.save(tmp_path / "book.xlsx")
    draft = relatum.draft(tmp_path / "book.xlsx")
    assert draft.rows == {"orders": 2, "notes": 1}
    assert any("1 total row below the table left out" in each.statement for each in draft.proposals)
    model = draft.model()
    assert model.evaluate("sum(orders.b)") == 6
    with pytest.raises(relatum.SourceError, match="has 2 tables"):
        relatum.Model().add_table("t", tmp_path / "book.xlsx")
    with pytest.raises(relatum.SourceError, match="Did you mean Orders"):
        relatum.Model().add_table("t", tmp_path / "book.xlsx", part="Order")


def test_a_model_names_its_sheet(tmp_path: Path) -> None:
    save(tmp_path / "book.xlsx", {"May": [HEAD, *BODY], "June": [HEAD, *BODY[:1]]})
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.sales]\nsource = "book.xlsx"\npart = "June"\n[table.sales.column.amount]\ntype = "decimal(1)"\n'
    )
    model = relatum.open(tmp_path / "m.toml")
    assert str(model.evaluate("sum(sales.amount)")) == "2.5"
    model.save(tmp_path / "m.toml")
    assert 'part = "June"' in (tmp_path / "m.toml").read_text()


def test_a_workbook_is_read_once_for_all_its_tables_and_again_once_it_has_changed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    book, model_file = tmp_path / "book.xlsx", tmp_path / "m.toml"
    save(book, {"a": [HEAD, *BODY], "b": [HEAD, *BODY[:2]], "c": [HEAD, *BODY[:1]]})
    loads: list[object] = []
    load = openpyxl.load_workbook
    monkeypatch.setattr(openpyxl, "load_workbook", lambda *given, **named: loads.append(given) or load(*given, **named))
    model_file.write_text(
        "relatum = 1\n" + "".join(f'[table.{name}]\nsource = "book.xlsx"\npart = "{name}"\n' for name in "abc")
    )
    model = relatum.open(model_file)
    assert [model.evaluate(f"count({name})") for name in "abc"] == [3, 2, 1]
    assert len(loads) == 1
    assert {"a", "b", "c"} < set(relatum.draft(book).declaration.tables)
    assert len(loads) == 2
    save(book, {"a": [HEAD, *BODY], "b": [HEAD, *BODY], "c": [HEAD, *BODY]})
    model = relatum.open(model_file)
    assert [model.evaluate(f"count({name})") for name in "abc"] == [3, 3, 3]
    assert len(loads) == 3
