"""What a page shows when members are chosen, under tops, others and prepared members: what the engine says, or struck out."""

from __future__ import annotations

import random
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest

import relatum
from relatum.model.names import literal, quoted
from relatum.pivot.result import OTHERS, Axis, Result
from relatum.present.page.document import Asker, document
from relatum.present.sheet import sheet_of

WEB = Path(__file__).parents[2] / "web"
FIELDS = (
    "category.department",
    "category.category",
    "customer.region",
    "customer.kind",
    "product.pot_class",
    "calendar.year",
    "calendar.quarter",
)
PREPARED = ("customer.region", "product.pot_class", "customer.kind")
#: Values with whether the page can put totals together: over members of fields that are not dates, over those of the calendar.
VALUES = [
    ("revenue", True, True), ("margin_rate format '0.000%'", True, True), ("count(sales)", True, True), ("avg(sales.quantity) format '0.000'", True, True),
    ("max(sales.quantity)", True, True), ("min(sales.discount) format '0.00'", True, True), ("-cost / 2 + 1 format '0.00'", True, True), ("revenue scale thousands digits 3", True, True),
    ("revenue - revenue[back 1 year]", True, False), ("growth(revenue over 1 year)", True, False), ("orders", False, False),
    ("share(revenue of total)", False, False), ("median(sales.quantity) format '0.0'", False, False), ("coalesce(revenue, 0) format '0'", False, False),
    ("rank(revenue among category.category)", False, False), ("avg(revenue per customer) format '0.00'", False, False), ("target", True, True), ("max(sales.sold_on)", False, False),
]  # fmt: skip


@dataclass(frozen=True)
class Choosing:
    """A page's document, the grid of it in view, and the members chosen there."""

    page: dict[str, Any]
    grid: str
    chosen: dict[int, tuple[bool, list[int]]]
    values: list[tuple[str, bool, bool]]
    asked: dict[str, Any]
    result: Result
    prepared: str

    @property
    def dated(self) -> bool:
        """Whether periods of the calendar are chosen."""
        return any(self.result.axes[at].table == "calendar" for at in self.chosen)

    def where(self, path: Sequence[int] = (), hidden: tuple[int, list[int]] | None = None) -> str:
        """The condition that keeps the chosen members under a prepared one, except some members."""
        parts = [self.prepared] if self.prepared else []
        for at, (rest, codes) in self.chosen.items():
            there = condition(self.result.axes[at], codes) if codes else "false"
            parts.append(f"(not {there})" if rest else there)
        parts += [condition(self.result.axes[at], [code]) for at, code in enumerate(path)]
        return " and ".join(parts + ([condition(self.result.axes[hidden[0]], hidden[1])] if hidden else []))


def condition(axis: Axis, codes: list[int]) -> str:
    """The condition that a field has one of some members; never null."""
    name = f"{quoted(axis.table)}.{quoted(axis.column)}"
    values = axis.member_values(np.array(codes))
    parts = [f"coalesce({name} = {literal(values[code])}, false)" for code in codes if code in values]
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


