"""Members that are kept by the very formula that is asked of them: its values are there already when they are found."""

from __future__ import annotations

import random
from typing import Any

import pyarrow as pa
import pytest

import relatum

#: What an aggregate can be made of: groups that are put together, all rows at once, different values.
FORMULAS = ("sum(sale.n)", "count(sale)", "avg(sale.n)", "max(sale.n)", "count(distinct sale.n)", "median(sale.n)", "sum(sale.n * shop.rent)")
#: Whose members are kept, and what of them is on the rows: their key, what they look up, what several of them share, nothing.
GRAINS = {
    "shop": ("", "shop.shop", "shop.town, shop.shop", "shop.kind", "town.land, shop.kind", "sale.no, shop.town", "kin.kin"),
    "town": ("", "kin.kin", "town.land", "town.town, town.land", "shop.town", "shop.shop"),
    "sale.no": ("", "sale.no", "shop.town", "sale.no, shop.town"),
    "shop.kind": ("", "shop.kind", "town.land", "shop.shop"),
}  # fmt: skip
CONDITIONS = ("", "sale.n > 1", "shop.kind <> 'b'", "town.land = 'x' and sale.n < 9")


def shops() -> relatum.Model:
    chance = random.Random(5)
    model = relatum.Model("shops")
    model.add_table("town", pa.table({"town": ["p", "q", "r"], "land": ["x", "y", "x"]}), key="town")
    places = {"shop": list(range(12)), "town": [chance.choice(("p", "q", "r", None, "s")) for _ in range(12)],
              "kind": [chance.choice(("a", "b", None)) for _ in range(12)], "rent": [number % 5 for number in range(12)]}  # fmt: skip
    model.add_table("shop", pa.table(places), key="shop")
    lines = {"shop": [chance.choice((*range(10), 77, None)) for _ in range(300)], "no": sorted(chance.randrange(60) for _ in range(300)),
             "n": [chance.choice((None, *range(12))) for _ in range(300)], "item": [chance.randrange(6) for _ in range(300)]}  # fmt: skip
    model.add_table("sale", pa.table(lines))
    model.add_table("item", pa.table({"item": [0, 1, 2, 3, 4], "kin": [1, 2, 1, 9, None]}), key="item")
    model.add_table("kin", pa.table({"kin": [1, 2]}), key="kin")
    for link in ("sale.shop -> shop.shop", "shop.town -> town.town", "sale.item -> item.item", "item.kin -> kin.kin"):
        model.relate(link)
    return model


def listed(grid: relatum.Grid) -> list[dict[str, Any]]:
    return grid.to_arrow(totals=True).to_pylist()


def kept_by(model: relatum.Model, grain: str, formula: str, where: str) -> tuple[str, str, bool]:
    """A keep of the better half of a grain's members, the condition that names them, and if no match is as good."""
    key = {"shop": "shop.shop", "town": "town.town"}.get(grain, grain)
    grid = model.pivot(key, values={"value": formula}, where=where, totals=False)
    records = grid.to_arrow().to_pylist()
    real = {record[key]: record["value"] for record in records if not record.get(f"{key}:no_match")}
    known = sorted(value for value in real.values() if value is not None)
    least = known[len(known) // 2]
    chosen = [member for member, value in real.items() if value is not None and value >= least]
    parts = [f"{key} = {each!r}" for each in chosen if each is not None]
    parts += [f"({key} is null and {key} is not no match)"] * (None in chosen)
    good = any(r.get(f"{key}:no_match") and r["value"] is not None and r["value"] >= least for r in records)
    return f"{grain} where {formula} >= {least!r}", f"({' or '.join(parts)})", good


@pytest.mark.parametrize("grain", GRAINS)
@pytest.mark.parametrize("formula", FORMULAS)
def test_what_is_kept_is_worth_what_its_members_are_worth(grain: str, formula: str) -> None:
    """The members that a plain grid says are the best, named in a condition, give what keeping them by a formula does."""
    model = shops()
    for where in CONDITIONS:
        keeps = [kept_by(model, grain, each, where) for each in (formula, f"({formula})[where sale.n > 2]")]
        other = kept_by(model, "town" if grain == "shop" else "shop", formula, where)
        for keep, condition, good in (*keeps, (f"{keeps[0][0]}, {other[0]}", f"{keeps[0][1]} and {other[1]}", False)):
            for rows in GRAINS[grain]:
                values = {"it": formula, "lines": "count(sale)", "other": "sum(sale.n)"}
                kept = model.pivot(rows, values=values, where=where, keep=keep)
                plain = model.pivot(rows, values=values, where=" and ".join(filter(None, (where, condition))))
                assert listed(kept) == listed(plain), (where, keep, rows)
                assert not good or any(note.kind == "member" and keep in note.text for note in kept.notes), kept.notes
