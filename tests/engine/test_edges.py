"""Numbers near the edges of 64 bits, of floats and of dates, and what they look like printed."""

from __future__ import annotations

from datetime import date
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_UP, Decimal
from operator import eq, ge, gt, le, lt, ne
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import relatum
from relatum.present.text import grid_text

LOWEST, HIGHEST = -(2**63), 2**63 - 1
TOO_FAR = "does not fit in 64 bits"


def over(values: list[Any], formula: str, type_: pa.DataType | None = None) -> Any:
    """A formula over the column t.v, beside a number t.g for each row."""
    model = relatum.Model()
    model.add_table("t", pa.table({"v": pa.array(values, type_), "g": list(range(len(values)))}), key="g")
    return model.evaluate(formula)


FINE = pa.decimal128(19, 18)
CASES = [
    ([Decimal("9.2")], FINE, "max(round(t.v))", 9), ([Decimal("8.5")], FINE, "max(round(t.v, -1))", 10), ([Decimal("-8.5")], FINE, "max(round(t.v, -1))", -10),
    ([Decimal("4.9")], FINE, "max(round(t.v, -1))", 0), ([Decimal("-0.5")], FINE, "max(round(t.v))", -1), ([Decimal("-9.2")], FINE, "min(floor(t.v))", -10),
    ([HIGHEST], None, "max(t.v + 0)", HIGHEST), ([LOWEST], None, "max(t.v - 0)", LOWEST), ([HIGHEST], None, "max(t.v * 1)", HIGHEST),
    ([LOWEST + 1], None, "max(-t.v)", HIGHEST), ([LOWEST], None, "max(-t.v)", TOO_FAR), ([LOWEST], None, "max(abs(t.v))", TOO_FAR), ([-HIGHEST], None, "max(abs(t.v))", HIGHEST),
    ([HIGHEST], None, "max(round(t.v, -1))", TOO_FAR), ([HIGHEST - 7], None, "max(round(t.v, -1))", 9223372036854775800), ([3_037_000_500], None, "max(t.v * t.v)", TOO_FAR),
    ([3_037_000_499], None, "max(t.v * t.v)", 3_037_000_499**2), ([2**53, 2**53 + 1, 2**53 + 2], None, "stddev(t.v)", 1.0), ([HIGHEST, LOWEST], None, "count(distinct t.v - t.v)", 1),
    ([1e308, 1e308, -1e308, -1e308], None, "median(t.v)", 0.0), ([1e308, 1e308], None, "avg(t.v)", 1e308), ([1e308, 1e308], None, "sum(t.v)", None), ([1.7e308, -1.7e308], None, "percentile(0.5 of t.v)", 0.0),
    ([1e300], None, "max(floor(t.v))", TOO_FAR), ([2.5], None, "max(ceil(t.v))", 3), ([2.675], None, "max(round(t.v, 2))", 2.68), ([1.005], None, "max(round(t.v, 2))", 1.01), ([-2.5], None, "max(round(t.v))", -3),
    ([0.49999999999999994], None, "max(round(t.v))", 0), ([1e16], None, "max(round(t.v, 3))", 1e16), ([123.45], None, "max(round(t.v, -2))", 100),
    ([date(2024, 1, 1)], None, "max(t.v + 100000000000)", "outside the years 1 to 9999"), ([date(2024, 1, 1)], None, "max(t.v - 800000)", "outside the years 1 to 9999"),
    ([date(9999, 12, 31)], None, "max(t.v + t.g)", date(9999, 12, 31)), (["abc"], None, "max(substring(t.v, 2, 9223372036854775807))", "bc"),
    (["a\\b", "axb"], None, "count(distinct case when t.v like 'a\\b' then t.g end)", 1), (["a%", "ab"], None, "count(distinct case when t.v like 'a\\%' then t.g end)", 0),
]  # fmt: skip


