"""Members that are kept by the very formula that is asked of them: its values are there already when they are found."""

from __future__ import annotations

import random
from collections.abc import Iterator
from itertools import product
from typing import Any

import pyarrow as pa
import pytest

import relatum
from engines import engine_for
from relatum.engine.memory import keeps

#: What an aggregate can be made of: groups that are put together, all rows at once, different values.
FORMULAS = (
    "sum(sale.n)",
    "count(sale)",
    "avg(sale.n)",
    "max(sale.n)",
    "count(distinct sale.n)",
    "median(sale.n)",
    "sum(sale.n * shop.rent)",
)
#: Whose members are kept, and what of them is on the rows: their key, what they look up, what several of them share, nothing.
GRAINS = {
    "shop": ("", "shop.shop", "shop.town, shop.shop", "shop.kind", "town.land, shop.kind", "sale.no, shop.town", "kin.kin"),
    "town": ("", "kin.kin", "town.land", "town.town, town.land", "shop.town", "shop.shop"),
    "sale.no": ("", "sale.no", "shop.town", "sale.no, shop.town"),
    "shop.kind": ("", "shop.kind", "town.land", "shop.shop"),
}  # fmt: skip
CONDITIONS = ("", "sale.n > 1", "sale.n > 10", "shop.kind <> 'b'", "town.land = 'x' and sale.n < 9")
#: How a keep says the formula: as it is asked, under a condition more, under one less.
SPELLED = ("{}", "({})[where sale.n > 2]", "({})[ignoring sale.n]")


def shops(engine: Any = "memory") -> relatum.Model:
    chance = random.Random(5)
    model = relatum.Model("shops", engine=engine)
    model.add_table("town", pa.table({"town": ["p", "q", "r"], "land": ["x", "y", "x"]}), key="town")
    places = {"shop": list(range(12)), "town": [chance.choice(("p", "q", "r", None, "s")) for _ in range(12)],
              "kind": [chance.choice(("a", "b", None)) for _ in range(12)], "rent": [number % 5 for number in range(12)]}  # fmt: skip
    model.add_table("shop", pa.table(places), key="shop")
    lines = {"shop": [chance.choice((*range(10), 77, None)) for _ in range(300)], "no": sorted(chance.randrange(60) for _ in range(300)),
             "n": [chance.choice((None, *range(12))) for _ in range(300)], "paid": [chance.choice((True, False, None)) for _ in range(300)], "item": [chance.randrange(6) for _ in range(300)]}  # fmt: skip
    model.add_table("sale", pa.table(lines))
    model.add_table("item", pa.table({"item": [0, 1, 2, 3, 4], "kin": [1, 2, 1, 9, None]}), key="item")
    model.add_table("kin", pa.table({"kin": [1, 2]}), key="kin")
    visits = {
        "shop": [chance.randrange(10) for _ in range(90)],
        "hours": [chance.choice((None, *range(12))) for _ in range(90)],
    }
    model.add_table("visit", pa.table({"visit": list(range(90)), **visits}), key="visit")
    for link in (
        "visit.shop -> shop.shop",
        "sale.shop -> shop.shop",
        "shop.town -> town.town",
        "sale.item -> item.item",
        "item.kin -> kin.kin",
    ):
        model.relate(link)
    return model


def listed(grid: relatum.Grid) -> list[dict[str, Any]]:
    return grid.to_arrow(totals=True).to_pylist()


