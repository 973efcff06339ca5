"""Recipes of values: their parts, over which fields they add up, and why there is no recipe."""

from __future__ import annotations

from typing import Any

import pytest

import relatum
from relatum.data.arrow import python_values

FIELDS = ("category.category", "customer.region", "calendar.year")
#: A value, how it is put together, and over which of the fields; or the reason that it is not.
RECIPES: list[tuple[str, Any, tuple[int, ...]]] = [
    ("sum(sales.quantity)", ["part", 0], (0, 1, 2)),
    ("count(sales)", ["part", 0], (0, 1, 2)),
    ("count(sales.quantity)", ["part", 0], (0, 1, 2)),
    ("max(sales.quantity)", ["part", 0], (0, 1, 2)),
    ("avg(sales.quantity)", ["/", ["part", 0], ["part", 1]], (0, 1, 2)),
    ("-sum(sales.quantity)", ["negate", ["part", 0]], (0, 1, 2)),
    ("margin", ["-", ["part", 0], ["part", 1]], (0, 1, 2)),
    ("margin_rate", ["/", ["-", ["part", 0], ["part", 1]], ["part", 0]], (0, 1, 2)),
    ("sum(sales.quantity) * 2.5", ["*", ["part", 0], ["number", 2.5]], (0, 1, 2)),
    ("revenue[back 1 year]", ["part", 0], (0, 1)),
    ("(revenue - cost)[back 1 year]", ["-", ["part", 0], ["part", 1]], (0, 1)),
    ("revenue[back 1 year][back 1 month]", ["part", 0], (0, 1)),
    ("target", ["part", 0], (0, 2)),
    ("revenue / target", ["/", ["part", 0], ["part", 1]], (0, 2)),
    ("7", ["number", 7], ()),
    ("orders", "does not add up over members", ()),
    ("median(sales.quantity)", "does not add up over members", ()),
    ("max(sales.sold_on)", "does not add up over members", ()),
    ("avg(revenue per customer)", "is evaluated for each member", ()),
    ("share(revenue of total)", "square brackets", ()),
    ("revenue[pin calendar.year = 2024]", "square brackets", ()),
    ("revenue[where customer.region = 'North']", "square brackets", ()),
    ("coalesce(revenue, 0)", "its formula does not add up", ()),
    ("case when revenue > 0 then revenue end", "its formula does not add up", ()),
    ("rank(revenue among category.category)", "its formula does not add up", ()),
    ("revenue + orders", "does not add up over members", ()),
]


@pytest.mark.parametrize(("formula", "steps", "fields"), RECIPES)
def test_a_value_has_its_recipe_or_a_reason(
    nursery: relatum.Model, formula: str, steps: Any, fields: tuple[int, ...]
) -> None:
    grid = nursery.pivot(list(FIELDS), values={"v": formula})
    result = grid._questions.with_parts(grid.request)
    (recipe,) = result.recipes
    if isinstance(steps, str):
        assert recipe.steps == [] and steps in recipe.reason
        return
    assert recipe.steps == steps and recipe.reason == ""
    assert tuple(sorted(recipe.fields)) == fields
    assert recipe.numbers == tuple(range(len(result.parts)))
    assert grid.to_arrow(totals=True).equals(result.to_arrow(totals=True)), "parts beside a value show no cell"


def worked_out(steps: Any, parts: list[Any]) -> Any:
    """A recipe in plain Python."""
    match steps:
        case ["part", number]:
            return parts[number]
        case ["number", value]:
            return value
        case ["negate", inner]:
            value = worked_out(inner, parts)
            return None if value is None else -value
        case [sign, left, right]:
            one, other = (worked_out(each, parts) for each in (left, right))
            if one is None or other is None or (sign == "/" and other == 0):
                return None
            one, other = float(one), float(other)
            return {"+": one + other, "-": one - other, "*": one * other, "/": one / other if sign == "/" else 0.0}[
                sign
            ]
    raise AssertionError(steps)


@pytest.mark.parametrize("formula", [formula for formula, steps, _ in RECIPES if not isinstance(steps, str)])
def test_parts_give_the_value_in_every_cell(nursery: relatum.Model, formula: str) -> None:
    grid = nursery.pivot(list(FIELDS[:2]), FIELDS[2], {"v": formula})
    result = grid._questions.with_parts(grid.request)
    values = python_values(result.column_of(0))
    parts = [python_values(result.column_of(part.column)) for part in result.parts]
    assert len(values) > 50
    for at, value in enumerate(values):
        found = worked_out(result.recipes[0].steps, [part[at] for part in parts])
        assert (found is None) == (value is None) and (
            value is None or float(found) == pytest.approx(float(value), rel=1e-12)
        ), at


SUMMED = [
    ("sum(sales.quantity)", 0),
    ("count(sales.quantity)", 0),
    ("sum(sales.quantity * price.unit_price)", 1),
    ("target", 0),
]


@pytest.mark.parametrize(("formula", "field"), SUMMED)
def test_parts_add_up_over_the_fields_that_a_recipe_names(nursery: relatum.Model, formula: str, field: int) -> None:
    by_member = nursery.pivot(FIELDS[field], values={"v": formula}).to_arrow(totals=False)["v"].to_pylist()
    assert sum(each for each in by_member if each is not None) == nursery.evaluate(formula)