@pytest.mark.parametrize(
    ("values", "type_", "formula", "expected"), CASES, ids=[case[2] + str(case[0][0]) for case in CASES]
)
def test_at_the_edge(values: list[Any], type_: pa.DataType | None, formula: str, expected: Any) -> None:
    if isinstance(expected, str) and expected.startswith(("does", "outside")):
        with pytest.raises(relatum.ValueOverflowError, match=expected):
            over(values, formula, type_)
    else:
        got = over(values, formula, type_)
        assert got == expected and type(got) is type(expected)


@pytest.mark.outside
@settings(max_examples=200, deadline=None)
@given(st.decimals(allow_nan=False, allow_infinity=False, min_value=-9, max_value=9, places=18), st.integers(-2, 18))
def test_decimals_round_as_decimals_do(value: Decimal, digits: int) -> None:
    whole = Decimal(1).scaleb(-digits)
    assert over([value], f"max(round(t.v, {digits}))", FINE) == value.quantize(whole, ROUND_HALF_UP)
    assert over([value], "max(floor(t.v))", FINE) == value.to_integral_value(ROUND_FLOOR)
    assert over([value], "max(ceil(t.v))", FINE) == value.to_integral_value(ROUND_CEILING)


@settings(max_examples=200, deadline=None)
@given(st.floats(-1e15, 1e15), st.integers(0, 6))
@example(549755813888.7834, 3)
def test_floats_round_as_their_shortest_decimal_reads(value: float, digits: int) -> None:
    expected = Decimal(repr(value)).quantize(Decimal(1).scaleb(-digits), ROUND_HALF_UP)
    got = over([value], f"max(round(t.v, {digits}))")
    assert float(got) == pytest.approx(float(expected), rel=1e-15, abs=0) if abs(value) < 2**53 / 10**digits else True


KEPT_PER = [
    ("avg(sum(s.q)[keep p where true] per p.kind)", [2.0, 2.0, 3.0]), ("avg(sum(s.q)[keep p.kind where true] per p.kind)", [2.0, 2.0, 3.0]),
    ("sum(sum(s.q)[keep p where count(s) > 1] per p.pid)", [None, None, 5]), ("sum(sum(s.q)[keep p where sum(s.q) >= 3] per p.kind)", [None, 3, 5]),
    ("max(sum(s.q)[keep top 1 p by sum(s.q)] per s.c)", [2, 3, 3]), ("count(sum(s.q)[keep s.c where sum(s.q) > 1] per p)", [1, 1, 1]),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "expected"), KEPT_PER)
def test_what_a_member_keeps_is_found_under_an_axis(formula: str, expected: list[Any]) -> None:
    model = relatum.Model()
    model.add_table("p", pa.table({"pid": ["s", "r"], "kind": ["a", "b"]}), key="pid")
    model.add_table(
        "s", pa.table({"pid": ["s", "r", "r"], "q": [1, 2, 3], "paid": [True, False, True], "c": [1, 1, 2]})
    )
    model.relate("s.pid -> p.pid")
    values = {
        row["s.paid"]: row["v"]
        for row in model.pivot("s.paid", values={"v": formula}, show_empty=True).to_arrow(True).to_pylist()
    }
    assert [values[False], values[True], values[None]] == expected


def test_running_floats_begin_anew_in_each_cell() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"g": ["x", "y", "y", "y"], "p": [1, 1, 2, 3], "v": [1e17, 0.1, 0.2, 0.3]}))
    grid = model.pivot(rows="t.g, t.p", values="r: running(sum(t.v) among t.p by sum(t.p))", totals=False)
    assert grid.to_arrow()["r"].to_pylist() == pytest.approx([1e17, 0.1, 0.3, 0.6])


def test_running_whole_numbers_are_refused_only_where_a_sum_does_not_fit() -> None:
    model = relatum.Model()
    model.add_table("t", pa.table({"g": ["x", "x", "y", "y"], "p": [1, 2, 1, 2], "v": [HIGHEST, -1, LOWEST, HIGHEST]}))
    running = {"rows": "t.g, t.p", "values": "r: running(sum(t.v) among t.p by sum(t.p))", "totals": False}
    assert model.pivot(**running).to_arrow()["r"].to_pylist() == [HIGHEST, HIGHEST - 1, LOWEST, -1]
    with pytest.raises(relatum.ValueOverflowError, match="running sum"):
        model.pivot(
            **{**running, "values": "running(sum(t.v) among t.p by sum(t.p) desc)", "where": "t.g = 'x' or t.p = 2"}
        ).to_arrow()
        model.pivot(rows="t.p", values="running(max(t.v) among t.p by sum(t.p))").to_arrow()


