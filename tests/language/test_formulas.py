"""The values of formulas: tables of formula and value, computed by hand."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

import pytest

import relatum
from relatum.language.register import SCALARS, known_functions

#: Formulas without columns: operators and scalar functions.
SCALAR = [
    ("1 + 2 * 3", 7), ("(1 + 2) * 3", 9), ("2 - 3 - 4", -5), ("- -3", 3), ("+4", 4), ("7 / 2", 3.5), ("6 / 3", 2.0),
    ("1 / 0", None), ("0.1 + 0.2", Decimal("0.3")), ("1.50 * 2.25", Decimal("3.3750")), ("7 % 3", 1), ("-7 % 3", -1),
    ("7 % -3", 1), ("7 % 0", None), ("1e3", 1000.0), (".5 + 1", Decimal("1.5")), ("1 + null", None),
    ("9007199254740993 + 0", 9007199254740993), ("3 > 2.75", True), ("9007199254740993 = 9007199254740992", False),
    ("1 = 1.0", True), ("1 <> 2", True),
    ("2 <= 2", True),
    ("2 >= 3", False), ("1 != 1", False), ("'a' < 'b'", True), ("'B' < 'a'", True), ("null = null", None),
    ("true and null", None), ("false and null", False), ("true or null", True), ("false or null", None), ("not null", None),
    ("not 1 = 2", True), ("1 in (2, 1)", True), ("1 in (2, null)", None), ("1 not in (2, 3)", True), ("2 between 1 and 3", True),
    ("2 not between 3 and 4", True), ("null between 1 and 2", None), ("'fern' like 'f%n'", True), ("'fern' like '_ern'", True),
    ("'fern' not like 'F%'", True), ("null is null", True), ("1 is not null", True),
    ("case when 1 = 2 then 'a' when true then 'b' else 'c' end", "b"), ("case when null then 1 end", None),
    ("case when false then 1 else 2.5 end", Decimal("2.5")), ("coalesce(null, 2)", 2), ("nullif(3, 3)", None), ("nullif(3, 4)", 3),
    ("plus(1, null, -3)", -2), ("plus(null, null)", None), ("abs(-2.5)", Decimal("2.5")), ("round(2.5)", 3), ("round(-2.5)", -3),
    ("round(2.345, 2)", Decimal("2.35")), ("round(1234, -2)", 1200), ("round(1250, -2)", 1300), ("round(0.49)", 0), ("round(2.5e0)", 3),
    ("floor(-2.5)", -3), ("ceil(-2.5)", -2), ("floor(2.5e0)", 2), ("ceil(2.1)", 3), ("sqrt(16)", 4.0), ("sqrt(-1)", None),
    ("exp(0)", 1.0), ("ln(1)", 0.0), ("ln(0)", None), ("power(2, 10)", 1024.0), ("least(3, 1, 2)", 1), ("greatest(3, 1.5)", Decimal("3.0")),
    ("least(1, null)", None), ("upper('Fern')", "FERN"), ("lower('Fern')", "fern"), ("trim('  a b ')", "a b"),
    ("substring('fern', 2, 2)", "er"), ("substring('fern', 3)", "rn"), ("length('é')", 1), ("'a' || 'b' || 1", "ab1"), ("'it''s'", "it's"),
    ("year(date '2024-05-31')", 2024), ("quarter(date '2024-05-31')", 2), ("month(date '2024-05-31')", 5), ("day(date '2024-05-31')", 31),
    ("week(date '2024-12-30')", 1), ("week(date '2021-01-03')", 53), ("weekday(date '2024-06-03')", 1), ("weekday(date '1969-07-20')", 7),
    ("date '2024-03-01' - date '2024-02-28'", 2), ("date '2024-02-28' + 2", date(2024, 3, 1)), ("date '1960-01-01' - 1", date(1959, 12, 31)),
    ("timestamp '2024-05-31 17:30:00'", datetime(2024, 5, 31, 17, 30)), ("year(timestamp '1950-01-01 00:00:00')", 1950),
    ("hour(timestamp '2024-05-31 17:30:09')", 17), ("minute(timestamp '1950-05-31 17:30:09')", 30), ("second(timestamp '2024-05-31 17:30:09')", 9),
    ("date(timestamp '1969-12-31 23:59:59')", date(1969, 12, 31)), ("date(2024, 2, 29)", date(2024, 2, 29)), ("date(2023, 2, 29)", None),
    ("date(2023, 13, 1)", None), ("date(0, 1, 1)", None), ("date(null, 1, 1)", None), ("extract(year from date '2024-05-31')", 2024),
    ("extract(hour from timestamp '2024-05-31 17:30:00')", 17), ("case 2 when 1 then 'a' when 2 then 'b' end", "b"), ("case 3 when 1 then 'a' else 'c' end", "c"),
    ("case null when null then 1 else 2 end", 2), ("cast(' 12 ' as integer)", 12), ("cast('12.5' as integer)", None), ("cast('1e2' as integer)", None),
    ("cast('9223372036854775807' as integer)", 9223372036854775807), ("cast('9223372036854775808' as integer)", None), ("cast(2.5 as integer)", 3),
    ("cast(-2.5 as integer)", -3), ("cast(1e300 as integer)", None), ("cast(2.675e0 as decimal(2))", Decimal("2.68")), ("cast('1.005' as decimal(2))", Decimal("1.01")),
    ("cast('x' as decimal(2))", None), ("cast('-.5' as float)", -0.5), ("cast('1e2' as float)", 100.0), ("cast('inf' as float)", None), ("cast(7 as decimal(2))", Decimal("7.00")),
    ("cast(9223372036854775807 as decimal(2))", None), ("cast(1990e0 as text)", "1990"), ("cast(0.1e0 as text)", "0.1"), ("cast(2.50 as text)", "2.50"), ("cast(true as text)", "true"),
    ("cast(true as integer)", 1), ("cast(date '2024-05-31' as text)", "2024-05-31"), ("cast(timestamp '2024-05-31 17:30:00' as text)", "2024-05-31 17:30:00"),
    ("cast('2024-05-31' as date)", date(2024, 5, 31)), ("cast('31.5.2024' as date)", None), ("cast(timestamp '2024-05-31 23:30:00' as date)", date(2024, 5, 31)),
    ("cast(null as text)", None), ("cast(12345678901.5e0 as decimal(6))", Decimal("12345678901.500000")), ("Cast('3' As Integer) + 1", 4),
    ("band(7 by 5)", "5 to 10"), ("band(25 by 1e1)", "20 to 30"), ("cast(power(2, 53) as text)", "9007199254740992.0"), ("cast(power(2, 53) - 1 as text)", "9007199254740991"), ("cast(power(10, 22) as text)", "1e+22"),
    ("band(-1 by 5)", "-5 to 0"), ("band(10 by 10)", "10 to 20"), ("band(0.3 by 0.1)", "0.3 to 0.4"),
    ("band(0.3e0 by 0.1)", "0.3 to 0.4"), ("band(0.7e0 by 0.1)", "0.7 to 0.8"), ("band(2.675e0 by 0.005)", "2.675 to 2.68"),
    ("band(12 by 2.5e0)", "10 to 12.5"), ("band(5 at 0, 10, 100)", "0 to 10"), ("band(-0.01 at 0, 10)", "below 0"), ("band(10 at 0, 10)", "from 10"),
    ("band(2 at 2.5)", "below 2.5"), ("band(2.5e0 at 2.5)", "from 2.5"), ("band(null by 10)", None), ("band(9223372036854775807 by 10)", "9223372036854775800 to 9223372036854775810"),
    ("band(0.000001 by 1)", "0 to 1"), ("band(1e15 by 1000)", "1000000000000000 to 1000000000001000"), ("Band(3 By 2)", "2 to 4"),
    ("period(date '2024-05-31' by month)", "2024-05"), ("period(date '2024-05-31' by quarter)", "2024-Q2"), ("period(date '2024-05-31' by year)", 2024),
    ("period(date '2024-05-31' by week)", date(2024, 5, 27)), ("period(date '1969-12-31' by week)", date(1969, 12, 29)), ("period(timestamp '2024-05-31 23:59:59' by month)", "2024-05"),
    ("period(null by month)", None), ("period(date '0001-01-01' by month)", "0001-01"), ("1 -- a comment\n + 1", 2), ("CASE WHEN TRUE THEN 1 ELSE 0 END", 1), ("Abs(-1)", 1),
]  # fmt: skip

#: Aggregates over the stall's six sales.
AGGREGATE = [
    ("sum(sales.quantity)", 15), ("avg(sales.quantity)", 3.0), ("min(sales.quantity)", 1), ("max(sales.quantity)", 5),
    ("median(sales.quantity)", 3.0), ("count(sales.quantity)", 5), ("count(sales)", 6), ("count(distinct sales.product)", 4),
    ("count(distinct sales.customer)", 3), ("count(sales.note)", 5), ("stddev(sales.quantity)", 1.5811388300841898),
    ("variance(sales.quantity)", 2.5), ("stddev_pop(sales.quantity)", 1.4142135623730951), ("variance_pop(sales.quantity)", 2.0),
    ("percentile(0.9 of sales.quantity)", 4.6), ("percentile(0 of sales.quantity)", 1.0), ("percentile(1 of sales.quantity)", 5.0),
    ("first(sales.quantity by sales.sold_on)", 2), ("last(sales.quantity by sales.sold_on)", 5),
    ("last(sales.product by sales.sold_on)", "fig"), ("first(sales.sold_on by sales.quantity)", date(2024, 3, 1)),
    ("avg(product.price weighted by sales.quantity)", 15.3), ("min(sales.product)", "elm"), ("max(sales.paid)", True),
    ("max(sales.sold_on)", date(2024, 12, 31)), ("sum(sales.quantity * product.price)", 153), ("sum(product.price)", 132),
    ("sum(product.price over sales)", 122), ("count(distinct kind.family over sales)", 3), ("count(distinct kind.family over product)", 3),
    ("sum(1 over sales)", 6), ("sum(sales.quantity * product.weight)", Decimal("15.0")), ("avg(product.weight)", 16.0 / 3),
    ("sum(case when sales.paid then sales.quantity else 0 end)", 10), ("sum(sales.quantity) / count(sales)", 2.5),
    ("sole(kind.family)", None), ("narrowed(kind.family)", False), ("avg(sales.sold_on - date '2024-01-01')", 605 / 6),
    ("sum(target.amount)", Decimal("130.49")), ("count(target.amount)", 3), ("quantity * 2", 30), ("revenue / quantity", 10.2),
    ("max(year(sales.sold_on))", 2024), ("sum(length(sales.note))", 4), ("sum(power(sales.quantity, 2))", 55.0),
]  # fmt: skip

#: A formula, a condition and the value under it.
NESTED = [
    ("sum(product.price * sum(sales.quantity))", 153), ("avg(quantity per customer)", 7.0), ("max(quantity per product)", 5),
    ("count(quantity per product)", 3), ("min(quantity per calendar.month)", 2), ("sum(quantity per customer)", 14),
    ("median(quantity per (customer.region, product.kind))", 3.0), ("percentile(1 of quantity per product)", 5.0),
    ("max(quantity * product.price per product)", 100), ("sum(product.price over product)[where product.kind = 'tree']", 120),
    ("avg(rank(quantity among product) per product)", 2.0), ("max(running(quantity among product by quantity desc) per product)", 10),
    ("min(running(quantity among product by product.price asc) per product)", 5),
    ("max(previous(quantity among product by quantity) per product)", 5), ("max(next(quantity among product by quantity desc) per product)", 4),
    ("sum(next(quantity among calendar.month) per calendar.month)", 13), ("sum(previous(quantity among calendar.month) per calendar.month)", 15),
    ("share(quantity of total)", 1.0), ("share(quantity of parent)", 1.0), ("max(share(quantity of total) per product)", 1.0),
    ("growth(quantity over 1 month)", None), ("change(quantity over 1 year)", None), ("quantity[keep top 1 customer by (quantity, count(sales) desc)]", 8),
    ("last(sales.quantity by band(sales.quantity by 4))", 5), ("max(band(sales.quantity at 2, 4))", "from 4"),
    ("quantity[where product.kind = 'fruit']", 5), ("quantity[pin product.kind = 'tree']", 1),
    ("quantity[pin product is no match]", 5), ("quantity[pin customer.region is no match]", 1),
    ("quantity[where customer is no match]", 1), ("quantity[pin first calendar.month]", 2), ("count(sales)[pin last calendar.date]", 1),
    ("let q = quantity, half = q / 2 then q - half", 7.5), ("let q = quantity then (q - quantity)[where product.kind = 'tree']", 14),
    ("let dear = avg(product.price) then count(product)[where product.price > dear]", 1),
    ("quantity[keep product where quantity > 3]", 9), ("quantity[keep top 1 product by quantity]", 5),
    ("quantity[keep bottom 1 product by quantity]", 1), ("quantity[keep top 2 customer by count(sales)]", 14),
    ("count(kind)[keep kind where count(product) > 1]", 1), ("quantity[both ways sales.product]", 15),
    ("count(product)[both ways sales.product, where customer.region = 'North']", 2), ("count(product)[where product.kind is null]", None),
    ("sum(case when product is no match then 1 else 0 end over sales)", 1), ("count(sales)[where product.kind in ('fruit', 'tree')]", 4),
]  # fmt: skip

#: Calendar changes, each in the context of a condition.
MOVED = [
    ("quantity[back 1 month]", "calendar.month = '2024-03'", 7), ("quantity[forward 1 month]", "calendar.month = '2024-01'", 7),
    ("quantity[month to date]", "calendar.date = date '2024-02-29'", 7), ("quantity[year to date]", "calendar.month = '2024-02'", 9),
    ("quantity[to date]", "calendar.date = date '2024-02-01'", 5), ("quantity[before]", "calendar.month = '2024-03'", 9),
    ("quantity[trailing 2 months]", "calendar.month = '2024-02'", 9), ("quantity[trailing 1 day]", "calendar.month = '2024-02'", 4),
    ("quantity[whole quarter]", "calendar.date = date '2024-02-01'", 15), ("quantity[whole week]", "calendar.date = date '2024-02-02'", 5),
    ("quantity[back 1 year]", "calendar.year = 2024", None), ("quantity[back 1 month, ignoring calendar.month]", "calendar.month = '2024-03'", None),
    ("goal[back 1 month]", "calendar.month = '2024-03'", Decimal("20.50")), ("goal[year to date]", "calendar.month = '2024-02'", Decimal("30.50")),
    ("quantity[back 1 month][whole quarter]", "calendar.month = '2024-04'", 6), ("quantity[back 7 days]", "calendar.date = date '2024-02-06'", 2),
    ("growth(quantity over 1 month)", "calendar.month = '2024-02'", 2.5), ("change(quantity over 1 month)", "calendar.month = '2024-02'", 5),
    ("change(quantity over 7 days on calendar)", "calendar.date = date '2024-02-06'", None),
    ("quantity[fiscal_year to date]", "calendar.month = '2024-03'", 15), ("quantity[back 1 month, where product.kind = 'fruit']", "calendar.month = '2024-03'", 3),
    ("max(quantity per calendar.month)[year to date]", "calendar.month = '2024-03'", 7), ("quantity[back 1 month on calendar]", "calendar.month = '2024-03'", 7),
]  # fmt: skip

FILTERED = [
    ("quantity", "product.kind = 'fruit'", 5), ("quantity", "kind.family = 'wood'", 1), ("quantity", "product.product is null", 5),
    ("quantity", "product.kind <> 'fruit'", 5), ("quantity", "sales.quantity > 2", 12), ("quantity", "sales.quantity > product.price", None),
    ("quantity", "sales.note is null", 3), ("quantity", "calendar.month = '2024-02' and customer.region = 'North'", 4),
    ("quantity", "product.weight < 5 or product.weight is null", 14), ("count(sales)", "customer.region = 'South'", 2),
    ("count(sales.quantity)", "sales.note = 'z'", 0), ("quantity", "customer.region = 'East'", None),
    ("goal", "calendar.month = '2024-02'", Decimal("20.50")), ("goal", "calendar.year = 2024", Decimal("130.49")),
    ("goal", "calendar.quarter = '2024-Q1' and kind.kind = 'tree'", Decimal("99.99")), ("goal", "calendar.date = date '2024-02-01'", None),
    ("goal", "product.price > 1", None), ("sole(kind.family)", "product.product = 'fig'", None),
    ("sole(kind.family)", "kind.kind = 'tree'", "wood"), ("sole(product.kind)", "kind.kind = 'tree'", "tree"),
    ("sole(product.weight)", "product.product = 'ivy'", None), ("narrowed(customer.region)", "customer.region = 'North'", True),
    ("narrowed(customer.region)", "kind.kind = 'tree'", False), ("quantity", "sales.paid", 10), ("quantity", "not sales.paid", 4),
    ("quantity", "product.price > 1 over sales", 10), ("quantity", "calendar.weekday = 'Thursday'", 7),
    ("quantity", "calendar.fiscal_year = 2024 and calendar.fiscal_quarter = '2024-Q4'", 15),
    ("count(sales)", "calendar.fiscal_year = 2025", 1), ("count(sales)", "calendar.week = date '2024-02-26'", 3),
]  # fmt: skip


def same(got: Any, expected: Any) -> bool:
    """Equal and of one type; floats up to their last digits."""
    if isinstance(expected, float):
        return isinstance(got, float) and got == pytest.approx(expected, rel=1e-12)
    return type(got) is type(expected) and got == expected


@pytest.mark.parametrize(("formula", "expected"), SCALAR)
def test_scalar(shared_stall: relatum.Model, formula: str, expected: Any) -> None:
    assert same(shared_stall.evaluate(formula), expected)


@pytest.mark.parametrize(("formula", "expected"), AGGREGATE)
def test_aggregate(shared_stall: relatum.Model, formula: str, expected: Any) -> None:
    assert same(shared_stall.evaluate(formula), expected)


@pytest.mark.parametrize(("formula", "expected"), NESTED)
def test_nested(shared_stall: relatum.Model, formula: str, expected: Any) -> None:
    assert same(shared_stall.evaluate(formula), expected)


@pytest.mark.parametrize(("formula", "where", "expected"), MOVED)
def test_moved(shared_stall: relatum.Model, formula: str, where: str, expected: Any) -> None:
    assert same(shared_stall.evaluate(formula, where), expected)


@pytest.mark.parametrize(("formula", "where", "expected"), FILTERED)
def test_under_a_filter(shared_stall: relatum.Model, formula: str, where: str, expected: Any) -> None:
    assert same(shared_stall.evaluate(formula, where), expected)


def test_every_function_of_the_register_stands_in_a_table() -> None:
    texts = " ".join([row[0] for row in SCALAR] + [row[0] for row in AGGREGATE + NESTED]).lower()
    spelled = {
        "band_by": "band(7 by",
        "band_at": "band(5 at",
        "band_edge": "by band(",
        **{f"period_{each}": f"by {each})" for each in ("month", "quarter", "week")},
        "negate": "- -3",
        "is_null": "is null",
        "case": "case when",
    }
    missing = [name for name in dict.fromkeys([*SCALARS, *known_functions()]) if spelled.get(name, name) not in texts]
    assert not missing


def test_three_ways_to_multiply_by_a_price_have_three_outcomes(nursery: relatum.Model) -> None:
    right = nursery.evaluate("sum(sales.quantity * price.unit_price)")
    average = nursery.evaluate("sum(sales.quantity) * avg(price.unit_price)")
    assert right == nursery.evaluate("revenue")
    assert abs(float(right) - average) > 0.05 * average
    with pytest.raises(relatum.FormulaError, match="has a value for each row of price"):
        nursery.evaluate("sum(sales.quantity) * price.unit_price")
