"""Names that hold arrows, dots, quotes and line breaks: kept through saving, links and renaming, or refused."""

from __future__ import annotations

import csv
import random
import string
from pathlib import Path

import pytest

import hostile
import relatum
from relatum.model.links import parse_link
from relatum.model.names import quoted

PIECES = [
    "a",
    "->",
    "<-",
    ">-<",
    "<->",
    ".",
    '"',
    "'",
    "\n",
    "\r",
    "\t",
    " ",
    "(",
    ")",
    ",",
    "[",
    "]",
    "#",
    "=",
    "é",
    "庭",
    "over",
    "\\",
    "\x1b",
    "--",
    "/*",
]


def random_name(chance: random.Random) -> str:
    """A name of a few pieces, most of which mean something somewhere."""
    return "".join(chance.choice(PIECES) for _ in range(chance.randint(1, 6))) + chance.choice(string.ascii_lowercase)


def shop(folder: Path) -> relatum.Model:
    """Two tables with all that can be renamed."""
    (folder / "sales.csv").write_text("product,day,n\nP1,1,2\nP2,1,3\n")
    (folder / "product.csv").write_text("product,day,kind\nP1,1,fern\nP2,1,ivy\n")
    model = relatum.Model("m")
    model.add_table("sales", folder / "sales.csv")
    model.add_table("product", folder / "product.csv", key=["product", "day"])
    model.relate("sales.(product, day) -> product.(product, day)")
    model.derive("product", "long", "length(kind) > 3")
    model.measure("total", "sum(sales.n)")
    model.measure("twice", "2 * total[where product.kind = 'fern']")
    model.hierarchy("range", ["product.kind", "product.product"])
    model.keep_pivot("kinds", model.pivot("product.kind", values="total"))
    return model


@pytest.mark.outside
def test_random_names_survive_renaming_saving_and_opening(tmp_path: Path) -> None:
    things = [
        "sales.product",
        "sales.n",
        "product.kind",
        "product.day",
        "product.long",
        "total",
        "range",
        "sales",
        "product",
    ]
    kept = 0
    for seed in range(30):
        chance = random.Random(seed)
        model = shop(tmp_path)
        want = model.evaluate("twice"), model.evaluate("total")
        thing, new = chance.choice(things), random_name(chance)
        try:
            model.rename(thing, new)
        except relatum.RelatumError as error:
            assert "name" in str(error), (thing, new)
            continue
        kept += 1
        model.save(tmp_path / "m.toml")
        again = relatum.open(tmp_path / "m.toml")
        assert again.declaration == relatum.open(tmp_path / "m.toml").declaration
        twice = next(each for each in again.declaration.measures if each not in ("total", new))
        assert again.evaluate(twice) == want[0], (thing, new)
        assert again.check().ok, (thing, new)
        for each in again.declaration.relationships:
            many, one, kind = parse_link(str(each))
            assert (many, one, kind) == (each.many, each.one, each.kind)
        (tmp_path / "m.toml").unlink()
    assert kept > 15


@pytest.mark.parametrize("text", hostile.TEXTS)
def test_a_hostile_name_is_a_name_or_refused(tmp_path: Path, text: str) -> None:
    model = shop(tmp_path)
    for thing in ("product.kind", "total", "product"):
        try:
            model.rename(thing, text)
        except relatum.ModelError as error:
            assert "name" in str(error) and "\x1b" not in str(error)
            continue
        model.save(tmp_path / "m.toml")
        assert relatum.open(tmp_path / "m.toml").check().ok
        (tmp_path / "m.toml").unlink()


@pytest.mark.parametrize("text", [each for each in hostile.TEXTS if "\0" not in each])
def test_a_hostile_heading_can_be_related_grouped_by_saved_and_opened(tmp_path: Path, text: str) -> None:
    heading = text.strip()
    for name, rows in (("sales", [["P1", 2], ["P2", 3]]), ("product", [["P1", 5], ["P2", 7]])):
        with (tmp_path / f"{name}.csv").open("w", newline="") as file:
            csv.writer(file).writerows([[heading, "n"], *rows])
    model = relatum.Model("m")
    model.add_table("sales", tmp_path / "sales.csv")
    model.add_table("product", tmp_path / "product.csv", key=heading)
    column = quoted(heading)
    model.relate(f"sales.{column} -> product.{column}")
    model.measure("v", "sum(sales.n * product.n)", about=text)
    model.save(tmp_path / "m.toml")
    again = relatum.open(tmp_path / "m.toml")
    assert again.declaration.relationships == model.declaration.relationships
    assert again.pivot(f"product.{column}", values="v", totals=False).to_arrow()["v"].to_pylist() == [10, 21]