PRINTED = [
    (1e29, "#,##0", "100,000,000,000,000,000,000,000,000,000"), (1e300, "0", "1" + "0" * 300), (10**15, "#,##0.0000000000", "1,000,000,000,000,000.0000000000"),
    (0.5, "0", "1"), (2.5, "0", "3"), (-2.5, "0", "−3"), (2.675, "0.00", "2.68"), (-0.001, "0.00", "0.00"), (-0.004, "0%", "0%"), (0.125, "0%", "13%"), (-0.0, "0.0", "0.0"),
]  # fmt: skip


@pytest.mark.parametrize(("value", "pattern", "expected"), PRINTED)
def test_what_is_shown_rounds_half_away_from_zero(value: Any, pattern: str, expected: str) -> None:
    model = relatum.Model(locale="en_GB")
    model.add_table("t", pa.table({"v": [value]}))
    model.measure("m", "sum(t.v)", format=pattern)
    assert grid_text(model.pivot(values="m").result, 400).splitlines()[-1].strip() == expected


@pytest.mark.parametrize("sold", range(1 << 5))
def test_a_filter_that_every_row_passes_still_travels_to_the_one_side(sold: int) -> None:
    chosen = [product for number, product in enumerate("abcde") if sold >> number & 1]
    model = relatum.Model("both")
    model.add_table("product", pa.table({"pid": list("abcde")}), key="pid")
    columns = {"pid": pa.array(chosen, pa.string()), "units": pa.array([1] * len(chosen), pa.int64())}
    model.add_table("sales", pa.table(columns))
    model.relate("sales.pid -> product.pid", direction="both")
    counted = model.pivot(values={"n": "count(product)[where sales.units > 0]"}).to_arrow(totals=True)
    assert counted["n"].to_pylist() == [len(chosen) or None]


@settings(max_examples=40, deadline=None)
@given(
    fields=st.permutations(["sales.a", "sales.b", "sales.c", "lookup.a", "lookup.d", "lookup.e"]),
    count=st.integers(1, 6),
    size=st.integers(1, 4),
)
def test_columns_that_settle_each_other(fields: list[str], count: int, size: int) -> None:
    """Several unique columns of one table and of its lookup: each determines all others, and one must stay."""
    numbers = list(range(size))
    model = relatum.Model()
    model.add_table(
        "sales",
        pa.table(
            {"a": numbers, "b": [f"b{n}" for n in numbers], "c": [-n for n in numbers], "q": [n + 1 for n in numbers]}
        ),
    )
    model.add_table(
        "lookup", pa.table({"a": numbers, "d": [f"d{n}" for n in numbers], "e": [n / 2 for n in numbers]}), key="a"
    )
    model.relate("sales.a -> lookup.a")
    spelt = {
        "sales.a": int,
        "sales.b": lambda n: f"b{n}",
        "sales.c": lambda n: -n,
        "lookup.a": int,
        "lookup.d": lambda n: f"d{n}",
        "lookup.e": lambda n: n / 2,
    }
    records = model.pivot(rows=fields[:count], values={"v": "sum(sales.q)"}).to_arrow().to_pylist()
    wanted = [{**{field: spelt[field](n) for field in fields[:count]}, "v": n + 1} for n in numbers]
    assert sorted(map(str, records)) == sorted(map(str, wanted))


