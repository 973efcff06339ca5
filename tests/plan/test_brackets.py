"""Two changes of context in one formula: each has the value that follows from the rules, computed by hand."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

import relatum


def shop(engine: str = "memory") -> relatum.Model:
    """Sales of two products over fourteen months, and a second calendar that deliveries alone know."""
    model = relatum.Model("shop", engine=engine)
    days = [date(2023, 1, 5), date(2023, 2, 5), date(2023, 12, 5), date(2024, 1, 5), date(2024, 2, 5)]
    model.add_table(
        "s",
        pa.table(
            {
                "p": ["a", "b", "a", "a", "b"],
                "day": days,
                "q": [1, 2, 4, 8, 16],
            }
        ),
    )
    model.add_table("p", pa.table({"p": ["a", "b"], "kind": ["x", "x"], "rank": [2, 1]}), key="p")
    model.add_table("d", pa.table({"on": days[:2], "n": [1, 1]}))
    model.add_calendar("cal", date(2023, 1, 1), date(2024, 12, 31))
    model.add_calendar("other", date(2023, 1, 1), date(2024, 12, 31))
    model.relate("s.p -> p.p")
    model.relate("s.day -> cal.date")
    model.relate("d.on -> other.date")
    model.derive("p", "late", "rank * 1")
    return model


#: A formula, a condition, its value.
VALUES = [
    # only: drops earlier pins with everything else that it does not name
    ("sum(s.q)[pin last cal.month]", "", 16), ("sum(s.q)[pin last cal.month, only p]", "", 31),
    ("sum(s.q)[pin last cal.month, only p]", "p.p = 'a'", 13), ("sum(s.q)[pin last cal.month, only cal]", "", 16),
    # ignoring a calendar: a move along any calendar stays as long as one is left to move along
    ("sum(s.q)[back 1 year, ignoring other]", "cal.year = 2024", 3), ("sum(s.q)[back 1 year, ignoring cal, ignoring other]", "cal.year = 2024", 31),
    ("sum(s.q)[back 1 year]", "cal.year = 2024", 3), ("sum(s.q)[back 1 year on cal, ignoring cal]", "cal.year = 2024", 31),
    # a keep in brackets is not a period: the move applies to the dates chosen beside it
    ("sum(s.q)[keep top 1 cal.month by sum(s.q), back 1 month]", "cal.year = 2024 and cal.month_of_year = 2", None),
    ("sum(s.q)[keep cal.year where sum(s.q) > 10, back 1 year]", "cal.year = 2024", None),
    # the ties of a keep are formulas too
    ("sum(s.q)[keep top 1 p by (count(p) * 0, max(p.late))]", "", 18), ("sum(s.q)[keep top 1 p by (count(p) * 0, max(p.late) desc)]", "", 13),
    ("let least = min(p.rank) then sum(s.q)[keep top 1 p by (count(p) * 0, (max(p.rank) - least) desc)]", "", 13),
]  # fmt: skip


@pytest.mark.parametrize(("formula", "where", "value"), VALUES)
@pytest.mark.parametrize("engine", ["memory", "duckdb"])
def test_brackets_act_in_the_order_written(engine: str, formula: str, where: str, value: Any) -> None:
    with shop(engine) as model:
        assert model.evaluate(formula, where=where or None) == value


def test_a_keep_of_the_best_sets_the_current_row_aside() -> None:
    model = shop()
    model.derive("p", "best", "sum(s.q)[keep top 1 p by sum(s.q)]")
    grid = model.pivot("p.p", values="v: max(p.best)", totals=False, show_empty=True)
    assert dict(zip(grid.to_arrow()["p.p"].to_pylist(), grid.to_arrow()["v"].to_pylist(), strict=True)) == {
        "a": None,
        "b": 18,
    }


def test_whole_numbers_beyond_floats_are_compared_with_decimals() -> None:
    big = 2**53
    model = relatum.Model()
    model.add_table(
        "t",
        pa.table(
            {
                "i": [big + 1, big, big - 1, -big - 1],
                "d": pa.array([Decimal(f"{n}.0") for n in (big, big, big, -big)], pa.decimal128(18, 1)),
            }
        ),
    )
    for operation, count in ((">", 1), ("<", 2), ("=", 1), (">=", 2), ("<=", 3), ("<>", 3)):
        assert model.evaluate("count(t)", where=f"t.i {operation} t.d") == count, operation
        turned = {">": "<", "<": ">", ">=": "<=", "<=": ">="}.get(operation, operation)
        assert model.evaluate("count(t)", where=f"t.d {turned} t.i") == count, turned


def test_a_product_may_have_as_many_digits_as_decimals_have() -> None:
    model = relatum.Model()
    fine = pa.array([Decimal("0.000000001")], pa.decimal128(18, 9))
    model.add_table("t", pa.table({"a": fine, "b": fine, "c": pa.array([Decimal("0.1")], pa.decimal128(18, 1))}))
    assert model.evaluate("sum(t.a * t.b)") == Decimal("0.000000000000000001")
    with pytest.raises(relatum.FormulaError, match="would have 19 digits"):
        model.evaluate("sum(t.a * t.b * t.c)")
