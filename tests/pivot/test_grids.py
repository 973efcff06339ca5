"""Axes as text: order, the best and others, totals, closed members, fields by formula, keeps; against the slow evaluator and by hand."""

from __future__ import annotations

import random
import re
from collections import Counter
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import relatum
from agreement import REFUSED, Refused, build
from grids import REFUSED_REQUESTS, GridCase, difference, pivoted, random_grid
from notebook_page import Page
from stall import make_stall
from test_agreement import tiny_limits  # noqa: F401 - a fixture


def agree(examples: int) -> None:
    seen = Counter[str]()

    @settings(
        max_examples=examples,
        deadline=None,
        suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
    )
    @given(st.integers(0, 2**60))
    def compare(seed: int) -> None:
        case = random_grid(random.Random(seed))
        seen["cases"] += 1
        try:
            found = difference(case)
        except Refused:
            seen["refused"] += 1
            return
        assert found is None, f"{found}\n{case}"

    compare()
    assert seen["refused"] <= 0.35 * seen["cases"]


def test_whole_grids_agree_with_the_slow_evaluator() -> None:
    agree(35)


def test_whole_grids_agree_when_rows_come_in_chunks(tiny_limits: None) -> None:  # noqa: F811
    agree(25)


def told(grid: relatum.Grid) -> list[tuple[Any, ...]]:
    """The lines of a grid as shown: heads, then values; blanks left out."""
    lines = []
    for record in grid.to_arrow(totals=True).to_pylist():
        names = [axis.name for axis in grid.result.axes]
        heads = ["total" if record[f"{name}:total"] else "others" if record.get(f"{name}:others") else "no match" if record.get(f"{name}:no_match")
                 else record[name] for name in names]  # fmt: skip
        values = [record[value.label] for value in grid.result.values]
        lines.append((*heads, *values))
    return lines


#: Rows, other parts, and the lines that come back; quantities: fig 5, ivy 4, oak 1, elm (no match) 5, yew none.
ASKED = [
    ("product.product", {}, [("ivy", 4), ("oak", 1), ("fig", 5), ("no match", 5), ("total", 15)]),
    ("product.product by quantity desc", {}, [("fig", 5), ("ivy", 4), ("oak", 1), ("no match", 5), ("total", 15)]),
    ("product.product by quantity", {}, [("oak", 1), ("ivy", 4), ("fig", 5), ("no match", 5), ("total", 15)]),
    ("product.product by product.product desc", {}, [("fig", 5), ("oak", 1), ("ivy", 4), ("no match", 5), ("total", 15)]),
    ("product.product by product.price", {}, [("fig", 5), ("ivy", 4), ("oak", 1), ("no match", 5), ("total", 15)]),
    ("product.product top 1", {}, [("fig", 5), ("no match", 5), ("total", 15)]),
    ("product.product top 1 with others", {}, [("fig", 5), ("others", 5), ("no match", 5), ("total", 15)]),
    ("product.product bottom 2 by quantity", {}, [("oak", 1), ("ivy", 4), ("no match", 5), ("total", 15)]),
    ("product.product by product.price top 2", {}, [("fig", 5), ("ivy", 4), ("no match", 5), ("total", 15)]),
    ("product.product top 1 by (count(product), quantity desc)", {}, [("fig", 5), ("no match", 5), ("total", 15)]),
    ("product.product no total", {}, [("ivy", 4), ("oak", 1), ("fig", 5), ("no match", 5)]),
    ("product.product total before", {}, [("total", 15), ("ivy", 4), ("oak", 1), ("fig", 5), ("no match", 5)]),
    ("product.product", {"totals": False}, [("ivy", 4), ("oak", 1), ("fig", 5), ("no match", 5)]),
    ("size: band(sales.quantity by 2)", {}, [("0 to 2", 1), ("2 to 4", 5), ("4 to 6", 9), ("total", 15)]),
    ("band(sales.quantity at 2, 10)", {}, [("below 2", 1), ("2 to 10", 14), ("total", 15)]),
    ("band(quantity by 3) over customer", {}, [("6 to 9", 14), ("no match", 1), ("total", 15)]),
    ("period(sales.sold_on by month)", {"where": "sales.quantity > 1"}, [("2024-01", 2), ("2024-02", 7), ("2024-03", 5), ("total", 14)]),
    ("substring(product.kind, 1, 1)", {}, [("c", 4), ("f", 5), ("t", 1), ("no match", 5), ("total", 15)]),
    ("product.product, product.kind", {}, [("ivy", "climber", 4), ("oak", "tree", 1), ("fig", "fruit", 5), ("no match", "no match", 5), ("total", "total", 15)]),
    ("product.product closed, customer.customer", {}, [("ivy", None, 4), ("oak", None, 1), ("fig", None, 5), ("no match", None, 5), ("total", "total", 15)]),
    ("product.product open ('fig'), customer.customer", {},
     [("ivy", None, 4), ("oak", None, 1), ("fig", "ann", 2), ("fig", "bob", 3), ("fig", "total", 5), ("no match", None, 5), ("total", "total", 15)]),
    ("product.weight open (12.5), product.product", {},
     [(Decimal("0.5"), None, 5), (Decimal("12.5"), "oak", 1), (Decimal("12.5"), "total", 1), (None, None, 4), ("no match", None, 5), ("total", "total", 15)]),
    ("product.product", {"keep": "customer where quantity > 5"}, [("ivy", 4), ("fig", 5), ("no match", 5), ("total", 14)]),
    ("product.product", {"keep": "top 1 customer by quantity"}, [("fig", 3), ("no match", 5), ("total", 8)]),
    ("product.product", {"keep": "customer where quantity > 5, product where quantity < 5"}, [("ivy", 4), ("total", 4)]),
]  # fmt: skip