def test_a_count_within_a_count_shows_where_it_is_zero() -> None:
    """What has no rows is 0 once it is counted for each member: the combination is, however deep the count lies."""
    model = relatum.Model()
    model.add_table("category", pa.table({"cat": [3], "rank": [1]}), key="cat")
    model.add_table("product", pa.table({"pid": ["s"], "cat": [2], "weight": [1]}), key="pid")
    model.add_table("customer", pa.table({"cid": [20]}), key="cid")
    model.relate("product.cat -> category.cat")
    counted = "count(distinct case when product.weight is null then 1 end)"
    each = f"count(distinct case when category.rank is null then {counted} else {counted} end)"
    for formula in (
        each,
        f"max({each} per category)",
        f"max(min(case when customer.cid is null then {each} else {each} end) per category)",
    ):
        shown = model.pivot(rows="product.weight", values={"v": formula}).to_arrow().to_pylist()
        assert [row["v"] for row in shown] == [0], formula


#: How many different values each shop has sold at: null counts for nothing, and a shop without rows has no number.
SOLD = {"a": [None, None], "b": [5, 5, None], "c": [5, 6], "d": [7, 8, 9], "e": []}
COMPARED = {"=": eq, "<>": ne, "<": lt, "<=": le, ">": gt, ">=": ge}


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
@pytest.mark.parametrize("columns", ["", "calendar.day"])
def test_a_value_of_coarser_rows_that_find_no_level_is_shown(engine: str, columns: str) -> None:
    """Every row that looks up a date finds one: that goals are for other months too is seen by the value alone."""
    days = [date(2024, 1, 1), date(2024, 2, 1)]
    with relatum.Model("goals", engine=engine) as model:
        model.add_table("calendar", pa.table({"day": days, "month": ["2024-01", "2024-02"]}), key="day")
        model.add_table("kind", pa.table({"kind": ["a", "b"]}), key="kind")
        model.add_table(
            "goal", pa.table({"month": ["2024-01", "2030-01", None], "kind": ["a", "b", "b"], "n": [1, 2, 3]})
        )
        model.add_table("sale", pa.table({"day": days}))
        model.relate("goal.month -> calendar.month", level=True)
        model.relate("goal.kind -> kind.kind")
        model.relate("sale.day -> calendar.day")
        for value, expected in (
            ("count(sum(goal.n) over kind)", [("2024-01", 1), ("2024-02", 0), ("no match", 1)]),
            ("sum(goal.n)", [("2024-01", 1), ("no match", 5)]),
            ("narrowed(calendar.month)", [("2024-01", True), ("2024-02", True)]),
        ):
            lines = (
                model.pivot("calendar.month", columns, values=f"v: {value}", totals=bool(columns))
                .to_arrow(totals=True)
                .to_pylist()
            )
            found = [
                ("no match" if line.get("calendar.month:no_match") else line["calendar.month"], line["v"])
                for line in lines
                if not line.get("calendar.month:total") and (not columns or line["calendar.day:total"])
            ]
            assert found == expected, value


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
@pytest.mark.parametrize("sign", COMPARED)
def test_members_are_kept_by_how_many_different_values_they_have(engine: str, sign: str) -> None:
    rows = [(shop, value) for shop, values in SOLD.items() for value in values]
    with relatum.Model(engine=engine) as model:
        model.add_table("shop", pa.table({"shop": list(SOLD)}), key="shop")
        model.add_table("sale", pa.table({"shop": [row[0] for row in rows], "x": [row[1] for row in rows]}))
        model.relate("sale.shop -> shop.shop")
        for number in range(4):
            for formula, turned in ((f"count(distinct sale.x) {sign} {number}", False),
                                    (f"not (count(distinct sale.x) {sign} {number})", True)):  # fmt: skip
                expected = [
                    shop
                    for shop, values in SOLD.items()
                    if values and COMPARED[sign](len({each for each in values if each is not None}), number) != turned
                ]
                grid = model.pivot(
                    rows="shop.shop", values="n: count(sale)", keep=f"shop where {formula}", totals=False
                )
                assert grid.to_arrow()["shop.shop"].to_pylist() == expected, formula


