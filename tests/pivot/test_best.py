"""The best few members under each outer one, whatever they are ranked by and however many are asked for."""

from __future__ import annotations

import random
from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pytest

import relatum

#: What members are ranked by: the drawn values of a row, of which some are equal and some null.
KINDS = {
    "integer": lambda chance: chance.choice((None, -(2**63), 2**63 - 1, *range(-3, 4))),
    "float": lambda chance: chance.choice((None, -1e300, 1e300, *(each / 4 for each in range(-5, 6)))),
    "decimal": lambda chance: chance.choice((None, *(Decimal(each) / 100 for each in range(-5, 6)))),
    "date": lambda chance: chance.choice((None, *(date(2024, 2, 27) + timedelta(days=each) for each in range(5)))),
    "boolean": lambda chance: chance.choice((None, True, False)),
    "text": lambda chance: chance.choice((None, "", "a", "B", "é", "zz")),
}  # fmt: skip


@pytest.mark.parametrize("edge", ["top", "bottom"])
@pytest.mark.parametrize("kind", KINDS)
def test_the_best_members_are_those_with_fewer_better_ones_than_asked_for(kind: str, edge: str) -> None:
    chance = random.Random(f"{kind} {edge}")
    rows = [(chance.randrange(7), member, KINDS[kind](chance)) for member in range(40) for _ in range(2)]
    rows = list({(outer, member): (outer, member, value) for outer, member, value in rows}.values())
    model = relatum.Model("best")
    model.add_table(
        "t", pa.table({"outer": [r[0] for r in rows], "member": [r[1] for r in rows], "x": [r[2] for r in rows]})
    )
    by_outer: dict[int, dict[int, Any]] = defaultdict(dict)
    for outer, member, value in rows:
        by_outer[outer][member] = value
    for number in (1, 2, 3, 5, 17, 60):
        expected = {
            (outer, member)
            for outer, own in by_outer.items()
            for member, value in own.items()
            if value is not None
            and sum(each is not None and (each > value if edge == "top" else each < value) for each in own.values())
            < number
        }
        axis = f"t.outer no total, t.member {edge} {number} by max(t.x)"
        shown = model.pivot(axis, values="count(t)", totals=False).to_arrow().to_pylist()
        assert {(line["t.outer"], line["t.member"]) for line in shown} == expected
