"""Relationships on the data: matches, levels, routes, roles, and refusals."""

from __future__ import annotations

import re
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import relatum


def two(many: dict[str, Any], one: dict[str, Any]) -> relatum.Model:
    """A model of two tables that are not related yet."""
    model = relatum.Model()
    model.add_table("many", pa.table(many))
    model.add_table("one", pa.table(one))
    return model


def found(model: relatum.Model, value: str = "one.v") -> list[Any]:
    """What each row of the many side reads through its lookup."""
    grid = model.pivot(rows="many.n", values=f"max({value} over many)", totals=False, show_empty=True)
    return [next(reversed(record.values())) for record in grid.to_arrow().to_pylist()]


KEYS = [
    # keys of the many side, keys of the one side
    ([1, 2, None, 9], [1, 2, 3]),
    (["a", "b", None, "z"], ["b", "a", "c"]),
    ([1.5, 2.0, None, 9.0], [2.0, 1.5, 7.0]),
    ([Decimal("1.50"), Decimal("2.00"), None, Decimal("2.01")], [2, 5, 7]),
    ([2**62, -(2**62), None, 0], [-(2**62), 2**62, 5]),
    ([date(2024, 1, 1), date(1900, 1, 1), None, date(2024, 1, 2)], [date(1900, 1, 1), date(2024, 1, 1), date(1950, 1, 1)]),
    ([datetime(2024, 1, 1, 12), None, datetime(2024, 1, 1), None], [datetime(2024, 1, 1, 12), datetime(1, 1, 1), datetime(2024, 1, 2)]),
    ([True, False, None, True], [False, True, None]),
    ([1, 2, 3, None], [1.0, 2.5, 3.0]),
    ([None, None, None, None], [1, 2, 3]),
]  # fmt: skip


@pytest.mark.parametrize(("many", "one"), KEYS)
def test_a_key_of_any_type_finds_its_row(many: list[Any], one: list[Any]) -> None:
    if all(key is None for key in many):
        many_array = pa.array(many, pa.int64())
    else:
        many_array = pa.array(many)
    model = two({"k": many_array, "n": [1, 2, 3, 4]}, {"k": pa.array(one), "v": [10, 20, 30]})
    model.relate("many.k -> one.k")
    values = dict(zip(one, (10, 20, 30), strict=True))
    assert found(model) == [None if key is None else values.get(key) for key in many]


@settings(max_examples=80, deadline=None)
@given(
    st.lists(st.tuples(st.sampled_from(["a", "b", None]), st.integers(-3, 3) | st.none()), min_size=1, max_size=12),
    st.dictionaries(st.tuples(st.sampled_from(["a", "b", "c"]), st.integers(-3, 3)), st.integers(0, 99), min_size=1),
    st.booleans(),
)
def test_keys_of_several_columns(
    many: list[tuple[str | None, int | None]], one: dict[tuple[str, int], int], as_of: bool
) -> None:
    model = two(
        {
            "k": pa.array([k for k, _ in many], pa.string()),
            "t": pa.array([t for _, t in many], pa.int64()),
            "n": range(len(many)),
        },
        {"k": [k for k, _ in one], "t": [t for _, t in one], "v": list(one.values())},
    )
    model.relate("many.(k, t) -> one.(k, t)", match="as_of" if as_of else "equal")
    expected = []
    for key, moment in many:
        starts = [start for other, start in one if other == key and moment is not None and start <= moment]
        best = max(starts) if starts and as_of else moment
        expected.append(one.get((key, best)))
    assert found(model) == expected


REFUSED = [
    ({"k": [1]}, {"k": [1, 1, 2, 2, 2]}, {}, "are not unique: 2 keys on 5 rows, for instance 1, 2"),
    ({"k": ["1"]}, {"k": [1, 2]}, {}, "many.k is text and one.k is integer: they never match"),
    ({"k": [date(2024, 1, 1)]}, {"k": [1]}, {}, "they never match"),
    ({"k": ["a"]}, {"k": ["a"]}, {"match": "as_of"}, "matches as of k, which is text"),
    ({"k": [1], "t": [1]}, {"k": [1, 1], "t": [5, 5]}, {"match": "as_of"}, "are not unique: 1 key on 2 rows"),
]


@pytest.mark.parametrize(("many", "one", "options", "message"), REFUSED)
def test_data_that_contradicts_a_relationship(
    many: dict[str, Any], one: dict[str, Any], options: dict[str, str], message: str
) -> None:
    model = two(many, one)
    link = "many.(k, t) -> one.(k, t)" if "t" in many else "many.k -> one.k"
    with pytest.raises(relatum.DataError, match=message):
        model.relate(link, **options)
    assert not model.declaration.relationships, "a refused edit leaves the model as it was"


def test_a_second_route_is_refused_with_both_printed(stall: relatum.Model) -> None:
    before = stall.declaration
    with pytest.raises(relatum.ModelError) as caught:
        stall.relate("sales.product -> kind.kind")
    message = str(caught.value)
    assert "1. sales.product -> kind.kind\n" in message
    assert "2. sales.product -> product.product, product.kind -> kind.kind\n" in message
    assert 'role_of = "kind"' in message
    assert stall.declaration == before


