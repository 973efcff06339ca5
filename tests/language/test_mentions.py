"""What formulas name: every place a name can be in, and what it means there."""

from __future__ import annotations

import pytest

from relatum.language.mentions import Known, meaning, mentions, respelled

KNOWN = Known(
    {
        "sales": ["quantity", "day", "product id", "amount"],
        "product": ["price", "kind", "amount"],
        "calendar": ["date", "month"],
        "Order Lines": ["no"],
    },
    ["revenue", "goal", "sum", "New Measure"],
)

CASES: list[tuple[str, str, str]] = [
    # the formula, the table whose derived column it is, what it names
    ("sum(sales.quantity * product.price)", "", "sales sales.quantity product product.price"),
    ("revenue / revenue[ignoring product]", "", "revenue revenue product"),
    ("count(sales)", "", "sales"),
    ("count(distinct product.kind over sales)", "", "product product.kind sales"),
    ('sum(sales."product id") + "New Measure"', "", "sales sales.product id New Measure"),
    ('count("Order Lines") - max("Order Lines".no)', "", "Order Lines Order Lines Order Lines.no"),
    ("price * 2", "product", "product.price"),
    ("price * sum(sales.quantity)", "product", "product.price sales sales.quantity"),
    ("sum(sales.quantity * amount)", "product", "sales sales.quantity"),
    ("amount + revenue", "sales", "sales.amount revenue"),
    ("max(revenue per product)", "", "revenue product"),
    ("avg(revenue per (product.kind, calendar.month))", "", "revenue product product.kind calendar calendar.month"),
    ("rank(revenue among product.kind)", "", "revenue product product.kind"),
    ("running(revenue among product by goal desc)", "", "revenue product goal"),
    ("first(sales.quantity by sales.day)", "", "sales sales.quantity sales sales.day"),
    ("avg(product.price weighted by sales.quantity)", "", "product product.price sales sales.quantity"),
    ("percentile(0.5 of sales.quantity)", "", "sales sales.quantity"),
    ("revenue[where product.kind = 'x' and sales.quantity > 1]", "", "revenue product product.kind sales sales.quantity"),
    ("revenue[where product.kind = 'x' over sales]", "", "revenue product product.kind sales"),
    ("revenue[pin calendar.month = '2024-01', pin last calendar.date]", "", "revenue calendar calendar.month calendar calendar.date"),
    ("revenue[pin product is no match]", "", "revenue product"),
    ("revenue[ignoring (product, calendar.month), only sales]", "", "revenue product calendar calendar.month sales"),
    ("revenue[ignoring axes]", "", "revenue"),
    ("revenue[via sales.day, both ways sales.quantity]", "", "revenue sales sales.day sales sales.quantity"),
    ("revenue[back 1 year on calendar]", "", "revenue calendar"),
    ("revenue[keep top 3 product by goal]", "", "revenue product goal"),
    ("revenue[keep product.kind where goal > 1]", "", "revenue product product.kind goal"),
    ("let goal = revenue then goal + goal", "", "revenue"),
    ("let a = goal, goal = a + revenue then goal * a", "", "goal revenue"),
    ("let x = revenue then x[where product.kind = 'a']", "", "revenue product product.kind"),
    ("case when narrowed(product.kind) then sole(product.kind) else 'all' end", "", "product product.kind product product.kind"),
    ("coalesce(revenue, goal, 0)", "", "revenue goal"),
    ("'revenue' || 'goal'", "", ""),
    ("sum -- goal", "", "sum"),
    ("nothing + other.thing", "", ""),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "home", "named"), CASES)
def test_what_a_formula_names(formula: str, home: str, named: str) -> None:
    found = mentions(formula, KNOWN, home)
    said = [f"{each.table}.{each.name}" if each.kind == "column" else each.name for each in found]
    assert " ".join(said) == named
    for each in found:
        text = formula[each.span.start : each.span.stop]
        assert text.strip('"') == each.name, "the span is that of the name alone"


@pytest.mark.parametrize(("formula", "home", "named"), CASES)
def test_spelling_every_name_anew_changes_nothing_else(formula: str, home: str, named: str) -> None:
    found = mentions(formula, KNOWN, home)
    changed = respelled(formula, found, lambda each: f'"{each.name}!"')
    assert changed.count('!"') == len(found)
    again = respelled(formula, found, lambda each: None)
    assert again == formula
    back = changed
    for each in found:
        back = back.replace(f'"{each.name}!"', formula[each.span.start : each.span.stop], 1)
    assert back == formula or len({each.name for each in found}) < len(found)


def test_a_condition_names_things_too() -> None:
    found = mentions("product.kind = 'x' over sales", KNOWN, condition=True)
    assert [each.name for each in found] == ["product", "kind", "sales"]


SAME = [
    ("sum(a.b)", "SUM( a.b ) -- why", True), ("a + b", "(a) + b", True), ("a + b", "b + a", False), ("1.50", "1.5", False),
    ("x[ignoring (p, q)]", "x [ ignoring (p,q) ]", True), ("x[back 1 year]", "x[back 1 years]", True), ("'a'", "'A'", False),
    ("case when a then 1 end", "case when a then 1 else null end", False), ("let a = 1 then a", "let b = 1 then b", False),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other", "same"), SAME)
def test_meaning(one: str, other: str, same: bool) -> None:
    assert (meaning(one) == meaning(other)) is same