@pytest.mark.parametrize(("rows", "parts", "expected"), ASKED)
def test_what_an_axis_text_asks(
    shared_stall: relatum.Model, rows: str, parts: dict[str, Any], expected: list[Any]
) -> None:
    assert told(shared_stall.pivot(rows, values="quantity", **parts)) == expected


WRONG = [
    ({"rows": "product.product by"}, "The axis ends too early", "          ^"),
    ({"rows": "product.product closd"}, "Did you mean closed?", "^^^^^"),
    ({"rows": "product.product top 5 with other"}, "Did you mean with others?", "^^^^^^^^^^"),
    ({"rows": "product.product with others"}, "top or bottom leaves out", "^^^^^^^^^^^"),
    ({"rows": "product.product closed by quantity"}, "by comes too late", "^^^^^^^^^^^"),
    ({"rows": "product.product top 2 by quantity desc"}, "top takes the largest", "^^^^"),
    ({"rows": "product.product top 2 top 3"}, "appears here twice", "^^^^^"),
    ({"rows": "product.kind by product.price"}, "can have several values of product.price", "^^^^^^^^^^^^^"),
    ({"rows": "product.kind by double desc", "values": "double: 2 * quantity"}, "write its formula, 2 * quantity", "^^^^^^"),
    ({"keep": "top 2 product.kind by double", "values": "double: 2 * quantity"}, "write its formula, 2 * quantity", "^^^^^^"),
    ({"rows": "product.product top 2 by price", "values": "price: quantity"}, "Write a column with its table: product.price", "^^^^^"),
    ({"rows": "product.product, product.kind closed"}, "so the two form one field", "^^^^^^^^^^^^^^^^^^^"),
    ({"rows": "revenue"}, "can be a field only over some rows", "^^^^^^^"),
    ({"rows": "product.product open (3)"}, "is text, but this is an integer", "^"),
    ({"rows": "band(1 by 2)"}, "so the table is unclear", "^^^^"),
    ({"keep": "product.product where share(quantity of total) > 1"}, "A keep of a request has no axes", "^^^^"),
    ({"keep": "top 3 product by quantity desc"}, "top keeps the largest", "^^^^"),
    ({"values": "quantity format 'x'"}, "is not a number pattern", ""),
    ({"values": "quantity, share: share(quantity of everything)"}, "Invalid use of share", "^^^^"),
    ({"values": "quantity on sides"}, "cannot be used here", "^^^^^"),
]  # fmt: skip