LINKS = [("visit.doctor -> doctor.id", "visit.deputy -> doctor.id"), ("visit.doctor -> doctor.id", "visit.clinic -> clinic.id", "doctor.clinic -> clinic.id"),
         ("visit.doctor -> doctor.id", "visit.deputy -> clinic.id", "doctor.clinic -> town.id", "clinic.town -> town.id")]  # fmt: skip


@pytest.mark.parametrize("links", LINKS)
def test_what_is_advised_against_a_second_route_works(links: tuple[str, ...]) -> None:
    """Each way out that the error names makes a model of it, with the names that it says."""

    def clinics(role: str = "") -> relatum.Model:
        model = relatum.Model()
        for name, columns in {
            "visit": "id doctor deputy clinic",
            "doctor": "id clinic",
            "clinic": "id town",
            "town": "id",
        }.items():
            model.add_table(name, pa.table({column: [1] for column in columns.split()}), key="id")
        if role:
            model.add_role(*role.split())
        return model

    model = clinics()
    for each in links[:-1]:
        model.relate(each)
    with pytest.raises(relatum.ModelError) as caught:
        model.relate(links[-1])
    ways = re.findall(r"give (\S+ -> \S+) (standby|direction) = (true|\"off\")", caught.value.fix, re.IGNORECASE)
    assert ways
    for link, setting, value in ways:
        model, options = clinics(), {setting: True if value == "true" else value.strip('"')}
        for each in sorted(links, key=lambda each: each != link):
            model.relate(each, **(options if each == link else {}))
    found = re.findall(r'add a table (\S+) with role_of = "(\w+)" .*with (\S+) -> (\S+)\.$', caught.value.fix)
    ((role, table, many, one),) = found
    model = clinics(f"{role} {table}")
    for each in links:
        model.relate(f"{many} -> {one}" if each.startswith(many) else each)


def test_a_circle_and_a_twin_are_refused(stall: relatum.Model) -> None:
    with pytest.raises(relatum.ModelError, match="form a circle: sales -> product -> kind -> sales"):
        stall.relate("kind.kind -> sales.product")
    with pytest.raises(relatum.ModelError, match="already exists"):
        stall.relate("sales.product -> product.product")
    with pytest.raises(relatum.ModelError, match="a table to itself"):
        stall.relate("product.kind -> product.product")


def test_off_answers_lookups_and_passes_no_filter() -> None:
    model = two({"k": [1, 2, 2]}, {"k": [1, 2], "v": [10, 20]})
    model.add_table("far", pa.table({"v": [10, 20], "w": ["x", "y"]}))
    model.relate("many.k -> one.k", direction="off")
    model.relate("one.v -> far.v")
    assert model.evaluate("sum(one.v over many)") == 50
    grid = model.pivot(rows="one.v", values="count(many)")
    assert grid.to_arrow().num_rows == 0
    assert "no relationship leads from many to one" in grid.notes[0].text
    with pytest.raises(relatum.FormulaError, match="does not match a row of far"):
        model.evaluate("max(far.w over many)")
    # The same table may now be reached by a separate route.
    model.relate("many.k -> far.v")
    assert model.evaluate("count(many)", "far.w = 'x'") is None


def test_a_role_is_the_same_rows_with_relationships_of_its_own(stall: relatum.Model) -> None:
    stall.add_table("visit", pa.table({"came": [date(2024, 1, 5)], "left": [date(2024, 2, 6)]}))
    stall.relate("visit.came -> calendar.date")
    stall.add_role("leaving", "calendar")
    stall.relate("visit.left -> leaving.date")
    assert stall.evaluate("min(calendar.month over visit)") == "2024-01"
    assert stall.evaluate("min(leaving.month over visit)") == "2024-02"
    assert stall.evaluate("count(visit)", "leaving.month = '2024-02' and calendar.month = '2024-01'") == 1
    with pytest.raises(relatum.ModelError, match="Add more to calendar"):
        stall.derive("leaving", "more", "year + 1")
    with pytest.raises(relatum.ModelError, match="is itself a role"):
        stall.add_role("third", "leaving")


def test_a_level_filters_by_what_it_determines(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(rows="calendar.quarter", columns="kind.kind", values="goal", totals=False)
    cells = {tuple(record.values())[:2]: record["goal"] for record in grid.to_arrow().to_pylist()}
    assert cells == {("2024-Q1", "fruit"): Decimal("30.50"), ("2024-Q1", "tree"): Decimal("99.99")}
    dated = shared_stall.pivot(rows="calendar.date", values="goal")
    assert "related to calendar only at a coarser level" in dated.notes[0].text


def test_notes_count_the_rows_that_a_lookup_left_out(shared_stall: relatum.Model) -> None:
    grid = shared_stall.pivot(values="revenue")
    assert [note.text for note in grid.notes] == [
        "1 row of sales has no matching product (product.price) and is left out."
    ]
    assert not shared_stall.pivot(values="quantity").notes
    filtered = shared_stall.pivot(values="quantity", where="product.kind <> 'fruit'")
    assert "The condition product.kind <> 'fruit' is null for it" in filtered.notes[0].text


@pytest.mark.parametrize(
    "column", ["product.product", "product.kind", "kind.family", "customer.region", "calendar.month", "sales.note"]
)
def test_members_add_up_to_the_total(shared_stall: relatum.Model, column: str) -> None:
    table = shared_stall.pivot(rows=column, values="quantity").to_arrow()
    assert sum(value or 0 for value in table["quantity"].to_pylist()) == 15
