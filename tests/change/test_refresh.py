"""Reading sources again, and the cache beside the model."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from relatum.data.arrow import python_values
from relatum.session import reading
from relatum.sources import fingerprint
from relatum.sources import read as place
from stall import run

MODEL = """relatum = 1
[table.sales]
source = "sales.csv"
[table.product]
source = "product.csv"
key = "product"
[table.visit]
source = "visits"
[[relationship]]
link = "sales.product -> product.product"
[measure.revenue]
formula = "sum(sales.quantity * product.price)"
[measure.visits]
formula = "sum(visit.n)"
"""


@pytest.fixture
def shop(tmp_path: Path) -> Path:
    """A model over a file that grows, a lookup, and a folder of files."""
    (tmp_path / "m.toml").write_text(MODEL)
    (tmp_path / "sales.csv").write_text("product,quantity,note\na,1,\nb,2,x\n")
    (tmp_path / "product.csv").write_text("product,kind,price\na,fruit,10\nb,tree,20\n")
    (tmp_path / "visits").mkdir()
    pq.write_table(pa.table({"n": [1, 2]}), tmp_path / "visits" / "2023.parquet")
    return tmp_path / "m.toml"


def append(folder: Path) -> None:
    with (folder / "sales.csv").open("a") as file:
        file.write("b,5,y\n")


def rewrite(name: str, old: str, new: str) -> Callable[[Path], None]:
    return lambda folder: (folder / name).write_text((folder / name).read_text().replace(old, new)) and None


NEWS: list[tuple[str, Callable[[Path], object], list[str]]] = [
    ("nothing", lambda folder: None, ["nothing has changed"]),
    ("touched", lambda folder: os.utime(folder / "sales.csv"), ["nothing has changed"]),
    ("grown", append, ["sales grown: 2 -> 3 rows (sales.csv grown)", "revenue: 50 -> 150"]),
    ("changed", rewrite("sales.csv", "a,1", "a,3"), ["sales changed: 2 -> 2 rows (sales.csv rewritten)", "revenue: 50 -> 70"]),
    ("shorter", rewrite("sales.csv", "a,1,\n", ""), ["sales changed: 2 -> 1 rows (sales.csv rewritten)", "revenue: 50 -> 40"]),
    ("new column", rewrite("product.csv", "kind,price\na,fruit,10\nb,tree,20", "kind,price,pot\na,fruit,10,1\nb,tree,20,2"), ["product changed: 2 -> 2 rows (product.csv rewritten)", "  new columns: pot"]),
    ("unused column gone", rewrite("sales.csv", ",note\na,1,\nb,2,x", "\na,1\nb,2"), ["sales changed: 2 -> 2 rows (sales.csv rewritten)", "  lost columns: note"]),
    ("other type", rewrite("product.csv", "10", "10.5"), ["product changed: 2 -> 2 rows (product.csv rewritten)", "  other types: price: integer -> float", "revenue: 50 -> 50.5"]),
    ("members", rewrite("product.csv", "tree,20\n", "bush,20\nc,fern,1\n"), ["product changed: 2 -> 3 rows (product.csv grown)" if False else "product changed: 2 -> 3 rows (product.csv rewritten)", "  new in product: c", "  new in kind: bush, fern", "  gone in kind: tree"]),
    ("new file", lambda folder: pq.write_table(pa.table({"n": [5]}), folder / "visits" / "2024.parquet"), ["visit grown: 2 -> 3 rows (2024.parquet new)", "visits: 3 -> 8"]),
    ("a neighbour", lambda folder: (folder / "extra.csv").write_text("a\n1\n"), ["nothing has changed"]),
    ("orphans", rewrite("sales.csv", "b,2", "q,2"), ["sales changed: 2 -> 2 rows (sales.csv rewritten)", "sales.product -> product.product: 0 -> 1 row finds nothing, for instance 'q'", "revenue: 50 -> 10"]),
]  # fmt: skip
BROKEN: list[tuple[str, Callable[[Path], object], list[str]]] = [
    ("column gone", rewrite("product.csv", "price", "cost"), ["breaks   measure revenue  (measure revenue <- column product.price)", "  new columns: cost", "  lost columns: price", "the previous state is kept"]),
    ("file gone", lambda folder: (folder / "product.csv").unlink(), ["no such file", "breaks   relationship sales.product -> product.product", "product vanished: 2 -> 0 rows"]),
    ("folder gone", lambda folder: shutil.rmtree(folder / "visits"), ["breaks   measure visits  (measure visits <- ", "visit vanished: 2 -> 0 rows"]),
    ("file damaged", lambda folder: (folder / "sales.csv").write_bytes(b"\0"), ["not a text file", "sales unreadable: 2 rows before", "the previous state is kept"]),
    ("one bad row", rewrite("sales.csv", "b,2,x", "b,2,x,1"), ["sales.csv:3: This row has 4 fields", "sales unreadable: 2 rows before"]),
    ("another type", rewrite("sales.csv", "b,2", "b,two"), ["sales.quantity was integer and is text now, for instance 'two'", 'type = "text"', "other types: quantity: integer -> text"]),
    ("shapes differ", lambda folder: pq.write_table(pa.table({"m": [5]}), folder / "visits" / "2024.parquet"), ["lacks n and also has m"]),
]  # fmt: skip


@pytest.mark.parametrize(("change", "said"), [each[1:] for each in NEWS], ids=[each[0] for each in NEWS])
def test_news(shop: Path, change: Callable[[Path], object], said: list[str]) -> None:
    live = relatum.open(shop)
    assert relatum.refresh(shop).first
    change(shop.parent)
    recorded, found = relatum.refresh(shop), live.refresh()
    assert str(recorded).splitlines() == said
    assert found == recorded, "a live model says the same as the record"
    fresh = relatum.open(shop)
    for name in ("revenue", "visits"):
        assert live.evaluate(name) == fresh.evaluate(name)
    assert live.session.data["sales"].rows == fresh.session.data["sales"].rows
    assert str(relatum.refresh(shop)).splitlines()[-1] == "nothing has changed"
    assert not live.refresh().changed


@pytest.mark.parametrize(("change", "said"), [each[1:] for each in BROKEN], ids=[each[0] for each in BROKEN])
def test_what_breaks_leaves_the_former_state(shop: Path, change: Callable[[Path], object], said: list[str]) -> None:
    live = relatum.open(shop)
    relatum.refresh(shop)
    before = live.evaluate("revenue"), live.evaluate("visits")
    kept = {path: path.read_bytes() for path in shop.parent.rglob("*") if path.is_file() and path.suffix != ".json"}
    change(shop.parent)
    for found in (live.refresh(), relatum.refresh(shop)):
        assert not found.ok
        for line in said:
            assert line in str(found)
        assert "vanished" in str(found) or "lost columns" in str(found) or not found.broken, (
            "nothing is lost that can be mended"
        )
    assert (live.evaluate("revenue"), live.evaluate("visits")) == before, "the old state stays usable"
    for path, content in kept.items():
        if ".relatum" not in path.parts:
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(content)
    for path in shop.parent.rglob("2024.parquet"):
        path.unlink()
    assert str(relatum.refresh(shop)) == "nothing has changed", "and can be come back to"


@pytest.mark.parametrize("worth", [1, 10**9])
def test_rows_of_two_times_are_never_mixed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, worth: int) -> None:
    monkeypatch.setattr(reading, "WORTH_BYTES", worth)
    pq.write_table(pa.table({"a": [1, 2, 3], "b": [1, 2, 3]}), tmp_path / "t.parquet")
    (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "t.parquet"\n')
    model = relatum.open(tmp_path / "m.toml")
    assert model.evaluate("sum(t.a)") == 6
    pq.write_table(pa.table({"a": [10, 20, 30, 40], "b": [10, 20, 30, 40]}), tmp_path / "t.parquet")
    with pytest.raises(relatum.SourceError, match="has changed since the model was opened"):
        model.evaluate("sum(t.a * t.b)")
    assert model.evaluate("sum(t.a)") == 6, "what is at hand stays"
    assert model.refresh().ok
    assert model.evaluate("sum(t.a * t.b)") == 3000


def test_a_frame_is_not_read_again() -> None:
    model = relatum.Model()
    frame = pa.table({"n": [1, 2]})
    model.add_table("t", pa.RecordBatchReader.from_batches(frame.schema, frame.to_batches()))
    found = model.refresh()
    assert found.ok
    assert not found.changed
    assert model.evaluate("sum(t.n)") == 3


def test_a_lookup_that_nobody_asked_for_can_change(tmp_path: Path) -> None:
    pq.write_table(pa.table({"k": ["a"], "v": [1]}), tmp_path / "t.parquet")
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.t]\nsource = "t.parquet"\n[measure.total]\nformula = "sum(t.v)"\n'
    )
    model = relatum.open(tmp_path / "m.toml")
    pq.write_table(pa.table({"k": ["a", "b"], "v": [1, 2]}), tmp_path / "t.parquet")
    found = model.refresh()
    assert [(each.before, each.after) for each in found.values] == [(None, "3")]
    assert model.evaluate("total") == 3


TAILS = ["a,3,z\n", "b,,\n", "c,9,\n", "a,2.5,\n", "a,007,q\n", "a,x,\n", "a,-4,z\nb,5,y\n", '"a, b",1,"two\nlines"\n']


@pytest.mark.parametrize("tail", TAILS)
@pytest.mark.parametrize("head", ["a,1,\nb,2,x\n", "a,,\nb,,\n", "a,1,2024-01-01\n", "a,0.5,t\n"])
def test_grown_lines_read_alone_give_what_the_whole_file_gives(
    shop: Path, monkeypatch: pytest.MonkeyPatch, head: str, tail: str
) -> None:
    path = shop.parent / "sales.csv"
    path.write_text("product,quantity,note\n" + head)
    live = relatum.Model()
    live.add_table("sales", path)
    path.write_text("product,quantity,note\n" + head + tail)
    found = live.refresh()
    fresh = relatum.Model()
    fresh.add_table("sales", path)
    mine, theirs = live.session.data["sales"], fresh.session.data["sales"]
    if not found.ok:
        # A column became something else: that is reported, and the rows stay unchanged.
        retyped = [name for name in mine.types if mine.types[name] != theirs.types[name]]
        assert all(
            f"sales.{name} was {mine.types[name]} and is {theirs.types[name]} now" in str(found) for name in retyped
        )
        assert mine.rows == len(head.splitlines()) and retyped
        return
    assert mine.types == theirs.types
    assert mine.rows == theirs.rows
    assert {name: python_values(mine.column(name)) for name in mine.types} == {
        name: python_values(theirs.column(name)) for name in theirs.types
    }


def test_only_the_new_lines_are_read(shop: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    live = relatum.open(shop)
    live.evaluate("revenue")

    def refuse(*_: object) -> None:
        raise AssertionError("the whole file was read again")

    monkeypatch.setitem(place.FORMATS, ".csv", place.FileFormat(refuse, tail=place.FORMATS[".csv"].tail))
    monkeypatch.setattr(reading, "read_source", refuse)
    append(shop.parent)
    assert live.refresh().ok
    assert live.evaluate("revenue") == 150


@pytest.fixture
def cached(shop: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The shop, with a cache for files of any size."""
    monkeypatch.setattr(reading, "WORTH_BYTES", 1)
    return shop