@pytest.mark.parametrize("lost", [False, True])
def test_a_table_in_between_is_passed_over_only_where_every_row_finds_it(lost: bool) -> None:
    offers = {"part": ["p", "p", "q"], "shop": [1, 2, 1]}
    lines = {"part": ["p", "q", "p", "q", "p"], "shop": [1, 1, 2, 2 if lost else 1, 2], "n": [1, 2, 4, 8, 16]}
    found = []
    for engine in ("memory", "duckdb"):
        with relatum.Model(engine=engine) as model:
            model.add_table("part", pa.table({"part": ["p", "q"], "kind": ["fern", "herb"]}), key="part")
            model.add_table("offer", pa.table(offers), key=["part", "shop"])
            model.add_table("line", pa.table(lines))
            model.relate("offer.part -> part.part")
            model.relate("line.(part, shop) -> offer.(part, shop)")
            for rows in ("part.kind", "part.part"):
                grid = model.pivot(rows, values="n: sum(line.n)")
                found.append((engine, rows, [tuple(row.values()) for row in grid.to_arrow().to_pylist()]))
            if engine == "duckdb":
                query = model.sql(rows="part.kind", values="sum(line.n)")
                assert ("offer" in query) is lost
    memory, there = [[each[1:] for each in found if each[0] == engine] for engine in ("memory", "duckdb")]
    assert memory == there
    # A line without an offer has no part, though there is a part of that name.
    assert [each[1][-1][-1] for each in memory] == ([8, 8] if lost else [10, 10])


def shop_model(engine: str) -> relatum.Model:
    """Sales of shops of two kinds; one sale is of no shop."""
    model = relatum.Model(engine=engine)
    shops = {"shop": [1, 2, 3], "kind": ["big", "big", "small"], "rent": [10, 20, 30]}
    model.add_table("shop", pa.table(shops), key="shop")
    model.add_table("sale", pa.table({"shop": [1, 1, 2, 3, 9], "n": [1, 2, 4, 8, 16]}))
    model.relate("sale.shop -> shop.shop")
    return model


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
@pytest.mark.parametrize(
    "limits",
    [{"keep": "shop.kind where sum(sale.n) < 8"}, {"where": "shop.kind = 'big'"}],
    ids=["kept", "where"],
)
def test_a_member_that_the_request_leaves_out_is_not_shown_whatever_a_value_ignores(
    engine: str, limits: dict[str, str]
) -> None:
    with shop_model(engine) as model:
        grid = model.pivot("shop.shop", values="n: sum(sale.n)[ignoring shop.kind]", totals=False, **limits)
        assert [tuple(row.values())[:2] for row in grid.to_arrow().to_pylist()] == [(1, 3), (2, 4)]


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
def test_rows_that_a_lookup_loses_are_counted_whatever_members_are_kept(engine: str) -> None:
    with shop_model(engine) as model:
        for keep in ("", "shop where sum(sale.n) < 8"):
            grid = model.pivot(values="sum(sale.n * shop.rent)", keep=keep)
            assert "1 row of sale has no matching shop (shop.rent) and is left out." in [
                note.text for note in grid.notes
            ]


NUMBERS = [-3, -2, 0, 2, 3, None]


@pytest.mark.parametrize("sign", COMPARED)
@pytest.mark.parametrize("constant", ["2.5", "2.0", "-2.5", "-2", "0.01", "3"])
@pytest.mark.parametrize("digits", [0, 1])
def test_a_number_is_compared_with_a_constant_of_other_digits(sign: str, constant: str, digits: int) -> None:
    values = NUMBERS if not digits else [None if each is None else Decimal(each) for each in NUMBERS]
    model = relatum.Model()
    model.add_table("t", pa.table({"x": pa.array(values, pa.decimal128(9, digits) if digits else pa.int64())}))
    known = [each for each in NUMBERS if each is not None]
    expected = sum(COMPARED[sign](each, Decimal(constant)) for each in known)
    turned = sum(COMPARED[sign](Decimal(constant), each) for each in known)
    # As a condition of its own, which is a range, and within an expression, which is not.
    for formula, count in (
        (f"count(t)[where t.x {sign} {constant}]", expected),
        (f"sum(case when t.x {sign} {constant} then 1 else 0 end)", expected),
        (f"sum(case when {constant} {sign} t.x then 1 else 0 end)", turned),
        (f"count(t)[where {constant} {sign} t.x]", turned),
    ):
        assert (model.evaluate(formula) or 0) == count, formula
