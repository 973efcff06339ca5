"""Totals over members that are chosen in the page: exactly what the engine says under that condition, or struck out."""

from __future__ import annotations

import json
import random
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import relatum
from relatum.model.names import literal, quoted
from relatum.pivot.result import Axis
from relatum.present.page.document import Asker, document
from relatum.present.sheet import sheet_of

WEB = Path(__file__).parent.parent / "web"
FIELDS = (
    "category.department",
    "category.category",
    "customer.region",
    "customer.kind",
    "product.pot_class",
    "calendar.year",
    "calendar.quarter",
)
#: Values with whether the page can put totals together: over members of fields that are no dates, over those of the calendar.
VALUES = [
    ("revenue", True, True), ("margin_rate format '0.000%'", True, True), ("count(sales)", True, True), ("avg(sales.quantity) format '0.000'", True, True),
    ("max(sales.quantity)", True, True), ("min(sales.discount) format '0.00'", True, True), ("-cost / 2 + 1 format '0.00'", True, True), ("revenue scale thousands digits 3", True, True),
    ("revenue - revenue[back 1 year]", True, False), ("growth(revenue over 1 year)", True, False), ("orders", False, False),
    ("share(revenue of total)", False, False), ("median(sales.quantity)", False, False), ("coalesce(revenue, 0)", False, False),
    ("rank(revenue among category.category)", False, False), ("avg(revenue per customer)", False, False), ("target", True, True), ("max(sales.sold_on)", False, False),
]  # fmt: skip


def condition(axis: Axis, codes: list[int]) -> str:
    """The condition that a field has one of some members."""
    name = f"{quoted(axis.table)}.{quoted(axis.column)}"
    values = axis.member_values(np.array(codes))
    parts = [f"{name} = {literal(values[code])}" for code in codes if code in values]
    parts += [f"{quoted(axis.table)} is no match"] if axis.members.no_match in codes else []
    parts += [f"({name} is null and not ({quoted(axis.table)} is no match))"] if axis.members.null in codes else []
    return f"({' or '.join(parts)})"


def texts_of(grid: relatum.Grid) -> dict[tuple[tuple[int, ...], tuple[int, ...], int], str]:
    """A grid's cells by the members of their line and column, and the number of their value."""
    sheet, result = sheet_of(grid.result), grid.result
    several = len(result.values)
    found = {}
    for line, cells in zip(sheet.rows, sheet.cells, strict=True):
        row = tuple(label.code for label in line.labels if label.kind not in ("total", "value", "below"))
        for at, (top, cell) in enumerate(zip(sheet.columns, cells, strict=True)):
            column = tuple(label.code for label in top.labels if label.kind not in ("total", "value", "below"))
            if cell.there:
                found[row, column, at % several] = cell.text
    return found


def random_case(nursery: relatum.Model, chance: random.Random) -> Any:
    """A page's document, the members chosen in it, and what the engine says of them."""
    fields = chance.sample(FIELDS, chance.choice([2, 2, 3]))
    count = chance.randint(1, len(fields) - 1)
    chosen_values = chance.sample(VALUES, chance.randint(1, 3))
    asked = {
        "rows": fields[:count],
        "columns": fields[count:],
        "values": {f"v{at}": each[0] for at, each in enumerate(chosen_values)},
    }
    grid = nursery.pivot(**asked)
    page = document(grid.request, Asker(grid._questions.with_parts, grid._questions.members), [])
    chosen: dict[int, list[int]] = {}
    conditions = []
    for at in chance.sample(range(len(fields)), chance.choice([1, 1, 2])):
        axis = grid.result.axes[at]
        members = [member["c"] for member in page["lists"][at]["members"] if member["there"]]
        codes = chance.sample(members, chance.randint(1, max(len(members) - 1, 1))) if members else []
        if codes and len(codes) < len(members):
            chosen[at] = codes
            conditions.append(condition(axis, codes))
    return page, chosen, fields, chosen_values, nursery.pivot(**asked, where=" and ".join(conditions))


@pytest.mark.parametrize("seed", range(6))
def test_totals_over_chosen_members_are_the_engines_or_struck_out(
    nursery: relatum.Model, tmp_path: Path, seed: int
) -> None:
    cases = [random_case(nursery, random.Random(100 * seed + number)) for number in range(12)]
    (tmp_path / "cases.json").write_text(json.dumps([{"page": page, "chosen": chosen} for page, chosen, *_ in cases]))
    done = subprocess.run(
        ["node", str(WEB / "tools" / "chosen.mjs"), str(tmp_path / "cases.json")], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr[-600:]
    told = struck = 0
    for (_, chosen, fields, values, narrowed), lines in zip(cases, json.loads(done.stdout), strict=True):
        known = texts_of(narrowed)
        blank = "–"
        dated = any(fields[at].startswith("calendar.") for at in chosen)
        for line in lines:
            for cell in line["cells"]:
                number = max(cell["value"], 0)
                where = values[number][0], fields, chosen, line["path"], cell["column"]
                adds_up = values[number][2] if dated else values[number][1]
                if cell["struck"]:
                    struck += 1
                    # A moved date does not add up over the calendar, and a target has no customers: these may be struck.
                    assert not adds_up or not values[number][2] or values[number][0] == "target", (
                        where,
                        cell["struck"],
                    )
                elif adds_up and cell["text"] is not None:
                    told += 1
                    wanted = known.get((tuple(line["path"]), tuple(cell["column"]), number), blank)
                    assert cell["text"] == wanted, (where, cell["text"], wanted)
    assert told > 100 and struck > 10