def arrows(model: Path) -> list[Path]:
    return sorted((model.parent / ".relatum").glob("*.kept"))


def test_the_cache_answers_without_the_source_being_read(cached: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    expected = relatum.open(cached).pivot(rows="product.kind", values=["revenue"]).to_arrow()
    assert arrows(cached)
    monkeypatch.setattr(reading, "read_source", lambda *_: pytest.fail("read again"))
    assert relatum.open(cached).pivot(rows="product.kind", values=["revenue"]).to_arrow() == expected
    with pytest.raises(pytest.fail.Exception):
        relatum.open(cached, cache=False)


@pytest.mark.parametrize("harm", ["deleted", "emptied", "cut", "half deleted"])
def test_a_cache_can_be_harmed_at_any_time(cached: Path, harm: str) -> None:
    expected = relatum.open(cached).evaluate("revenue")
    model = relatum.open(cached)
    if harm == "deleted":
        shutil.rmtree(cached.parent / ".relatum")
    for number, path in enumerate(arrows(cached)):
        if harm == "half deleted" and number % 2:
            path.unlink()
        elif harm == "emptied":
            path.unlink()
            path.write_bytes(b"")
        elif harm == "cut":
            content = path.read_bytes()
            path.unlink()
            path.write_bytes(content[: len(content) // 2])
    assert model.evaluate("revenue") == expected
    assert relatum.open(cached).evaluate("revenue") == expected


def test_a_changed_file_is_never_answered_from_the_old_cache(cached: Path) -> None:
    chance = random.Random(3)
    for _ in range(12):
        lines = [
            f"{chance.choice('ab')},{chance.randrange(9)},{chance.choice(['', 'x'])}"
            for _ in range(chance.randrange(1, 6))
        ]
        same_size = "product,quantity,note\n" + "\n".join(lines) + "\n"
        if chance.random() < 0.5:
            (cached.parent / "sales.csv").write_text(same_size)
        else:
            append(cached.parent)
        assert relatum.open(cached).evaluate("revenue") == relatum.open(cached, cache=False).evaluate("revenue")


def test_what_nobody_used_for_a_month_is_taken_out(cached: Path) -> None:
    expected = relatum.open(cached).evaluate("revenue")
    (cached.parent / ".relatum" / ".new-killed").write_text("half")
    for path in (*arrows(cached), cached.parent / ".relatum" / ".new-killed"):
        os.utime(path, (0, 0))
    kept = len(arrows(cached))
    assert kept
    relatum.refresh(cached)
    assert not (cached.parent / ".relatum" / ".new-killed").exists()
    assert relatum.open(cached).evaluate("revenue") == expected


@pytest.mark.outside
def test_two_processes_at_once(cached: Path) -> None:
    code = (
        "import sys, relatum; from relatum.session import reading; reading.WORTH_BYTES = 1\n"
        f"print(relatum.open({str(cached)!r}).evaluate('revenue'))"
    )
    running = [
        subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        for _ in range(4)
    ]
    for process in running:
        out, err = process.communicate()
        assert (out, err) == ("50\n", "")
    assert not list((cached.parent / ".relatum").glob(".new-*")), "nothing half-written is left"


def test_a_folder_that_cannot_be_written_has_no_cache(
    cached: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    (cached.parent / ".relatum").write_text("in the way")
    assert relatum.open(cached).evaluate("revenue") == 50
    assert "cannot be written" in caplog.text


def test_small_sources_leave_no_cache(shop: Path) -> None:
    assert relatum.open(shop).evaluate("revenue") == 50
    assert not (shop.parent / ".relatum").exists()


def test_in_the_shell(shop: Path) -> None:
    assert "first refresh: 3 tables recorded" in run("refresh", shop).stdout
    append(shop.parent)
    result = run("refresh", shop)
    assert result.exit_code == 0
    assert [line.split() for line in result.stdout.splitlines()][-1] == ["revenue", "50", "150"]
    document = json.loads(run("refresh", shop, "--format", "json").stdout)
    assert {each["what"] for each in document["tables"]} == {"same"}
    (shop.parent / "product.csv").unlink()
    assert run("refresh", shop).exit_code == 1
    assert run("refresh", shop.parent / "none.toml").exit_code == 2


@pytest.mark.parametrize("worth", [1, 10**9])
def test_a_file_that_was_only_touched_is_read_on(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, worth: int) -> None:
    monkeypatch.setattr(reading, "WORTH_BYTES", worth)
    pq.write_table(pa.table({"a": [1, 2, 3], "b": [1, 2, 4], "c": [1, 1, 1]}), tmp_path / "t.parquet")
    (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "t.parquet"\n')
    live = relatum.open(tmp_path / "m.toml")
    assert live.evaluate("sum(t.a)") == 6
    os.utime(tmp_path / "t.parquet", (1_000_000_000, 1_000_000_000))
    assert live.refresh().ok
    assert live.evaluate("sum(t.b)") == 7
    os.utime(tmp_path / "t.parquet", (1_100_000_000, 1_100_000_000))
    assert live.refresh().ok and live.refresh().ok
    assert live.evaluate("sum(t.c)") == 3


@pytest.mark.parametrize(("verify", "whole"), [(False, 0), (True, 1)])
def test_without_a_cache_a_large_file_of_columns_is_told_by_its_entry(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, verify: bool, whole: int
) -> None:
    monkeypatch.setattr(fingerprint, "_SMALL", 100)
    monkeypatch.setattr(fingerprint, "_TOO_NEW", -1)
    read, digest_of = [], fingerprint.digest_of
    monkeypatch.setattr(fingerprint, "digest_of", lambda path: read.append(path.name) or digest_of(path))
    numbers = list(range(5_000))
    pq.write_table(pa.table({"a": numbers, "b": numbers}), tmp_path / "t.parquet")
    (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "t.parquet"\n')
    live = relatum.open(tmp_path / "m.toml", cache=False, verify=verify)
    assert live.evaluate("sum(t.a)") == sum(numbers)
    os.utime(tmp_path / "t.parquet", (1_000_000_000, 1_000_000_000))
    assert live.refresh().ok and live.evaluate("sum(t.b)") == sum(numbers)
    pq.write_table(pa.table({"a": numbers[::-1], "b": [*numbers[1:], 7]}), tmp_path / "t.parquet")
    os.utime(tmp_path / "t.parquet", (1_000_000_000, 1_000_000_000))
    assert live.refresh().ok and live.evaluate("sum(t.b)") == sum(numbers) + 7
    assert read == ["t.parquet"] * 3 * whole
