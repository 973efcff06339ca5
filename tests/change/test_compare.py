"""Two models side by side."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pytest

import relatum
from stall import make_stall, run


def both(edit: Callable[[relatum.Model], object]) -> tuple[relatum.Model, relatum.Model]:
    before, after = make_stall(), make_stall()
    edit(after)
    return before, after


CHANGES: list[tuple[Callable[[relatum.Model], object], list[str], list[str]]] = [
    (lambda m: None, [], []),
    (lambda m: m.measure("revenue", "sum( sales.quantity*product.price ) -- the same", format="¤#,##0.00", replace=True), [], []),
    (lambda m: m.measure("revenue", "sum(sales.quantity)", format="¤#,##0.00", replace=True), ["changed  measure revenue: formula sum(sales.quantity * product.price) -> sum(sales.quantity)"], ["revenue"]),
    (lambda m: m.measure("revenue", "sum(sales.quantity * product.price)", format="0", replace=True), ["changed  measure revenue: format ¤#,##0.00 -> 0"], []),
    (lambda m: m.measure("twice", "2 * revenue"), ["added    measure twice"], []),
    (lambda m: m.remove("goal"), ["removed  measure goal"], []),
    (lambda m: m.rename("goal", "aim"), ["renamed  measure goal to aim"], []),
    (lambda m: m.relate("sales.customer -> customer.customer", direction="both", replace=True), ["changed  relationship sales.customer -> customer.customer: direction down -> both"], []),
    (lambda m: m.remove("product.kind -> kind.kind", force=True), ["removed  relationship product.kind -> kind.kind"], []),
    (lambda m: m.derive("product", "dear", "price > 10"), ["added    derived column product.dear"], []),
    (lambda m: m.hierarchy("range", ["kind.family", "product.product"]), ["added    hierarchy range"], []),
    (lambda m: m.control("revenue", 5, at={"product.kind": "tree"}), ["added    control revenue product.kind = 'tree'"], []),
    (lambda m: m.add_role("shipping", "calendar"), ["added    table shipping"], []),
    (lambda m: m.rename("sales.quantity", "pieces"), ["renamed  column sales.quantity to sales.pieces"], []),
    (lambda m: (m.rename("product.price", "cost"), m.measure("revenue", "sum(sales.quantity * product.cost)", format="0", replace=True)), ["renamed  column product.price to product.cost", "changed  measure revenue: format ¤#,##0.00 -> 0"], []),
    (lambda m: m.rename("kind.family", "sort"), ["renamed  column kind.family to kind.sort"], []),
    (lambda m: m.rename("sales", "lines"), ["renamed  table sales to lines"], []),
    (lambda m: (m.rename("calendar", "days"), m.rename("kind", "sort")), ["renamed  table kind to sort", "renamed  table calendar to days"], []),
]  # fmt: skip


@pytest.mark.parametrize(("edit", "said", "moved"), CHANGES)
def test_what_changed(edit: Callable[[relatum.Model], object], said: list[str], moved: list[str]) -> None:
    before, after = both(edit)
    found = before.compare(after)
    assert [str(each) for each in found.changes] == said
    assert [each.name for each in found.moved] == moved
    assert found.same == (not said and not moved)
    back = after.compare(before)
    assert len(back.changes) == len(said)
    assert [(each.before, each.after) for each in back.moved] == [(each.after, each.before) for each in found.moved]


def test_values_that_moved() -> None:
    before, after = both(lambda m: m.measure("revenue", "sum(sales.quantity * product.price) + 1", replace=True))
    before.control("revenue", 1, at={"product.kind": "fruit"})
    found = before.compare(after, values=["revenue", "twice: 2 * revenue", "quantity"])
    assert [(each.name, each.difference) for each in found.moved] == [
        ("revenue", 1),
        ("twice", 2),
        ("revenue at product.kind = 'fruit'", 1),
    ]
    assert found.compared == 4
    gone = make_stall()
    gone.remove("goal")
    (moved,) = before.compare(gone, values="goal").moved[-1:]
    assert "no measure goal" in moved.after


def test_a_relationship_means_the_same_whichever_end_is_named_first() -> None:
    models = []
    for link, direction in (("sales.note >-< club.note", "left"), ("club.note >-< sales.note", "right")):
        model = make_stall()
        model.add_table("club", pa.table({"note": ["x", "y"]}))
        model.relate(link, direction=direction)
        models.append(model)
    assert models[0].compare(models[1]).changes == ()
    models[1].relate("club.note >-< sales.note", direction="both", replace=True)
    assert [each.setting for each in models[0].compare(models[1]).changes] == ["direction"]


def test_in_the_shell(hollowmere: Path, tmp_path: Path) -> None:
    same = run("diff", hollowmere, hollowmere)
    assert same.exit_code == 0
    assert same.stdout == "the models mean the same\n0 of 15 values moved\n"
    other = hollowmere.with_name("other.toml")
    other.write_text(
        hollowmere.read_text()
        .replace("net_revenue - cost", "net_revenue - 2 * cost")
        .replace("# Hollowmere", "# Changed")
    )
    try:
        result = run("diff", hollowmere, other, "--values", "margin, revenue", width=120)
        assert result.exit_code == 1
        assert "changed  measure margin" in result.stdout
        assert result.stdout.splitlines()[-1] == "1 of 5 values moved"
        document = json.loads(run("diff", hollowmere, other, "--format", "json").stdout)
        assert {each["name"] for each in document["moved"]} == {"margin", "margin_rate"}
    finally:
        other.unlink()
    assert run("diff", hollowmere, tmp_path / "none.toml").exit_code == 2
