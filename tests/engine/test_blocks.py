"""Compiled loops and NumPy answer alike, to the bit: on random stars, and on tables of many blocks."""

from __future__ import annotations

import random
import sys
import time
from collections.abc import Callable, Iterator
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import relatum
from agreement import Refused, build, pivoted, refusing
from relatum.engine import store as engine_store
from relatum.engine.memory import scan, zones
from relatum.engine.memory.blocks import ready
from relatum.runtime import threads
from relatum.runtime.progress import noting_scans
from stars import random_case

# The loops are compiled once on a machine: not by several processes at the same time.
pytestmark = pytest.mark.xdist_group("blocks")
SLOW = [HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
NEVER = sys.maxsize
ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module", autouse=True)
def loops() -> Iterator[None]:
    with pytest.MonkeyPatch.context() as patch:
        # Beside the code, so that a second run need not compile them again, whatever the person's own folder is.
        patch.setattr(ready, "person_cache", lambda: ROOT / "build" / "cache")
        ready.prepare().join()
    assert not isinstance(ready.loops_for(sys.maxsize - 1), ready.WhyNot), "the extra `fast` is part of `dev`"
    yield
    ready.begin_at(ready.LARGE_ROWS)


def both_ways(model: relatum.Model, **asked: Any) -> tuple[list[Any], list[str]]:
    """What a request gives with NumPy and with compiled loops, its notes included, and how tables were scanned."""
    answers = []
    for at in (NEVER, 1):
        ready.begin_at(at)
        with noting_scans() as ways:
            grid = model.pivot(**asked)
        answers.append((grid.to_arrow(totals=True).to_pylist(), [note.text for note in grid.notes]))
    return answers, list(ways)


@pytest.mark.parametrize("plain", [True, False])
def test_random_cases_are_worth_the_same(plain: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    compiled = scanned = 0
    monkeypatch.setattr(scan, "CHUNK_ROWS", 5)
    monkeypatch.setattr(zones, "ZONE_ROWS", 2)

    @settings(max_examples=30, deadline=None, suppress_health_check=SLOW)
    @given(st.integers(0, 2**60))
    def compare(seed: int) -> None:
        nonlocal compiled, scanned
        case = random_case(random.Random(seed), plain)
        found = []
        for at in (NEVER, 1):
            ready.begin_at(at)
            try:
                with refusing(), noting_scans() as ways:
                    grid = pivoted(build(case.star), case)
            except Refused:
                return
            found.append((grid.to_arrow(totals=True).to_pylist(), [note.text for note in grid.notes]))
        assert repr(found[0]) == repr(found[1]), case
        scanned += len(ways)
        compiled += sum("compiled" in way for way in ways)

    compare()
    assert compiled > scanned / 4, f"{compiled} of {scanned} scans were compiled"


ROWS = 75_000


@pytest.fixture(scope="module")
def many() -> relatum.Model:
    """A table of many blocks: numbers of every width, nulls, texts, dates in order, and keys that find nothing."""
    chance = np.random.default_rng(7)

    def some(values: Any, type_: pa.DataType, share: float = 0.1) -> pa.Array:
        return pa.array(values, type_, mask=chance.random(ROWS) < share)

    shop = pa.table(
        {
            "shop": pa.array(range(400)),
            "town": [f"town {number % 23}" if number % 9 else None for number in range(400)],
            "pace": [None if number % 11 == 0 else number / 7 for number in range(400)],
            "rent": pa.array([None if number % 7 == 0 else Decimal(number) / 4 for number in range(400)], pa.decimal128(9, 2)),
        }
    )  # fmt: skip
    sale = pa.table(
        {
            "shop": some(chance.integers(0, 420, ROWS), pa.int64(), 0.02),
            "order": np.sort(chance.integers(0, ROWS // 3, ROWS)),
            "day": [date(2020, 1, 1) + timedelta(days=at // 60) for at in range(ROWS)],
            "tiny": some(chance.integers(-100, 100, ROWS), pa.int64()),
            "small": chance.integers(0, 30_000, ROWS),
            "large": some(chance.integers(-(2**40), 2**40, ROWS), pa.int64()),
            "money": pa.array([Decimal(int(each)) / 100 for each in chance.integers(-5000, 99999, ROWS)], pa.decimal128(9, 2)),
            "speed": some(chance.random(ROWS), pa.float64()),
            "gust": np.where(chance.random(ROWS) < 0.01, 1e307, 1.0) * chance.random(ROWS),
            "paid": some(chance.random(ROWS) < 0.5, pa.bool_()),
            "kind": pa.array([("ash", "elm", "fir", None)[at] for at in chance.integers(0, 4, ROWS)]),
        }
    )  # fmt: skip
    model = relatum.Model("many")
    model.add_table("shop", shop, key="shop")
    model.add_table("sale", sale)
    model.relate("sale.shop -> shop.shop")
    return model


FIELDS = ("sale.kind", "shop.town", "sale.paid", "shop.shop", "sale.order", "sale.tiny")
VALUES = (
    "sum(sale.tiny)",
    "sum(sale.small * sale.tiny)",
    "sum(sale.large - sale.tiny * 3)",
    "sum(sale.money * shop.rent)",
    "sum(shop.rent)",
    "sum(sale.money + sale.small)",
    "avg(sale.money)",
    "count(sale)",
    "count(sale.tiny)",
    "count(shop.rent)",
    "count(distinct sale.tiny)",
    "count(distinct shop.town)",
    "min(sale.large)",
    "max(sale.kind)",
    "min(shop.town)",
    "max(sale.paid)",
    "max(sale.money - shop.rent)",
    "sole(sale.kind)",
    "sum(sale.speed)",
    "avg(sale.speed * sale.money)",
    "sum(sale.tiny - shop.pace * sale.speed)",
    "sum(sale.small * (1 - sale.speed / 4))",
    "avg(sale.gust)",
    "sum(sale.gust * sale.gust)",
    "count(sale.gust * sale.gust)",
    "max(sale.speed)",
    "median(sale.tiny)",
)
CONDITIONS = (
    "sale.tiny between -20 and 55",
    "sale.tiny = 3",
    "sale.small < 11000.5",
    "sale.money >= 12.345",
    "sale.day >= date '2021-03-01'",
    "sale.kind = 'elm'",
    "sale.kind in ('ash', 'fir')",
    "shop.town <> 'town 5'",
    "shop.town in ('town 1', 'town 12', 'town 4')",
    "shop.town like '%1%'",
    "shop.rent > 40",
    "sale.small > sale.large over sale",
    "sale.speed < 0.3",
    "sale.tiny is null",
)


@settings(max_examples=60, deadline=None, suppress_health_check=SLOW)
@given(
    st.lists(st.sampled_from(FIELDS), max_size=2, unique=True),
    st.lists(st.sampled_from(VALUES), min_size=1, max_size=4, unique=True),
    st.lists(st.sampled_from(CONDITIONS), max_size=3, unique=True),
    st.sampled_from(["", "shop where sum(sale.tiny) > 0", "sale.order where count(sale) > 3"]),
    st.sampled_from([scan.CHUNK_ROWS, 7000]),
)
def test_tables_of_many_blocks_are_worth_the_same(
    many: relatum.Model, fields: list[str], values: list[str], conditions: list[str], keep: str, stretch: int
) -> None:
    named = {f"v{number}": formula for number, formula in enumerate(values)}
    asked: dict[str, Any] = {"rows": fields, "values": named, "where": " and ".join(conditions)}
    if keep:
        asked["keep"] = keep
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(scan, "CHUNK_ROWS", stretch)
        answers, _ = both_ways(many, **asked)
    assert repr(answers[0]) == repr(answers[1])


#: Requests, and how their table is scanned.
WAYS = (
    ({"values": "sum(sale.small * sale.tiny)", "where": "sale.tiny > 5"}, "by compiled loops"),
    ({"rows": "shop.town", "values": "count(distinct sale.tiny)"}, "by compiled loops"),
    ({"rows": "shop.town", "values": "sum(sale.speed * sale.money / 100)"}, "by compiled loops"),
    ({"values": "sum(sale.speed)"}, "floats of one group"),
    ({"rows": "shop.town", "values": "sum(sale.gust * sale.gust)"}, "not finite"),
    ({"rows": "shop.town", "values": "count(sale.gust * sale.gust)"}, "counted by NumPy"),
    ({"rows": "shop.town", "values": "max(sale.speed)"}, "greatest float"),
    ({"rows": "shop.town", "values": "sum(sale.speed / sale.tiny)"}, "more than numbers added"),
    ({"values": "median(sale.tiny)"}, "all rows of a group"),
    ({"rows": "sale.order, sale.tiny", "values": "sum(sale.large)"}, "too many groups"),
    ({"values": "sum(sale.large * 1000)"}, "64 bits"),
)


def test_a_formula_says_how_its_tables_are_scanned(many: relatum.Model) -> None:
    ready.begin_at(1)
    assert many.formula("sum(sale.small) + count(shop)").scans() == (
        f"sale: {ROWS:,} rows by compiled loops",
        "shop: 400 rows by compiled loops",
    )
    (line,) = many.formula("median(sale.tiny)").scans()
    assert "with NumPy" in line and "all rows of a group" in line


@pytest.mark.parametrize(("asked", "way"), WAYS)
def test_it_is_said_how_a_table_is_scanned(many: relatum.Model, asked: dict[str, Any], way: str) -> None:
    answers, ways = both_ways(many, **asked)
    assert repr(answers[0]) == repr(answers[1])
    assert way in " ".join(ways)


@pytest.mark.parametrize(
    ("values", "where"),
    [
        (["sum(sale.speed)"], ""),
        (["sum(sale.speed)"], "sale.small < 20000"),
        (["sum(sale.speed)", "max(sale.speed)"], "shop.shop = 5"),
        (["avg(sale.speed * shop.pace)", "median(sale.tiny)"], "sale.tiny = 3"),
    ],
)
def test_floats_are_added_stretch_by_stretch_however_few_rows_pass(
    many: relatum.Model, values: list[str], where: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(scan, "CHUNK_ROWS", 300)  # fewer than there are shops
    answers, _ = both_ways(many, rows="shop.shop", values=values, where=where)
    assert repr(answers[0]) == repr(answers[1])


def test_a_stretch_is_added_up_row_after_row_and_the_stretches_one_after_another(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(scan, "CHUNK_ROWS", 300)
    chance = np.random.default_rng(3)
    shops, speeds = chance.integers(0, 400, 9000), chance.normal(size=9000) * 10.0 ** chance.integers(-9, 9, 9000)
    expected: dict[int, float] = {}
    for start in range(0, len(shops), 300):
        stretch: dict[int, float] = {}
        for shop, speed in zip(shops[start : start + 300].tolist(), speeds[start : start + 300].tolist(), strict=True):
            stretch[shop] = stretch.get(shop, 0.0) + speed
        for shop, total in stretch.items():
            expected[shop] = expected.get(shop, 0.0) + total
    model = relatum.Model()
    model.add_table("sale", pa.table({"shop": shops, "speed": speeds}))
    answers, _ = both_ways(model, rows="sale.shop", values={"total": "sum(sale.speed)"}, totals=False)
    for rows, _ in answers:
        assert {row["sale.shop"]: row["total"] for row in rows} == expected


EXTREMES = {
    "x": [-(2**63), -1, 0, 2**63 - 1, None],
    "zero": pa.array([Decimal(0)] * 5, pa.decimal128(30, 18)),
    "n": [1, 2, 4, 8, 16],
}


@pytest.mark.parametrize(
    ("formula", "where", "expected"),
    [
        ("sum(t.n)", "t.x >= -9223372036854775807 and t.x <= 9223372036854775806", 6),
        ("sum(t.n)", "t.x < 9223372036854775807", 7),
        ("sum(t.n)", "t.x > -9223372036854775807", 14),
        ("min(t.x)", "", -(2**63)),
        ("max(t.x)", "", 2**63 - 1),
        ("sum(t.zero + t.n * 0)", "", Decimal(0)),
        ("sum(t.x / 2)", "t.n < 4", -(2.0**62) - 0.5),
    ],
)
def test_the_largest_numbers_are_worth_the_same(formula: str, where: str, expected: Any) -> None:
    model = relatum.Model()
    model.add_table("t", pa.table(EXTREMES))
    for at in (NEVER, 1):
        ready.begin_at(at)
        assert model.evaluate(formula, where=where) == expected


@pytest.mark.parametrize("cores", [1, 2, 3, 5])
def test_the_answer_does_not_depend_on_how_many_threads_there_are(
    many: relatum.Model, cores: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(scan, "cores", lambda: cores)
    monkeypatch.setattr(threads, "cores", lambda: cores)
    monkeypatch.setattr(scan, "CHUNK_ROWS", 5000)
    values = {"a": "sum(sale.large)", "b": "sum(sale.speed)", "c": "max(sale.small)", "d": "count(distinct sale.kind)"}
    answers, _ = both_ways(many, rows="shop.town", values=values)
    assert repr(answers[0]) == repr(answers[1])


def test_a_scan_in_blocks_ends_when_a_limit_is_passed(many: relatum.Model, monkeypatch: pytest.MonkeyPatch) -> None:
    class Slow(scan.Worker):
        def take_in(self, start: int, stop: int, *, free: bool) -> None:
            self.kept.append(np.ones(1 << 20))
            time.sleep(0.05)

    many.pivot(values="sum(sale.large)")  # what is read once is in memory
    monkeypatch.setattr(scan, "Worker", Slow)
    monkeypatch.setattr(scan, "CHUNK_ROWS", 1000)
    ready.begin_at(1)
    start = time.monotonic()
    with relatum.limited(memory=1), pytest.raises(relatum.LimitError, match="more memory than allowed"):
        many.pivot(values="sum(sale.large)")
    assert time.monotonic() - start < 1, "75 stretches of 0.05 s were not waited for"


def shared(folder: Path) -> None:
    folder.mkdir(mode=0o777)
    folder.chmod(0o777)


def linked(folder: Path) -> None:
    (folder.parent / "elsewhere").mkdir()
    folder.symlink_to(folder.parent / "elsewhere")


@pytest.mark.parametrize("made", [shared, linked])
def test_loops_are_not_taken_from_where_somebody_else_may_put_them(
    made: Callable[[Path], None], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(ready, "person_cache", lambda: tmp_path)
    monkeypatch.setattr(ready, "_now", ready._Readiness())
    made(ready._folder_named())
    ready.prepare().join()
    found = ready.loops_for(ready.LARGE_ROWS)
    assert isinstance(found, ready.WhyNot) and "somebody else may write" in found.reason


def test_without_the_extra_numpy_answers(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ready, "_now", ready._Readiness())
    monkeypatch.setattr(ready.importlib.util, "find_spec", lambda name: None)
    assert "too few rows" in ready.loops_for(ready.LARGE_ROWS).reason
    for _ in range(20):
        ready.loops_for(ready.LARGE_ROWS)  # it is worth it now
    ready.prepare().join()
    assert "`fast` is not installed" in ready.loops_for(ready.LARGE_ROWS).reason
    assert "fewer than" in ready.loops_for(ready.LARGE_ROWS - 1).reason


def test_what_was_judged_lately_takes_no_more_room_than_it_may(monkeypatch: pytest.MonkeyPatch) -> None:
    model = relatum.Model()
    model.add_table("shop", pa.table({"shop": list(range(500))}), key="shop")
    model.add_table("sale", pa.table({"shop": [at % 500 for at in range(2000)]}))
    model.relate("sale.shop -> shop.shop")
    monkeypatch.setattr(engine_store, "_LATELY_BYTES", 2_000)
    for _ in range(2):
        for number in range(20):
            assert model.evaluate("count(sale)", where=f"shop.shop < {number + 1}") == 4 * (number + 1)
    work = model.session.store.work
    assert sum(entry[1].nbytes for key, entry in work.entries.items() if key[0] == "truth") <= 2_000  # type: ignore


def test_groups_that_go_on_from_one_stretch_to_the_next_are_put_together(
    many: relatum.Model, monkeypatch: pytest.MonkeyPatch
) -> None:
    ready.begin_at(NEVER)
    values = {"n": "count(sale)", "s": "sum(sale.large)", "d": "count(distinct sale.kind)", "m": "max(sale.small)",
              "f": "min(sale.speed)"}  # fmt: skip
    whole = many.pivot(rows="sale.order", values=values).to_arrow()
    monkeypatch.setattr(scan, "CHUNK_ROWS", 20_000)  # an order's lines lie on both sides of an edge
    assert many.pivot(rows="sale.order", values=values).to_arrow().equals(whole)
