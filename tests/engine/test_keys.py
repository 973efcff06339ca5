"""Keys too far apart for a place each find their rows, and columns of one file are read side by side."""

from __future__ import annotations

import subprocess
import sys
from datetime import date, timedelta
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import relatum
from relatum.data import keys, vectors
from relatum.engine.memory import store
from relatum.errors import DataError, SourceError
from relatum.session import cache, reading

FAR = st.none() | st.sampled_from([-(2**61), -7, 0, 1, 2, 3, 40_000, 2**33, 2**61]) | st.integers(-(2**61), 2**61)
PAIR = st.tuples(FAR, st.none() | st.integers(-3, 3))


def far_apart(sales: list[tuple[int | None, int | None]], prices: list[tuple[int | None, int | None]]) -> relatum.Model:
    model = relatum.Model("far")
    lists = [("sales", sales), ("price", prices)]
    for name, rows in lists:
        columns = {"a": pa.array([a for a, _ in rows], pa.int64()), "b": pa.array([b for _, b in rows], pa.int64())}
        model.add_table(name, pa.table({**columns, "n": pa.array(range(1, len(rows) + 1), pa.int64())}))
    model.relate("sales.(a, b) -> price.(a, b)")
    return model


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(strangers=st.lists(PAIR, max_size=40), prices=st.lists(PAIR, min_size=1, max_size=60), data=st.data())
def test_keys_far_apart_find_the_row_that_has_them(
    strangers: list[tuple[int | None, int | None]],
    prices: list[tuple[int | None, int | None]],
    data: st.DataObject,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(keys, "TABLE_SLOTS", 0)
    monkeypatch.setattr(vectors, "_BLOCK", 3)
    sales = data.draw(st.permutations(strangers + prices))
    known = [pair for pair in prices if None not in pair]
    if len(set(known)) < len(known):
        with pytest.raises(DataError, match="not unique"):
            far_apart(sales, prices)
        return
    row = {pair: at for at, pair in enumerate(prices, 1) if None not in pair}
    found = [(at, row[pair]) for at, pair in enumerate(sales, 1) if pair in row]
    model = far_apart(sales, prices)
    assert model.evaluate("sum(sales.n * price.n)") == (sum(n * price for n, price in found) if found else None)
    assert (model.evaluate("count(price.n over sales)") or 0) == len(found)


def test_columns_of_a_file_are_read_side_by_side_and_a_damaged_one_harms_no_other(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(store, "_LARGE_ROWS", 1)
    rows = 400_000
    table = pa.table({name: pa.array(range(at, rows + at), pa.int64()) for at, name in enumerate("abcdef")})
    path = tmp_path / "t.parquet"
    pq.write_table(table, path, compression="none", use_dictionary=False, row_group_size=10_000)
    start = pq.read_metadata(path).row_group(0).column(5).data_page_offset
    content = path.read_bytes()
    path.write_bytes(content[:start] + b"\xff" * 64 + content[start + 64 :])
    total = sum(range(rows))
    for _ in range(15):  # what threads do to each other shows in some runs only
        model = relatum.Model("wide")
        model.add_table("t", path)
        assert model.evaluate("sum(t.a + t.b + t.c + t.d + t.e)") == 5 * total + 10 * rows
    with pytest.raises(SourceError, match="Column f cannot be read, the file is damaged"):
        model.evaluate("sum(t.a + t.f)")


NUMBERS = {
    pa.int8(): lambda at: at % 7 - 3,
    pa.int64(): lambda at: at**5 - 2**40,
    pa.uint32(): lambda at: 2**32 - 1 - at % 90,
    pa.uint64(): lambda at: 2**62 + at % 5,
    pa.float32(): lambda at: at % 40 / 4,
    pa.bool_(): lambda at: at % 3 == 0,
    pa.date32(): lambda at: date(2020, 1, 1) + timedelta(days=at % 200),
    pa.decimal128(9, 2): lambda at: Decimal(at * 37) / 100,
    pa.decimal128(30, 1): lambda at: Decimal(at % 50) / 10,
    pa.string(): lambda at: f"kind {at % 3}",
    pa.large_string(): lambda at: f"note {at:03}",
    pa.string_view(): lambda at: f"note {at // 2:03}",
}  # fmt: skip


@pytest.mark.parametrize("type_", NUMBERS, ids=str)
def test_a_column_in_many_groups_of_rows_holds_what_was_written(type_: pa.DataType, tmp_path: Path) -> None:
    values = [NUMBERS[type_](at) if at % 11 else None for at in range(900)]
    path = tmp_path / "t.parquet"
    pq.write_table(pa.table({"x": pa.array(values, type_), "at": pa.array(range(900))}), path, row_group_size=100)
    model = relatum.Model("groups")
    model.add_table("t", path)
    known = sorted(set(values) - {None})
    assert list(model.members("t.x")) == [*((each, values.count(each)) for each in known), (None, values.count(None))]
    grid = model.pivot("t.at", values="x: max(t.x)").to_arrow().to_pylist()
    assert [(line["t.at"], line["x"]) for line in grid] == [
        (at, each) for at, each in enumerate(values) if each is not None
    ]


FORKED = """
import os, sys, warnings, relatum
warnings.simplefilter("ignore")
def asked():
    model = relatum.Model("wide")
    model.add_table("t", sys.argv[1])
    return model.evaluate("sum(t.a + t.b)")
whole = asked()
child = os.fork()
if not child:
    os._exit(0 if asked() == whole else 1)
print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]))
"""


@pytest.mark.outside
def test_a_forked_process_reads_and_asks_with_threads_of_its_own(tmp_path: Path) -> None:
    rows = 400_000
    path = tmp_path / "t.parquet"
    pq.write_table(pa.table({name: pa.array(range(rows), pa.int64()) for name in "abc"}), path, compression="none")
    assert path.stat().st_size > 4 << 20, "digested in blocks"
    done = subprocess.run([sys.executable, "-c", FORKED, path], capture_output=True, text=True, timeout=60, check=True)
    assert done.stdout.strip() == "0"


def test_keys_of_a_join_that_the_cache_holds_are_not_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "WORTH_BYTES", 0)
    monkeypatch.setattr(cache, "_WORTH_ROWS", 0)
    monkeypatch.setattr(store, "_LARGE_ROWS", 0)
    pq.write_table(pa.table({"shop": [1, 2, 2, 9], "n": [1, 2, 3, 4]}), tmp_path / "sale.parquet")
    pq.write_table(pa.table({"shop": [1, 2], "town": ["a", "b"]}), tmp_path / "shop.parquet")
    made = relatum.Model("m")
    for name in ("sale", "shop"):
        made.add_table(name, tmp_path / f"{name}.parquet")
    made.relate("sale.shop -> shop.shop")
    made.save(tmp_path / "m.toml")
    for read in ({"shop", "n"}, {"n"}):
        model = relatum.open(tmp_path / "m.toml")
        grid = model.pivot("shop.town", values={"n": "sum(sale.n)"}, totals=False)
        assert [row["n"] for row in grid.to_arrow().to_pylist()] == [1, 5, 4]
        assert set(model.session.data["sale"].loaded()) == read