@pytest.mark.parametrize(("parts", "reason", "caret"), WRONG)
def test_a_wrong_request_says_what_where_and_what_to_do(
    shared_stall: relatum.Model, parts: dict[str, str], reason: str, caret: str
) -> None:
    with pytest.raises(relatum.RelatumError) as caught:
        shared_stall.pivot(**{"values": "quantity", **parts})
    assert reason in str(caught.value)
    assert caret in str(caught.value)


def test_notes_tell_what_is_hidden_and_what_a_share_is_of(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot("product.product top 1 with others", values="quantity, s: share(quantity of row)")
    texts = " ".join(note.text for note in grid.notes)
    assert "2 members of product.product other than the largest are counted in others" in texts
    assert "A share of the row is always 1 here" in texts
    hidden = shared_stall.pivot("product.product top 1", values="quantity").notes
    assert any("are not shown, but count in totals" in note.text for note in hidden)
    blank = shared_stall.pivot("product.product top 2 by quantity[back 1 year]", values="quantity")
    assert any("No member of product.product has a value to rank by" in note.text for note in blank.notes)
    shut = shared_stall.pivot(
        "product.kind closed, product.product", values="s: sole(sales.quantity)[pin last calendar.date]"
    )
    assert any("at a deeper level" in note.text for note in shut.notes) or told(shut)
    there = shared_stall.pivot("product.product open ('yew', 'fig', null), customer.customer", values="quantity")
    assert "product.product does not show 'yew', null, so they are not opened." in [note.text for note in there.notes]


def test_a_row_that_several_hidden_members_reach_is_in_the_others_once() -> None:
    model = relatum.Model("club")
    model.add_table("visit", pa.table({"guest": [1, 2, 1, 2, 1, 1], "month": ["a", "b", "b", "c", "a", "a"]}))
    model.add_table("guest", pa.table({"guest": [1, 2]}))
    model.relate("visit.guest -> guest.guest", direction="both")
    assert told(model.pivot("visit.month top 1 by count(visit) with others", values="count(guest)")) == [
        ("a", 1), ("others", 2), ("total", 2)]  # fmt: skip
    assert told(model.pivot("visit.month bottom 1 by count(visit) with others", values="count(guest)")) == [
        ("c", 1), ("others", 2), ("total", 2)]  # fmt: skip


FORMATS = [
    ("share(quantity of total)", "100.0%"), ("growth(quantity over 1 month)", "250.0%"), ("change(revenue over 1 month)", "€"),
    ("revenue", "€"), ("revenue format '0.00'", "43.00"), ("(share(quantity of total))[where product.kind = 'fruit']", "100.0%"), ("quantity / 2", "3.50"),
]  # fmt: skip


@pytest.mark.parametrize(("value", "shown"), FORMATS)
def test_rates_are_percent_and_what_is_like_a_measure_is_written_like_it(
    shared_stall: relatum.Model, value: str, shown: str
) -> None:
    text = shared_stall.pivot(values=f"v: {value}", where="calendar.month = '2024-02'").to_text(80)
    assert shown in text


def test_a_grid_is_asked_again_opened_closed_and_turned(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot("product.kind closed, product.product", values="quantity, revenue")
    assert {len(line) for line in told(grid)} == {4}
    opened = grid.open("fruit", relatum.NO_MATCH)
    assert ("fruit", "fig", 5, 25) in told(opened)
    assert opened.request.rows[0] == "product.kind open ('fruit', no match)"
    assert told(opened.close("fruit", relatum.NO_MATCH)) == told(grid)
    assert told(shared_stall.pivot("product.kind, product.product", values="quantity, revenue").close()) == told(grid)
    assert told(opened.close(depth=2)) == told(
        shared_stall.pivot("product.kind, product.product", values="quantity, revenue")
    )
    turned = opened.turn()
    assert turned.request.columns == opened.request.rows
    assert turned.request.values_on == "rows"
    assert turned.turn().request == opened.request
    assert told(grid.again(rows="product.product top 1", values="quantity")) == [
        ("fig", 5),
        ("no match", 5),
        ("total", 15),
    ]
    for wrong, reason in ((lambda: grid.open("nothing"), "is not a closed member"), (lambda: grid.again(row="x"), "has no part row"),
                          (lambda: grid.close(depth=3), "depth must be 1 to 2"), (lambda: grid.close("fruit"), "is not open"),
                          (lambda: shared_stall.pivot("product.kind", values="quantity").open("fruit"), "No field of this grid is closed")):  # fmt: skip
        with pytest.raises(relatum.RelatumError, match=reason):
            wrong()


def test_text_is_nested_or_in_columns_and_values_may_stand_on_rows(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot("product.kind, product.product", values="quantity, revenue")
    lines = grid.to_text(80, layout="nested").splitlines()
    fruit = next(at for at, line in enumerate(lines) if line.startswith("fruit"))
    assert lines[fruit + 1].startswith("  fig")
    assert lines[fruit].split()[1] == lines[fruit + 1].split()[1] == "5"
    on_rows = grid.again(values="quantity, revenue on rows").to_text(80).splitlines()
    assert any(line.split()[-2:] == ["quantity", "5"] for line in on_rows)
    assert "▸ fruit" in grid.close().to_text(80)


def test_members_are_listed_with_their_rows(shared_stall: relatum.Model) -> None:
    assert [each for each, _ in shared_stall.members("product.product")] == [
        "ivy",
        "oak",
        "yew",
        "fig",
        relatum.NO_MATCH,
    ]
    counted = dict(shared_stall.members("product.product", "customer.region = 'North'"))
    assert counted == {"ivy": 1, "oak": None, "yew": None, "fig": 1, relatum.NO_MATCH: None}
    assert [each for each, _ in shared_stall.members("product.kind", like="RUI")] == ["fruit"]
    assert [each for each, _ in shared_stall.members("product.kind", like="_r%")] == ["fruit", "tree"]
    assert dict(shared_stall.members("product.kind", value="revenue"))["fruit"] == 25
    assert [each for each, _ in shared_stall.members("sales.note")] == ["", "x", "y", "z", None]
    text = str(shared_stall.members("product.product", "customer.region = 'North'"))
    assert "5 members, 3 without rows" in text
    assert "where customer.region = 'North'" in text
    frame = shared_stall.members("product.product").to_arrow()
    assert frame.column_names == ["product.product", "product.product:no_match", "rows of sales", "present"]
    with pytest.raises(relatum.RequestError, match="for only one column"):
        shared_stall.members("product.product, product.kind")


def test_of_many_members_those_with_rows_are_shown(nursery: relatum.Model) -> None:
    where = "calendar.month = '2024-12' and category.department = 'Water'"
    members = nursery.members("product.plant", where)
    there = {
        member
        for member, present in zip(
            *(members.to_arrow()[name].to_pylist() for name in ("product.plant", "present")), strict=True
        )
        if present
    }
    headings, lines = members.lines(18)
    assert {texts[0] for texts, shown in lines if shown} == there
    assert len(lines) == 18
    assert headings == ["Plant", "rows of sales", "rows of stock"]
    assert members.summary(18) == f"222 members, {222 - len(there)} without rows; 204 not shown, all without rows"
    assert members.summary(10) == f"222 members, {222 - len(there)} without rows; 212 not shown"


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 2**60))
def test_members_have_the_rows_that_a_grid_counts(seed: int) -> None:
    rnd = random.Random(seed)
    case = random_grid(rnd)
    column = rnd.choice(
        ["product.label", "product.pid", "category.name", "customer.region", "calendar.month", "sales.remark"]
    )
    try:
        model = build(case.star)
        members = model.members(column, case.asked.where)
        grid = model.pivot(column, values={"rows": "count(sales)"}, where=case.asked.where, totals=False)
    except relatum.RelatumError as error:
        assert any(reason in str(error) for reason in (*REFUSED, *REFUSED_REQUESTS)), error
        return
    frame = members.to_arrow()
    if "rows of sales" not in frame.column_names:
        return
    flag = f"{column}:no_match"
    told = {
        (line[column], line.get(flag, False)): line["rows of sales"]
        for line in frame.to_pylist()
        if line["rows of sales"]
    }
    assert told == {
        (line[column], line.get(flag, False)): line["rows"] for line in grid.to_arrow().to_pylist() if line["rows"]
    }


def asked_of(case: GridCase) -> tuple[relatum.Model, relatum.Grid] | None:
    """A random model and a grid requested from it; None if it is refused."""
    try:
        model = build(case.star)
        return model, pivoted(model, case.asked)
    except relatum.RelatumError as error:
        assert any(reason in str(error) for reason in (*REFUSED, *REFUSED_REQUESTS)), error
        return None


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.integers(0, 2**60))
def test_a_grid_is_the_same_however_it_is_reached(seed: int) -> None:
    found = asked_of(random_grid(random.Random(seed)))
    if found is None:
        return
    model, grid = found
    whole = grid.to_arrow(totals=True)
    assert grid.again().to_arrow(totals=True).equals(whole)
    assert grid.turn().turn().to_arrow(totals=True).equals(whole)
    model.keep_pivot("kept", grid)
    saved = model.pivot(saved="kept")
    assert saved.request == grid.request
    assert saved.to_arrow(totals=True).equals(whole)
    again = model.pivot(saved="kept", values="count(sales)")
    assert [value.label for value in again.result.values] == ["count(sales)"]
    assert again.request == grid.again(values="count(sales)").request


