"""The audit: what it finds, what each finding is worth, and what it says of sound data."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import relatum
from stall import run

DAYS = [date(2024, 1, 1) + timedelta(days=n) for n in range(60)]
Tables = dict[str, dict[str, list[Any]]]


def shop(**changes: dict[str, list[Any]]) -> relatum.Model:
    """A sound model; ``changes`` replace columns of its tables."""
    tables: Tables = {
        "sales": {"product": ["a", "b", "a", "b"], "day": DAYS[:4], "quantity": [1, 2, 3, 4]},
        "product": {"product": ["a", "b"], "kind": ["x", "y"], "maker": ["m", "n"]},
        "price": {"product": ["a", "a", "b"], "since": [DAYS[0], DAYS[2], DAYS[0]], "until": [DAYS[1], DAYS[40], DAYS[40]],
                  "price": [10, 20, 30]},
        "days": {"day": DAYS, "holiday": [False] * 60},
    }  # fmt: skip
    for name, columns in changes.items():
        tables[name] = {**tables.get(name, {}), **columns}
    model = relatum.Model("shop")
    model.add_table("sales", pa.table(tables.pop("sales")))
    model.add_table("product", pa.table(tables.pop("product")), key="product")
    model.add_table("price", pa.table(tables.pop("price")), key=["product", "since"])
    model.add_table("days", pa.table(tables.pop("days")), key="day", calendar=True)
    for name, columns in tables.items():
        model.add_table(name, pa.table(columns))
    model.relate("sales.product -> product.product")
    model.relate("sales.day -> days.day")
    model.relate("sales.(product, day) -> price.(product, since)", match="as_of")
    model.measure("revenue", "sum(sales.quantity * price.price)", format="¤0")
    model.measure("quantity", "sum(sales.quantity)")
    return model


def test_sound_data_has_no_findings() -> None:
    report = shop().check()
    assert report.ok
    assert report.findings == ()
    assert report.summary == "No problem in 4 tables, 3 relationships, 2 measures and 0 controls."


def changed(edit: Any, **columns: dict[str, list[Any]]) -> relatum.Model:
    model = shop(**columns)
    edit(model)
    return model


FINDINGS = [
    ("orphans with money", shop(sales={"product": ["a", "b", "a", "z"]}), "problem", "1 row of sales (25.00%) has no match in product, for instance 'z'", "It is shown as (no match); it holds 4 of quantity (40.00%)", 1),
    ("null keys with money", shop(sales={"product": ["a", "b", None, "b"]}), "remark", "1 row of sales (25.00%) has no key", "it holds 3 of quantity (30.00%)", 1),
    ("keys that differ by case", shop(sales={"product": ["a", "b", "A", "b "]}), "problem", "2 rows of sales (50.00%) have no match in product", "", 2),
    ("outside the calendar", shop(sales={"day": [DAYS[0], DAYS[1], DAYS[2], date(2025, 7, 1)]}), "problem", "is dated outside days: 1 after 2024-02-29 (for instance 2025-07-01)", "It is shown as (no match)", 1),
    ("before the first price", shop(price={"since": [DAYS[1], DAYS[2], DAYS[0]]}), "problem", "is dated before the first row of price with the same key, for instance ('a', 2024-01-01)", "left out", 1),
    ("calendar gaps", shop(days={"day": [*DAYS[:30], *DAYS[32:]], "holiday": [False] * 58}), "problem", "lacks 2 dates between its first and last, for instance 2024-01-31", "calendar changes skip them", 2),
    ("overlapping intervals", shop(price={"until": [DAYS[9], DAYS[40], DAYS[40]]}), "problem", "1 row of price has until after the next since, for instance ('a', 2024-01-01)", "The later row is used", 1),
    ("gaps between intervals", shop(price={"since": [DAYS[0], DAYS[3], DAYS[0]], "until": [DAYS[1], DAYS[40], DAYS[40]]}), "remark", "1 row of price has until well before the next since", "the earlier row is still used", 1),
    ("members that differ by blanks", shop(product={"kind": ["big pot", "Big  pot "]}), "problem", "has 1 member written in more than one way (case or blanks), for instance 'Big  pot ' and 'big pot'", "They are counted as different members, in 2 rows", 2),
    ("rows never pointed to", shop(product={"product": ["a", "b", "c"], "kind": ["x", "y", "y"], "maker": ["m", "n", "n"]}), "remark", "1 of 3 rows of product has no row in sales", "only if empty members are asked for", 1),
    ("members that differ by case", shop(product={"kind": ["DeJong", "Dejong"]}), "remark", "written in more than one way (case), for instance 'DeJong' and 'Dejong'", "", 2),
    ("a sum of codes", changed(lambda m: (m.add_table("leg", pa.table({"leg_no": [4, 5], "seats": [1, 2]})), m.measure("legs", "sum(leg.leg_no) + sum(leg.seats)"))), "doubt", "adds up leg.leg_no, whose numbers are identifiers or positions", "means nothing", 0),
    ("a table alone", shop(extra={"a": [1]}), "problem", "is not related to any other table", "It cannot be combined with other tables", 0),
    ("no rows", shop(extra={"a": pa.array([], pa.int64())}), "problem", "has no rows", "Every aggregate over it is null", 0),
    ("a null key", shop(product={"product": ["a", "b", None], "kind": ["x", "y", "y"], "maker": ["m", "n", "n"]}), "problem", "key product is null on 1 row", "can never be looked up", 1),
    ("a key that is not unique", shop(extra={"a": [1, 1, 2]}), "problem", "key a is not unique: 1 value on 2 rows, for instance 1", "would be counted several times", 2),
    ("a column that is not read", shop(extra={"a": [[1]]}), "remark", "is left out: values of type", "", 0),
    ("a measure null everywhere", changed(lambda m: m.measure("nothing", "sum(sales.quantity) / 0")), "problem", "has no value: not over all rows, not in any year or month", "It is blank", 0),
    ("a control that fails", changed(lambda m: m.control("quantity", 11, at={"product.kind": "x"})), "problem", "expected 11, got 4, difference -7", "differs from the control total", 0),
    ("filters both ways", changed(lambda m: m.relate("sales.product -> product.product", direction="both", replace=True)), "remark", "lets filters travel both ways, so a filter on sales reaches product", "add up to more than the total", 0),
    ("many to many", changed(lambda m: (m.add_table("tag", pa.table({"product": ["a", "a", "b"], "tag": ["p", "q", "p"]})), m.relate("product.product >-< tag.product", direction="left"))), "remark", "3 pairs of rows. In product, 0 rows have no partner and 1 row has several (up to 2)", "add up to more than the total", 1),
    ("a hierarchy that is none", changed(lambda m: m.hierarchy("h", ["product.maker", "product.kind"]), product={"product": ["a", "b", "c"], "kind": ["x", "x", "y"], "maker": ["m", "n", "n"]}), "problem", "1 member of product.kind under more than one product.maker, for instance 'x'", "shows part of its number under each", 1),
    ("a hierarchy across tables", changed(lambda m: m.hierarchy("h", ["product.kind", "price.price"])), "problem", "a row of price has no single product.kind", "combined in every way", 0),
]  # fmt: skip


@pytest.mark.parametrize(
    ("model", "severity", "text", "effect", "rows"), [each[1:] for each in FINDINGS], ids=[each[0] for each in FINDINGS]
)
def test_a_finding(model: relatum.Model, severity: str, text: str, effect: str, rows: int) -> None:
    if "extra" in model.declaration.tables and "a is not unique" in text.replace("key ", ""):
        model.add_table("extra", pa.table({"a": [1, 1, 2]}), key="a", replace=True)
    report = model.check(value="quantity")
    found = [each for each in report.findings if text in each.text]
    assert found, str(report)
    finding = found[0]
    assert finding.severity == severity
    assert effect in finding.effect
    assert finding.rows == rows
    assert report.ok is not any(each.severity == "problem" for each in report.findings)
    if severity == "problem":
        assert finding.fix, "a problem says what to do"


def test_ends_of_different_types_are_a_problem(tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text("p\n1\n")
    (tmp_path / "p.csv").write_text("p\nx\n")
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.s]\nsource = "s.csv"\n[table.p]\nsource = "p.csv"\n[[relationship]]\nlink = "s.p -> p.p"\n'
    )
    report = relatum.open(tmp_path / "m.toml").check()
    assert [each.text for each in report.problems] == ["s.p is integer and p.p is text: they never match."]


def test_a_measure_that_compares_with_last_year_is_not_null_everywhere(nursery: relatum.Model) -> None:
    model = relatum.Model.of(nursery.declaration.with_measure(
        type(nursery.declaration.measures["revenue"])("growth", "revenue / revenue[back 1 year] - 1")), nursery._state.where())  # fmt: skip
    assert model.evaluate("growth") is None
    assert not [each for each in model.check().findings if "growth" in each.subject]


def test_worst_first_and_any_measure_says_what_rows_are_worth(hollowmere: Path, nursery: relatum.Model) -> None:
    report = nursery.check()
    kinds = [each.severity for each in report.findings]
    assert kinds == sorted(kinds, key=["problem", "doubt", "remark"].index)
    lost = {each.subject: each.value for each in report.problems}
    unlisted = "revenue[where (product is no match and sales.product_id is not null over sales)]"
    assert lost["sales.product_id -> product.product_id"] == nursery.evaluate(unlisted)
    assert isinstance(lost["sales.product_id -> product.product_id"], Decimal)
    by_quantity = nursery.check("quantity")
    assert isinstance(
        next(each.value for each in by_quantity.problems if each.subject == "sales.product_id -> product.product_id"),
        int,
    )
    with pytest.raises(relatum.ModelError, match="Did you mean revenue"):
        nursery.check("revenu")
    result = run("check", hollowmere, "--value", "quantity", width=120)
    assert result.exit_code == 1
    assert "quantity" in result.stdout