def kept_by(model: relatum.Model, grain: str, formula: str, where: str, best: int = 0) -> tuple[str, str, bool]:
    """A keep of the better half of a grain's members, or the best, the condition that names them, and if no match is as good."""
    key = {"shop": "shop.shop", "town": "town.town"}.get(grain, grain)
    grid = model.pivot(key, values={"value": formula}, where=where, totals=False, show_empty=True)
    records = grid.to_arrow().to_pylist()
    real = {record[key]: record["value"] for record in records if not record.get(f"{key}:no_match")}
    known = sorted(value for value in real.values() if value is not None)
    least = known[-min(best, len(known))] if best else known[len(known) // 2]
    chosen = [member for member, value in real.items() if value is not None and value >= least]
    parts = [f"{key} = {each!r}" for each in chosen if each is not None]
    parts += [f"({key} is null and {key} is not no match)"] * (None in chosen)
    condition = f"({' or '.join(parts)})"
    if best:
        return f"top {best} {grain} by {formula}", condition, False
    good = any(r.get(f"{key}:no_match") and r["value"] is not None and r["value"] >= least for r in records)
    return f"{grain} where {formula} >= {least!r}", condition, good


@pytest.fixture(params=["as usual", "members that matter first"])
def _ways(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Members that no row tested has are looked at, or they are not."""
    if request.param != "as usual":
        monkeypatch.setattr(keeps, "MANY_ROWS", 0)
        monkeypatch.setattr(keeps, "_SHARE", 1.0)


@pytest.mark.usefixtures("_ways")
@pytest.mark.parametrize("grain", GRAINS)
def test_what_is_kept_is_worth_what_its_members_are_worth(grain: str) -> None:
    """The members that a plain grid says are the best, named in a condition, give what keeping them by a formula does."""
    model, chance = shops(), random.Random(3)
    for where, formula, spelled in product(CONDITIONS, FORMULAS, SPELLED):
        if chance.random() > 0.3:
            continue
        keep, condition, good = kept_by(model, grain, spelled.format(formula), where, best=chance.choice((0, 0, 2)))
        if chance.random() < 0.2:
            other = kept_by(model, "town" if grain == "shop" else "shop", formula, where)
            keep, condition, good = f"{keep}, {other[0]}", f"{condition} and {other[1]}", False
        more = chance.choice(({"lines": "count(sale)"}, {"few": "count(sale)[where sale.n > 10]"}, {}))
        rows = chance.choice(GRAINS[grain])
        kept = model.pivot(rows, values={"it": formula, **more}, where=where, keep=keep)
        plain = model.pivot(rows, values={"it": formula, **more}, where=" and ".join(filter(None, (where, condition))))
        assert listed(kept) == listed(plain), (where, keep, rows)
        assert not good or any(note.kind == "member" and keep in note.text for note in kept.notes), kept.notes


@pytest.mark.usefixtures("_ways")
def test_no_match_is_noted_only_where_it_has_a_value() -> None:
    model = shops()
    for where, noted in (("sale.n = 3", True), ("sale.n = 3 and shop.kind = 'a'", False)):
        keep = "shop where coalesce(sum(sale.n)[ignoring sale.n], 0) >= 0"
        grid = model.pivot(values="sum(sale.n)", where=where, keep=keep)
        assert any(note.kind == "member" for note in grid.notes) == noted


#: Values, kept members and conditions for which it matters how the members that matter are found.
ODD = (
    ("sum(sale.n)", "shop where sum(sale.n)[ignoring sale.n] >= min(sum(sale.n) per shop)[only town]", "sale.n > 9"),
    ("sum(sale.n)[where shop.shop in (7, 8, 9)]", "shop where sum(sale.n) >= avg(sale.n)[only town] * 30", ""),
    ("sum(sale.n)[keep shop where count(sale)[ignoring sale.n, ignoring shop.kind] > 25, ignoring shop.kind]", "", "shop.kind = 'a' and sale.n > 3"),
    ("sum(sale.n)[where shop.kind = 'a']", "shop where sum(sale.n) > 5", ""),
    ("sum(sale.n)", "shop where sum(sale.n)[ignoring sale.n] > 100 and shop.rent > 1", "sale.n > 9"),
    ("sum(visit.hours)", "visit where sum(sale.n)[both ways visit.shop] > 100", "visit.hours > 6"),
    ("sum(sale.n)", "item where sum(shop.rent)[both ways sale.shop, ignoring sale.n] > 12", "sale.n > 9"),
    ("sum(sale.n)", "shop where max(sale.n)[only town] > 5", ""),
    ("sum(sale.n)", "top 4 shop by sum(sale.n)[only town]", "sale.n > 3"),
    ("count(shop)[keep shop where sum(sale.n)[only town] > 300]", "", ""),
    ("sum(sale.n)", "shop where last(sale.n by sale.no)[pin last sale.no, ignoring sale.n] > 2", "sale.n > 9"),
    ("sum(sale.n)", "shop where sum(sale.n)[keep sale.no where count(sale) > 4, ignoring sale.n] > 20", "sale.n > 9"),
)  # fmt: skip


@pytest.mark.parametrize(("value", "keep", "where"), ODD)
def test_members_that_do_not_matter_change_nothing(
    value: str, keep: str, where: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = []
    monkeypatch.setattr(keeps, "_SHARE", 1.0)
    for rows in (0, 1 << 40):
        monkeypatch.setattr(keeps, "MANY_ROWS", rows)
        model = shops()
        grids = [model.pivot(each, values=value, keep=keep, where=where) for each in ("", "shop.shop", "town.land")]
        # Members without a value are shown too: all that are kept.
        grids.append(model.pivot("shop.shop", values=value, keep=keep, where=where, show_empty=True))
        found.append([(listed(grid), [note.text for note in grid.notes]) for grid in grids])
    assert found[0] == found[1]


#: Aggregates of every kind: of parts that merge, of all rows at once, zero or null without a value.
AGGREGATES = (*FORMULAS, "count(sale.n)", "min(sale.paid)", "max(sale.paid)", "max(shop.kind over sale)", "sole(sale.n)", "avg(sale.n weighted by shop.rent)",
              "count(distinct shop.town over sale)", "sum(sale.n / 4)", "stddev(sale.n)", "last(sale.n by sale.no)")  # fmt: skip
CHOICES = (
    "",
    "sale.n > 4",
    "sale.n = 11",
    "sale.paid",
    "shop.kind = 'a'",
    "town.land <> 'x'",
    "sale.n > 4 and shop.rent > 1",
    "sale.n < 0",
)
KEEPS = ("", "shop where count(sale)[where sale.n > 4] > 9 and sum(sale.n) > 100", "shop where sum(sale.n) > 100 or max(sale.n) = 11",
         "town where count(distinct sale.n) > 1 and count(distinct sale.n)[where sale.paid] = 1", "sale.no where sum(sale.n) > 20",
         "shop where sum(sale.n) >= avg(sale.n)[only town] * 20", "shop where not (sum(sale.n) > 150 and max(sale.n)[where sale.paid] > 10)",
         "shop.kind where count(sale) > 20",
    "item where coalesce(count(sale)[where shop.kind = 'b'], 0) < 30")  # fmt: skip


@pytest.fixture(scope="module", params=["duckdb", "postgresql"])
def shops_there(request: pytest.FixtureRequest) -> Iterator[relatum.Model]:
    """The shops, their tables sent to an engine."""
    with shops(engine_for(request)) as model:
        yield model


def near(value: Any) -> Any:
    return round(value, 9) if isinstance(value, float) else value


#: Every visit finds its shop; nobody visits 10 and 11.
VISITS = (
    ("count(shop)", "shop where max(visit.hours) > 99 or max(shop.rent) < 2", ""),
    ("count(shop)", "shop where plus(max(visit.hours), max(shop.rent)) < 9", ""),
    ("count(shop)", "shop where case when max(visit.hours) > 99 then false else true end", ""),
    ("count(shop)", "shop where coalesce(max(visit.hours), 5) > 4", ""),
    ("count(shop)", "top 3 shop by plus(max(visit.hours) / 100, max(shop.rent))", ""),
    ("count(shop)", "bottom 3 shop by max(visit.hours)[where visit.hours < 4] + max(shop.rent)", ""),
    (
        "sum(visit.hours)[keep shop where sum(visit.hours)[ignoring shop.kind] > 50, ignoring shop.kind]",
        "",
        "shop.kind = 'a'",
    ),
)


@pytest.mark.parametrize(("value", "keep", "where"), [*ODD, *VISITS])
def test_engines_keep_the_same_members(shops_there: relatum.Model, value: str, keep: str, where: str) -> None:
    for rows in ("", "shop.shop", "town.land"):
        here, there = (model.pivot(rows, values=value, keep=keep, where=where) for model in (shops(), shops_there))
        assert listed(here) == listed(there)
        assert sorted(note.text for note in here.notes) == sorted(note.text for note in there.notes)


@pytest.mark.parametrize("seed", range(12))
def test_values_under_different_conditions_share_a_pass_and_are_worth_the_same(
    shops_there: relatum.Model, seed: int
) -> None:
    chance = random.Random(seed)
    formulas = [
        chance.choice(AGGREGATES) + (f"[where {choice}]" if (choice := chance.choice(CHOICES)) else "")
        for _ in range(4)
    ]
    asked = {"rows": chance.choice(("", "shop.shop", "shop.town, shop.shop", "shop.kind", "sale.no, shop.town", "kin.kin")),
             "columns": chance.choice(("", "", "sale.paid")), "where": chance.choice(("", "sale.n > 1", "shop.rent > 1 and town.land = 'x'")),
             "values": {f"v{at}": each for at, each in enumerate(formulas)}, "keep": chance.choice(KEEPS)}  # fmt: skip
    found = []
    for model in (shops(), shops_there):
        grid = model.pivot(**{name: part for name, part in asked.items() if part})
        lines = [{name: near(value) for name, value in line.items()} for line in listed(grid)]
        found.append((lines, sorted(note.text for note in grid.notes)))
    assert found[0] == found[1]


@pytest.mark.parametrize("engine", ["memory", "duckdb"])
@pytest.mark.parametrize("formula", ["sum(sale.n)", "max(sale.n)", "sum(visit.hours)"])
def test_what_members_look_up_counts_once_for_each_of_them(engine: str, formula: str) -> None:
    """Shops of one town have the town's value each: it counts once for every shop, not for every town."""
    with shops(engine) as model:
        lines = model.pivot("town.town", values={"v": formula}, totals=False).to_arrow().to_pylist()
        by_town = {None if line["town.town:no_match"] else line["town.town"]: line["v"] for line in lines}
        lines = model.pivot("shop.shop, shop.town", values="count(shop)", totals=False).to_arrow().to_pylist()
        of_shop = {
            line["shop.shop"]: by_town[line["shop.town"] if line["shop.town"] in by_town else None] for line in lines
        }
        assert len(of_shop) == 12
        assert model.evaluate(f"count({formula}[only town] per shop)") == 12
        assert model.evaluate(f"sum({formula}[only town] per shop)") == sum(of_shop.values())
        best = max(of_shop.values())
        condition = " or ".join(f"shop.shop = {shop}" for shop, value in of_shop.items() if value == best)
        kept = f"sum(sale.n)[keep shop where {formula}[only town] >= {best}]"
        assert model.evaluate(kept) == model.evaluate("sum(sale.n)", where=condition)