@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.integers(0, 2**60), st.integers(60, 200))
def test_page_and_text_show_the_same(seed: int, width: int) -> None:
    found = asked_of(random_grid(random.Random(seed)))
    if found is None:
        return
    grid = found[1]
    tables = Page(grid._repr_html_()).tables
    cells = Counter(cell for table in tables for line in table for cell in line if cell and cell[-1].isdigit())
    for layout in ("columns", "nested"):
        text = grid.to_text(width, layout=layout)
        table = text.split("\nnote:")[0]
        told = Counter(re.split(r"\s{2,}|\n", table))
        missing = {cell for cell in cells if cell not in told and cell not in table}
        assert not missing, f"{layout} at {width} lacks {missing}:\n{text}"
        assert all(len(line) <= width for line in table.splitlines()), text


def test_fields_of_a_table_without_rows() -> None:
    model = relatum.Model()
    model.add_table(
        "sales",
        pa.table({"a": pa.array([], pa.int64()), "day": pa.array([], pa.date32()), "note": pa.array([], pa.string())}),
    )
    for field in ("band(sales.a by 10)", "period(sales.day by month)", "sales.a + 1", "upper(sales.note)"):
        grid = model.pivot(field, "sales.note top 2 with others", "count(sales)")
        assert grid.to_arrow().num_rows == 0
        assert "total" in grid.to_text(80)


