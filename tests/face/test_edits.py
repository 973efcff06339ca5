"""Changing a model: what depends on what, names that are followed everywhere, refusals that leave no trace."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest

import relatum
from relatum.change.impact import Dependencies
from relatum.model.names import column_name, quoted
from stall import make_stall, run


def worth(model: relatum.Model) -> dict[str, Any]:
    """Every measure over all rows."""
    return {name: model.evaluate(quoted(name)) for name in model.declaration.measures}


def rich_stall() -> relatum.Model:
    """The stall with something of every kind in it."""
    model = make_stall()
    with model.edits():
        model.derive("product", "dear", "price > 10")
        model.derive("sales", "worth", "quantity * product.price")
        model.derive("product", "sold", "sum(sales.quantity)")
        model.measure("dear_revenue", "revenue[where product.dear]")
        model.measure("worth", "sum(sales.worth)")
        model.measure("share", "revenue / revenue[ignoring product]")
        model.measure("last_month", "revenue[back 1 month]")
        model.measure("best", "max(revenue per product)")
        model.measure("place", "rank(revenue among kind.family)")
        model.measure("named", "let amount = revenue then amount + goal")
        model.add_derived_table("by_kind", ["product.kind"], {"total": "revenue", "n": "quantity"})
        model.hierarchy("range", ["kind.family", "product.kind", "product.product"])
        model.control("revenue", 100, at={"product.kind": "fruit"}, tolerance=1000)
        model.add_role("paid_calendar", "calendar")
    return model


THINGS = [
    "sales", "product", "kind", "customer", "calendar", "target", "by_kind", "paid_calendar", "quantity", "revenue", "goal", "worth",
    "product.dear", "product.sold", "sales.worth", "range", "control 1", "sales.product -> product.product", "target.kind -> kind.kind",
    "sales.sold_on -> calendar.date", "product.kind -> kind.kind", "target.month -> calendar.month", "by_kind.total",
]  # fmt: skip


@pytest.mark.parametrize("thing", THINGS)
def test_what_is_removed_is_what_impact_says_and_the_rest_stays(thing: str) -> None:
    model = rich_stall()
    before, declaration = worth(model), model.declaration
    impact = model.impact(thing)
    if impact.breaks:
        with pytest.raises(relatum.ModelError, match="is needed by") as caught:
            model.remove(thing)
        assert impact.breaks[0].name in str(caught.value)
        assert model.declaration is declaration, "a refused edit leaves the model as it was"
    gone = model.remove(thing, force=True)
    assert gone == impact.breaks
    broken = {each.name for each in gone if each.kind == "measure"} | {thing}
    assert set(model.declaration.measures) == set(declaration.measures) - broken
    assert worth(model) == {name: value for name, value in before.items() if name not in broken}
    with pytest.raises(relatum.RelatumError):
        model.impact(thing)
    for each in (*impact.breaks, *impact.changes):
        assert each.path[-1].endswith(impact.thing), "the path leads to what was asked about"


def test_what_breaks_would_break_and_nothing_else_would() -> None:
    """Without a relationship, the formulas that cannot be understood or lose their value are those that impact names."""
    for related in rich_stall().declaration.relationships:
        model = rich_stall()
        before = worth(model)
        named = {each.name for each in model.impact(str(related)).breaks if each.kind == "measure"}
        others = [each for each in model.declaration.relationships if each != related]
        bare = make_stall()
        for each in list(bare.declaration.relationships):
            bare.remove(str(each), force=True)
        for each in others:
            bare.relate(str(each), level=each.level)
        for table, derived in (("product", "dear"), ("sales", "worth"), ("product", "sold")):
            try:
                bare.derive(table, derived, model.declaration.tables[table].derived[derived].formula)
            except relatum.RelatumError:
                assert f"{table}.{derived}" in {each.name for each in model.impact(str(related)).breaks}
        for name, measure in model.declaration.measures.items():
            try:
                bare.measure(name, measure.formula, replace=True)
                same = bare.evaluate(quoted(name)) == before[name]
            except relatum.RelatumError:
                same = False
            if name in ("last_month", "place"):
                continue  # no value over all rows, with or without
            assert same == (name not in named), (str(related), name)


def test_impact_in_words() -> None:
    model = rich_stall()
    said = str(model.impact("product.price"))
    assert "breaks   measure share  (measure share <- measure revenue <- column product.price)" in said
    assert "breaks   column sales.worth" in said
    assert "control 1  (control 1 <- measure revenue <- column product.price)" in said
    lost = model.impact("sales.customer -> customer.customer")
    assert {each.effect for each in lost.changes} == {"no longer filtered by customer"}
    assert str(model.impact("range")) == "hierarchy range\nnothing depends on it"
    assert model.impact("customer.customer <- sales.customer") == lost, "whichever end is named first"


NAMES = ["renamed", "New Name", "per", 'a "b"', "été", "Sum"]
PLACES = [
    ("sales", "{}"), ("product", "{}"), ("calendar", "{}"), ("revenue", "{}"), ("goal", "{}"), ("product.price", "product.{}"),
    ("sales.quantity", "sales.{}"), ("product.kind", "product.{}"), ("product.dear", "product.{}"), ("kind.family", "kind.{}"),
    ("sales.worth", "sales.{}"), ("target.month", "target.{}"), ("range", "{}"), ("by_kind", "{}"), ("by_kind.total", "by_kind.{}"),
]  # fmt: skip


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize(("old", "place"), PLACES)
def test_a_new_name_is_followed_everywhere(old: str, place: str, name: str) -> None:
    model = rich_stall()
    before = list(worth(model).values())
    rows = model.pivot(rows="range", values=["revenue", "share", "place"]).to_arrow()
    total = model.evaluate("sum(by_kind.total)")
    model.rename(old, name)
    assert list(worth(model).values()) == before
    labels = {each: quoted(each) for each in ("share", "place")}
    levels = next(iter(model.declaration.hierarchies.values())).levels
    after = model.pivot(rows=list(levels), values=labels).to_arrow()
    assert after.num_rows == rows.num_rows
    assert after.columns[-2:] == rows.columns[-2:]
    known = Dependencies(model.session)
    spelled = place.format(quoted(name))
    assert known.find(spelled)
    assert model.evaluate(f"sum({_total(model)})") == total


def _total(model: relatum.Model) -> str:
    table = next(each for each in model.declaration.tables.values() if each.per)
    return column_name(table.name, next(iter(table.formulas)))


def test_a_renamed_model_is_saved_and_read(hollowmere: Path, tmp_path: Path) -> None:
    model = relatum.open(hollowmere)
    before = list(worth(model).values())
    model.rename("sales", "Order Lines")
    model.rename("price.unit_price", "List Price")
    model.rename("revenue", "turnover")
    model.rename("product.plant", "name")
    model.save(hollowmere.parent / "renamed.toml")
    again = relatum.open(hollowmere.parent / "renamed.toml")
    assert list(worth(again).values()) == before
    assert again.declaration.tables["price"].columns["List Price"].heading == "unit_price"
    assert again.declaration.measures["turnover"].formula == 'sum("Order Lines".quantity * price."List Price")'
    again.rename('price."List Price"', "unit_price")
    assert again.declaration.tables["price"].columns["unit_price"].heading == ""
    assert list(worth(again).values()) == before
    (hollowmere.parent / "renamed.toml").unlink()


REFUSED = [
    (lambda m: m.rename("nothing", "x"), "has nothing called nothing"), (lambda m: m.rename("sales", "product"), "is already used in this model"),
    (lambda m: m.rename("sales.quantity", "product"), "has a column product already"), (lambda m: m.rename("by_kind.kind", "x"), "takes its name from product.kind"), (lambda m: m.rename("calendar.month", "x"), "cannot be renamed"),
    (lambda m: m.rename("sales.product -> product.product", "x"), "has no name"), (lambda m: m.rename("revenue", " x"), "is not a valid name"),
    (lambda m: m.rename("goal", "amount"), "would change its meaning"), (lambda m: m.rename("quantity", "revenue"), "already"),
    (lambda m: m.remove("product.price"), "is a column of the source"), (lambda m: m.remove("control 7"), "There is no control 7"),
    (lambda m: m.remove("sales.product -> kind.kind"), "no relationship"), (lambda m: m.measure("revenue", "1"), "pass replace=True"),
    (lambda m: m.measure("revenue", "max(kind.family)", replace=True), "revenue cannot be replaced like this"),
    (lambda m: m.measure("revenue", "sum(", replace=True), "revenue cannot be replaced like this"),
    (lambda m: m.derive("product", "dear", "price + 'x'", replace=True), "cannot be replaced like this"),
    (lambda m: m.add_table("product", pa.table({"product": ["fig"]}), key="product", replace=True), "product cannot be replaced like this"),
    (lambda m: m.add_table("product", pa.table({"product": ["fig", "fig"], "kind": ["a", "b"], "weight": [1, 2], "price": [1, 2], "shelf": [1, 2]}), key=["product", "shelf"], replace=True), "not unique"),
    (lambda m: m.hierarchy("range", ["kind.family"], replace=True), "at least two levels"), (lambda m: m.hierarchy("revenue", ["kind.family", "product.kind"]), "is already the name of a measure"),
    (lambda m: m.hierarchy("x", ["kind.family", "kind.nothing"]), "no column nothing"), (lambda m: m.hierarchy("x", ["kind.family", "family"]), "not a column"),
    (lambda m: m.relate("sales.customer -> customer.customer", direction="sideways", replace=True), "direction is 'sideways'"),
]  # fmt: skip


@pytest.mark.parametrize(("edit", "message"), REFUSED)
def test_a_refused_edit_leaves_no_trace(edit: Any, message: str) -> None:
    model = rich_stall()
    declaration, session, before = model.declaration, model.session, worth(model)
    with pytest.raises(relatum.RelatumError, match=message):
        edit(model)
    assert model.declaration is declaration
    assert model.session is session
    assert worth(model) == before


def test_replacing_keeps_the_place_and_all_that_depends() -> None:
    model = rich_stall()
    order = list(model.declaration.measures)
    model.measure("revenue", "2 * sum(sales.quantity * product.price)", format="0", replace=True)
    assert list(model.declaration.measures) == order
    assert model.evaluate("revenue") == 2 * model.evaluate("worth")
    model.relate("sales.customer -> customer.customer", direction="both", replace=True)
    assert sum(str(each) == "sales.customer -> customer.customer" for each in model.declaration.relationships) == 1
    model.hierarchy("range", ["kind.family", "product.product"], replace=True)
    model.control("revenue", 1, at={"product.kind": "fruit"}, replace=True)
    assert [each.equals for each in model.declaration.controls] == [1]
    rows = {
        "product": ["fig", "ivy", "oak", "yew"],
        "kind": ["fruit"] * 4,
        "weight": [1] * 4,
        "price": [1] * 4,
        "shelf": [1, 2, 3, 4],
    }
    model.add_table("product", pa.table(rows), key="product", replace=True)
    assert model.evaluate("worth") == 10
    assert "dear" in model.declaration.tables["product"].derived, "derived columns stay"
    model.add_derived_table("by_kind", ["kind.family"], {"total": "worth"}, replace=True)
    assert model.evaluate("sum(by_kind.total)") == 10
    assert model.pivot(rows="by_kind.family", values="n: count(by_kind)").to_arrow().num_rows == 1
    model.add_role("paid_calendar", "customer", replace=True)
    assert model.evaluate("count(paid_calendar)") == 2
    with pytest.raises(relatum.ModelError, match="pass replace=True"):
        model.add_role("paid_calendar", "calendar")


def test_in_the_shell(hollowmere: Path) -> None:
    result = run("impact", hollowmere, "price.unit_price", width=120)
    assert result.exit_code == 0
    assert "attainment" in result.stdout
    document = json.loads(
        run("impact", hollowmere, "product.category_id -> category.category_id", "--format", "json").stdout
    )
    assert {each["effect"] for each in document["changes"]} == {"no longer filtered by category"}
    assert "nothing depends on it" in run("impact", hollowmere, "control 1").stdout