def random_case(nursery: relatum.Model, chance: random.Random) -> Choosing:
    """A page with tops and prepared members, one of its grids, and members chosen there."""
    fields = chance.sample(FIELDS, chance.choice([1, 2, 2, 3]))
    count = chance.randint(1, len(fields))
    values = chance.sample(VALUES, chance.randint(1, 3))
    tops = [f" {chance.choice(('top', 'bottom'))} {chance.randint(1, 3)} by revenue{chance.choice(('', ' with others', ' with others'))}"
            if chance.random() < 0.5 else "" for _ in fields]  # fmt: skip
    texts = [field + top for field, top in zip(fields, tops, strict=True)]
    asked = {"values": {f"v{at}": each[0] for at, each in enumerate(values)}}
    grid = nursery.pivot(texts[:count], texts[count:], **asked)
    prepare = [each for each in PREPARED if each not in fields and chance.random() < 0.3][:1]
    page = document(grid.request, Asker(grid._questions.with_parts, grid._questions.members), prepare)
    name = chance.choice(list(page["grids"]))
    prepared = ""
    if prepare and name != page["first"]:
        member = page["prepared"][0]["members"][int(name) - 1]["t"]
        table = prepare[0].split(".")[0]
        prepared = {
            "(null)": f"{prepare[0]} is null and not ({table} is no match)",
            "(no match)": f"{table} is no match",
        }.get(member, f"{prepare[0]} = {literal(member)}")
    chosen = {}
    for at in chance.sample(range(len(fields)), chance.choice([0, 1, 1, 2]) if len(fields) > 1 else 1):
        members = [member["c"] for member in page["lists"][at]["members"] if member["c"] != OTHERS]
        codes = chance.sample(members, min(len(members), chance.randint(1, 4)))
        if codes:
            chosen[at] = (chance.random() < 0.6, codes)
    shown = nursery.pivot(texts[:count], texts[count:], **asked, where=prepared)
    return Choosing(
        page, name, chosen, values, {**asked, "rows": fields[:count], "columns": fields[count:]}, shown.result, prepared
    )


def expected(nursery: relatum.Model, case: Choosing, line: Sequence[int], column: Sequence[int], number: int) -> str:
    """The engine's value of a cell with others: the page says which members are hidden."""
    count = len(case.asked["rows"])
    parts: list[str] = []
    for start, path in ((0, line), (count, column)):
        if OTHERS in path:
            at = path.index(OTHERS)
            sets = case.page["grids"][case.grid]["hidden"][start + at]
            (codes,) = (codes for outer, codes in sets if list(outer) == list(path[:at]))
            parts.append(condition(case.result.axes[start + at], codes))
        parts += [condition(case.result.axes[start + at], [code]) for at, code in enumerate(path) if code != OTHERS]
    where = " and ".join(filter(None, [case.where(), *parts]))
    found = nursery.pivot(values={"v": case.values[number][0]}, where=where)
    return sheet_of(found.result).cells[0][0].text


@pytest.mark.parametrize("seed", range(3))
def test_what_a_page_shows_of_chosen_members_is_the_engines_or_struck_out(
    nursery: relatum.Model, tmp_path: Path, seed: int
) -> None:
    cases = [random_case(nursery, random.Random(100 * seed + number)) for number in range(12)]
    given = [{"page": each.page, "grid": each.grid, "chosen": each.chosen} for each in cases]
    (tmp_path / "cases.json").write_bytes(msgspec.json.encode(given))
    done = subprocess.run(
        ["node", str(WEB / "tools" / "chosen.mjs"), str(tmp_path / "cases.json")], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr[-600:]
    told = struck = others = 0
    for case, lines in zip(cases, msgspec.json.decode(done.stdout), strict=True):
        known = texts_of(nursery.pivot(**case.asked, where=case.where()))
        for line in lines:
            for cell in line["cells"]:
                number = max(cell["value"], 0)
                formula, over_members, over_dates = case.values[number]
                where = formula, case.asked, case.where(), line["path"], cell["column"]
                if cell["struck"]:
                    struck += 1
                    # A moved date does not add up over the calendar, and a target has no customers: these may be struck.
                    adds_up = over_dates if case.dated else over_members
                    hides = any(case.page["grids"][case.grid]["hidden"].values())
                    assert not adds_up or not over_dates or formula == "target" or hides, (where, cell["struck"])
                elif (
                    cell["text"] is not None
                    and formula != "target"
                    and (over_dates or not over_members or not case.dated)
                ):
                    told += 1
                    if OTHERS in (*line["path"], *cell["column"]):
                        others += 1
                        if others % 5 == 0 and over_members:
                            assert cell["text"] == expected(nursery, case, line["path"], cell["column"], number), where
                        continue
                    wanted = known.get((tuple(line["path"]), tuple(cell["column"]), number), "–")
                    assert cell["text"] == wanted, (where, cell["text"], wanted)
    assert told > 50 and struck > 5 and others > 0
