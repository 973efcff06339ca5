"""Filters that travel along relationships, and dates that move, held against what plain Python makes of them."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

import relatum

PRODUCTS = [f"p{number:02}" for number in range(12)]
KINDS = ["k0", "k1", "k2", "k3", None]
ROWS = st.lists(
    st.tuples(
        st.sampled_from([*PRODUCTS, "unknown", None]),
        st.integers(0, 4),
        st.sampled_from(["x", "y", None]),
    ),
    max_size=25,
)
KIND_OF = st.lists(st.sampled_from(KINDS), min_size=len(PRODUCTS), max_size=len(PRODUCTS))


def star(rows: list[tuple[Any, ...]], kinds: list[str | None], direction: str) -> relatum.Model:
    """Sales, products and kinds; filters travel along both relationships as ``direction`` says."""
    model = relatum.Model("travel")
    products, units, remarks = zip(*rows, strict=True) if rows else ((), (), ())
    model.add_table(
        "sales",
        pa.table(
            {
                "product": pa.array(products, pa.string()),
                "units": pa.array(units, pa.int64()),
                "remark": pa.array(remarks, pa.string()),
            }
        ),
    )
    model.add_table("product", pa.table({"product": PRODUCTS, "kind": pa.array(kinds, pa.string())}), key="product")
    model.add_table("kind", pa.table({"kind": KINDS[:3], "rank": [1, 2, 3]}), key="kind")
    model.relate("sales.product -> product.product", direction=direction)
    model.relate("product.kind -> kind.kind", direction=direction)
    return model


def count_of(model: relatum.Model, formula: str) -> int:
    """A count; one of no rows is null."""
    found = model.evaluate(formula)
    assert found != 0, "a count of no rows is null"
    return int(found or 0)


CONDITIONS = {
    "sales.units >= 0": lambda units, _: True,
    "sales.units > 2": lambda units, _: units > 2,
    "sales.units in (1, 3)": lambda units, _: units in (1, 3),
    "sales.remark = 'x'": lambda _, remark: remark == "x",
    "sales.remark is not null": lambda _, remark: remark is not None,
    "sales.units < 1 or sales.remark = 'y'": lambda units, remark: units < 1 or remark == "y",
}


@settings(max_examples=30, deadline=None)
@given(ROWS, KIND_OF, st.sampled_from(sorted(CONDITIONS)))
def test_filters_on_sales_reach_products_and_kinds_both_ways(
    rows: list[tuple[Any, ...]], kinds: list[str | None], condition: str
) -> None:
    model = star(rows, kinds, "both")
    passes = CONDITIONS[condition]
    sold = {product for product, units, remark in rows if passes(units, remark)} & set(PRODUCTS)
    assert count_of(model, f"count(product)[where {condition}]") == len(sold)
    reached = {kinds[PRODUCTS.index(product)] for product in sold} & set(KINDS[:3])
    assert count_of(model, f"count(kind)[where {condition}]") == len(reached)
    # On the way back down, only what passes itself is seen.
    assert count_of(model, f"count(sales)[where {condition}]") == sum(
        passes(units, remark) for _, units, remark in rows
    )


@settings(max_examples=25, deadline=None)
@given(ROWS, KIND_OF, st.sampled_from(sorted(CONDITIONS)))
def test_both_ways_in_a_formula_is_what_the_relationship_says(
    rows: list[tuple[Any, ...]], kinds: list[str | None], condition: str
) -> None:
    both, down = star(rows, kinds, "both"), star(rows, kinds, "down")
    opened = f"count(product)[where {condition}, both ways sales.product]"
    assert down.evaluate(opened) == both.evaluate(f"count(product)[where {condition}]")


@settings(max_examples=25, deadline=None)
@given(ROWS, KIND_OF, st.sets(st.sampled_from(PRODUCTS), min_size=1))
def test_a_set_of_members_with_gaps_filters_the_rows_that_look_them_up(
    rows: list[tuple[Any, ...]], kinds: list[str | None], chosen: set[str]
) -> None:
    listed = ", ".join(f"'{each}'" for each in sorted(chosen))
    model = star(rows, kinds, "down")
    wanted = sum(product in chosen for product, *_ in rows)
    assert count_of(model, f"count(sales)[where product.product in ({listed})]") == wanted
    assert count_of(model, f"count(sales)[where product.product not in ({listed})]") == sum(
        product in set(PRODUCTS) - chosen for product, *_ in rows
    )
    grid = model.pivot(rows="product.product", values={"n": "count(sales)"}, where=f"product.product in ({listed})")
    shown = {row["product.product"]: row["n"] for row in grid.to_arrow(totals=False).to_pylist()}
    assert shown == {each: count for each in chosen if (count := sum(product == each for product, *_ in rows))}


TOPICS = ["t0", "t1", "t2", "t3", "t4", None]
NOTES = st.lists(st.tuples(st.sampled_from(TOPICS), st.integers(0, 3)), max_size=15)
TAGS = st.lists(st.tuples(st.sampled_from([*TOPICS, "elsewhere"]), st.sampled_from(["a", "b", "c"])), max_size=15)


def library(notes: list[tuple[Any, ...]], tags: list[tuple[Any, ...]], direction: str) -> relatum.Model:
    """Notes and tags that share topics, many on either side."""
    model = relatum.Model("library")
    for name, rows, columns in (
        ("note", notes, {"topic": pa.string(), "weight": pa.int64()}),
        ("tag", tags, {"topic": pa.string(), "name": pa.string()}),
    ):
        arrays = {
            column: pa.array([row[at] for row in rows], kind) for at, (column, kind) in enumerate(columns.items())
        }
        model.add_table(name, pa.table(arrays))
    model.relate("note.topic >-< tag.topic", direction=direction)
    return model


@settings(max_examples=30, deadline=None)
@given(NOTES, TAGS, st.sampled_from(["left", "both"]), st.sets(st.sampled_from("abc"), min_size=1))
def test_a_row_is_visible_if_some_related_row_is(
    notes: list[tuple[Any, ...]], tags: list[tuple[Any, ...]], direction: str, chosen: set[str]
) -> None:
    model = library(notes, tags, direction)
    listed = ", ".join(f"'{each}'" for each in sorted(chosen))
    topics = {topic for topic, name in tags if name in chosen and topic is not None}
    related = [weight for topic, weight in notes if topic in topics]
    assert count_of(model, f"count(note)[where tag.name in ({listed})]") == len(related)
    assert model.evaluate(f"sum(note.weight)[where tag.name in ({listed})]") == (sum(related) if related else None)
    grid = model.pivot(rows="tag.name", values={"n": "count(note)"}).to_arrow(totals=False).to_pylist()
    topics_of = {name: {topic for topic, other in tags if other == name and topic is not None} for name in "abc"}
    counts = {name: sum(topic in own for topic, _ in notes) for name, own in topics_of.items()}
    found = {row["tag.name"]: row["n"] for row in grid if not row.get("tag.name:no_match")}
    assert found == {name: count for name, count in counts.items() if count}


@settings(max_examples=30, deadline=None)
@given(NOTES, TAGS, st.sampled_from(["right", "both"]), st.integers(0, 3))
def test_the_other_side_is_filtered_where_the_direction_says_so(
    notes: list[tuple[Any, ...]], tags: list[tuple[Any, ...]], direction: str, least: int
) -> None:
    model = library(notes, tags, direction)
    topics = {topic for topic, weight in notes if weight >= least and topic is not None}
    wanted = sum(topic in topics for topic, _ in tags)
    assert count_of(model, f"count(tag)[where note.weight >= {least}]") == wanted


@settings(max_examples=30, deadline=None)
@given(st.permutations(PRODUCTS), st.integers(0, 12), st.integers(0, 12), st.integers(-1, 12))
def test_one_to_one_is_filtered_from_either_side(order: list[str], some: int, others: int, least: int) -> None:
    model = relatum.Model("pairs")
    left, right = PRODUCTS[:some], order[:others]
    for name, keys in (("left", left), ("right", right)):
        columns = {"id": pa.array(keys, pa.string()), "number": pa.array(range(len(keys)), pa.int64())}
        model.add_table(name, pa.table(columns), key="id")
    model.relate("left.id <-> right.id")
    seen = {key for number, key in enumerate(right) if number >= least}
    assert count_of(model, f"count(left)[where right.number >= {least}]") == len(seen & set(left))
    seen = {key for number, key in enumerate(left) if number >= least}
    assert count_of(model, f"count(right)[where left.number >= {least}]") == len(seen & set(right))


MOVES = {
    "to date": lambda day, at: day <= at,
    "month to date": lambda day, at: day <= at and (day.year, day.month) == (at.year, at.month),
    "year to date": lambda day, at: day <= at and day.year == at.year,
    "trailing 7 days": lambda day, at: at - timedelta(days=7) < day <= at,
    "back 1 day": lambda day, at: day == at - timedelta(days=1),
    "whole month": lambda day, at: (day.year, day.month) == (at.year, at.month),
    "before": lambda day, at: day < at,
}


def dated(rows: list[tuple[date, int]], last: date) -> relatum.Model:
    """Sales by day, and a calendar that says where the data ends, so that the last sale cuts no set of dates short."""
    model = relatum.Model("dates")
    columns = {
        "day": pa.array([day for day, _ in rows], pa.date32()),
        "units": pa.array([units for _, units in rows], pa.int64()),
    }
    model.add_table("sales", pa.table(columns))
    model.add_calendar("calendar", date(2023, 11, 1), last, through=last)
    model.relate("sales.day -> calendar.date")
    return model


FIRST = date(2023, 11, 20)
SOLD = st.lists(st.tuples(st.integers(0, 79), st.integers(1, 9)), max_size=12)


@settings(max_examples=30, deadline=None)
@given(SOLD, st.sampled_from(sorted(MOVES)))
def test_dates_move_as_plain_dates_do(sold: list[tuple[int, int]], move: str) -> None:
    rows = [(FIRST + timedelta(days=after), units) for after, units in sold]
    model = dated(rows, date(2024, 2, 29))
    grid = model.pivot(rows="calendar.date", values={"moved": f"sum(sales.units)[{move}]"}).to_arrow(totals=False)
    found = {row["calendar.date"]: row["moved"] for row in grid.to_pylist()}
    every = [date(2023, 11, 1) + timedelta(days=after) for after in range(121)]
    sums = {at: [units for day, units in rows if MOVES[move](day, at)] for at in every}
    assert found == {at: sum(units) for at, units in sums.items() if units}


@settings(max_examples=15, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 460), st.integers(1, 9)), max_size=12), st.integers(1, 9))
def test_two_periods_that_do_not_settle_each_other_move_together(sold: list[tuple[int, int]], back: int) -> None:
    rows = [(FIRST + timedelta(days=after), units) for after, units in sold]
    values = {"moved": f"sum(sales.units)[back {back} days]"}
    grid = dated(rows, date(2025, 3, 31)).pivot("calendar.year", "calendar.month_of_year", values)
    expected: dict[tuple[int, int], int] = {}
    for day, units in rows:
        seen = day + timedelta(days=back)
        expected[seen.year, seen.month] = expected.get((seen.year, seen.month), 0) + units
    records = grid.to_arrow(totals=False).to_pylist()
    found = {(each["calendar.year"], each["calendar.month_of_year"]): each["moved"] for each in records}
    assert {at: units for at, units in found.items() if units} == expected


def test_a_null_that_is_looked_up_is_null_where_every_row_finds_its_lookup() -> None:
    model = relatum.Model()
    model.add_table("sales", pa.table({"p": ["a", "a", "b"], "q": [1, 2, 3]}))
    model.add_table("product", pa.table({"p": ["a", "b"], "w": [2, None], "t": ["x", None]}), key="p")
    model.relate("sales.p -> product.p")
    assert model.evaluate("sum(sales.q * product.w)") == 6
    assert model.evaluate("count(sales.q * product.w)") == 2
    assert model.evaluate("count(coalesce(product.t, 'none') over sales)[where product.w is null]") == 1
    assert model.evaluate("sum(sales.q)[where product.w > 0 or product.w is null]") == 6