OPENED = [
    (pa.array([1, 2, 2]), "2", ["2"]), (pa.array([1, 2, 2]), "2.5, 1", ["1"]), (pa.array([1.5, 2.0, None]), "2, null", ["2", "(null)"]), (pa.array([True, False, False]), "true", ["true"]),
    (pa.array(["a", "b", None]), "'b', 'z'", ["b"]), (pa.array(["a", "b", None]), "null", ["(null)"]), (pa.array([2**62, 2**62 + 1, 3]), f"{2**62 + 1}", [str(2**62 + 1)]),
]  # fmt: skip


@pytest.mark.parametrize(("values", "named", "opened"), OPENED)
def test_the_members_that_are_named_are_open(values: Any, named: str, opened: list[str]) -> None:
    model = relatum.Model()
    model.add_table("sales", pa.table({"a": values, "b": ["x", "y", "z"]}))
    text = model.pivot(f"sales.a open ({named}), sales.b", values="count(sales)").to_text(80, layout="nested")
    assert [line[2:].split("  ")[0] for line in text.splitlines() if line.startswith("▾ ")] == opened


def test_opening_a_member_of_a_hierarchy_opens_one_level() -> None:
    stall = make_stall()
    stall.hierarchy("range", ["kind.family", "kind.kind", "product.product"])
    grid = stall.pivot("range by quantity desc closed", values="quantity")
    food = grid.open("food")
    assert food.request.rows == (
        "kind.family by quantity desc open ('food')", "kind.kind by quantity desc closed", "product.product by quantity desc")  # fmt: skip
    assert [line[:3] for line in told(food) if line[0] == "food"] == [
        ("food", "fruit", None),
        ("food", "total", "total"),
    ]
    fruit = food.open("fruit")
    assert fruit.request.rows[1] == "kind.kind by quantity desc open ('fruit')"
    assert told(fruit.close("fruit")) == told(food) and told(food.close("food")) == told(grid)
    whole = stall.pivot("range", values="quantity")
    shut = whole.close("fruit")
    assert [line[2] for line in told(shut) if line[1] == "fruit"] == [None], "its own level is closed, not the first"
    assert whole.close(depth=1).request.rows == ("range closed",) and whole.close(depth=3).request.rows == ("range",)
    two = stall.pivot("range to kind.kind closed, customer.region", values="quantity").open("food")
    assert two.request.rows == ("kind.family open ('food')", "kind.kind closed", "customer.region")


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
def test_bands_of_what_members_are_worth_and_fields_that_are_kept(engine: str) -> None:
    """Members of a column put into bands by their own values; the slow way, each member asked by itself."""
    stall = make_stall(engine)
    for formula, column, tell in (
        ("band(quantity by 4 over product.kind)", "product.kind", lambda q: f"{q // 4 * 4} to {q // 4 * 4 + 4}"),
        ("band(quantity at 3, 9 over customer.region)", "customer.region", lambda q: "under 3" if q < 3 else "3 to 9" if q < 9 else "from 9"),
    ):  # fmt: skip
        wanted: dict[str, int] = {}
        for member in stall.members(column).to_arrow()[column].to_pylist():
            where = f"{column} is null" if member is None else f"{column} = '{member}'"
            worth = stall.evaluate("quantity", f"{where} and not ({column.split('.')[0]} is no match)")
            if worth is not None:
                wanted[tell(worth)] = wanted.get(tell(worth), 0) + worth
        shown = {line[0]: line[1] for line in told(stall.pivot(formula, values="quantity", totals=False))}
        assert {band: worth for band, worth in shown.items() if band not in ("no match", None)} == wanted, formula
    every = told(stall.pivot("size: band(sales.quantity by 2)", values="quantity", totals=False))
    for keep, left in (("size where quantity > 4", [line for line in every if line[1] > 4]),
                       ("top 1 size by quantity", [max(every, key=lambda line: line[1])])):  # fmt: skip
        assert told(stall.pivot("size: band(sales.quantity by 2)", values="quantity", keep=keep, totals=False)) == left
    assert 0 < len(left) < len(every)


BANDS = [
    ("band(quantity by 4 over product.knd)", "Did you mean product.kind"),
    ("band(quantity by 4 over nothing)", "no table nothing"),
]


@pytest.mark.parametrize(("field", "said"), BANDS)
def test_bands_that_cannot_be(shared_stall: relatum.Model, field: str, said: str) -> None:
    with pytest.raises(relatum.FormulaError, match=said):
        shared_stall.pivot(field, values="quantity")
    with pytest.raises(relatum.FormulaError, match="an axis field"):
        shared_stall.evaluate("band(quantity by 4 over product.kind)")
