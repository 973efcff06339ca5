"""The audit of random data, compared with counts made row by row."""

from __future__ import annotations

import contextlib
import random
from collections import Counter
from typing import Any

import pyarrow as pa
import pytest

import relatum
from agreement import build
from oracle import Star
from oracle_rows import Link
from stars import random_case

Row = dict[str, Any]


def keys(rows: list[Row], columns: tuple[str, ...]) -> list[tuple[Any, ...]]:
    return [tuple(row[column] for column in columns) for row in rows]


def expected(star: Any, link: Link) -> dict[str, int]:
    """How many rows find nothing, have no key, are never pointed to, or come before the first row with their key."""
    many, one = keys(star.tables[link.many], link.many_columns), keys(star.tables[link.one], link.one_columns)
    known = [key for key in many if None not in key]
    counts = {"null": len(many) - len(known)}
    if link.as_of:
        starts: dict[Any, list[Any]] = {}
        for *exact, start in one:
            starts.setdefault(tuple(exact), []).append(start)
        counts["early"] = sum(tuple(key[:-1]) in starts and min(starts[tuple(key[:-1])]) > key[-1] for key in known)
        counts["lost"] = sum(tuple(key[:-1]) not in starts for key in known)
    else:
        there = set(one)
        counts["lost"] = sum(key not in there for key in known)
    return counts


def opened(seed: int) -> tuple[Star, relatum.Model]:
    """A random star without formulas as a model; of those with two routes between tables, which are refused, the next."""
    for number in range(seed, seed + 20_000, 1_000):
        star = random_case(random.Random(number), plain=True).star
        star.measures.clear()
        star.derived.clear()
        with contextlib.suppress(relatum.ModelError):
            return star, build(star)
    raise AssertionError("every star is refused")


@pytest.mark.parametrize("seed", range(40))
def test_counts_are_those_of_the_rows(seed: int) -> None:
    star, model = opened(seed)
    report = model.check()
    for link, related in zip(star.links, model.declaration.relationships, strict=True):
        if link.kind != "many_to_one":
            continue
        found = [each for each in report.findings if each.subject == str(related)]
        wanted = expected(star, link)
        said = {
            "null": sum(each.rows for each in found if "no key" in each.text),
            "early": sum(each.rows for each in found if "dated before the first row" in each.text),
            "lost": sum(each.rows for each in found if "no match in" in each.text or "dated outside" in each.text),
        }
        assert {name: said[name] for name in wanted} == wanted, (str(related), report)


@pytest.mark.parametrize("seed", range(40, 60))
def test_the_money_behind_rows_is_that_of_the_rows(seed: int) -> None:
    star = random_case(random.Random(seed), plain=True).star
    star.measures.clear()
    star.derived.clear()
    model = build(star)
    model.measure("pieces", "sum(sales.quantity)")
    for link, related in zip(star.links, model.declaration.relationships, strict=True):
        if link.many != "sales" or link.standby or link.as_of:
            continue
        there = set(keys(star.tables[link.one], link.one_columns))
        worth = [
            row["quantity"]
            for row, key in zip(star.tables["sales"], keys(star.tables["sales"], link.many_columns), strict=True)
            if None not in key and key not in there and row["quantity"] is not None
        ]
        values = [
            each.value
            for each in model.check("pieces").findings
            if each.subject == str(related) and each.severity == "problem"
        ]
        total = model.evaluate("pieces")
        assert values == ([sum(worth)] if worth and total is not None else [None] * len(values)) or (
            not worth and not any(values)
        )


@pytest.mark.parametrize("seed", range(60, 85))
def test_members_that_differ_by_what_nobody_sees(seed: int) -> None:
    chance = random.Random(seed)
    texts = [chance.choice(["Fern", "fern", " fern", "Ivy", "ivy ", "Oak", "oak  tree", "Oak tree"]) for _ in range(30)]
    model = relatum.Model()
    model.add_table("sales", pa.table({"n": list(range(30))}))
    model.add_table("plant", pa.table({"n": list(range(30)), "name": texts}), key="n")
    model.relate("sales.n -> plant.n")
    groups = Counter(" ".join(text.split()).lower() for text in set(texts))
    several = {name for name, count in groups.items() if count > 1}
    (finding,) = [each for each in model.check().findings if each.subject == "plant.name"] or [None]
    if not several:
        assert finding is None
        return
    assert finding is not None
    assert finding.text.startswith(f"has {len(several)} member")
    assert finding.rows == sum(" ".join(text.split()).lower() in several for text in texts)
