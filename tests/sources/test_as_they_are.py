"""Files read as they are, and the outputs made from them."""

from __future__ import annotations

import json
import re
import signal
import stat
import subprocess
import sys
import tempfile
import time
import uuid
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb
import psutil
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from matplotlib.text import Text

import relatum
from postgres import Server
from processes import started
from relatum.present.report.page import markdown_html
from relatum.runtime.paths import is_named_by
from relatum.session import reading
from stall import run
from test_bounds import limited_model

# -- files as they are ------------------------------------------------------------------------------------------------


def parquet(path: Path, **columns: list[Any]) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    pq.write_table(pa.table(columns), path)
    return path


def total_of(model: Path, formula: str = "sum(t.q)") -> list[Any]:
    """What a formula is worth, in memory and on DuckDB; an error by its first words."""
    found = []
    for engine in ("memory", "duckdb"):
        try:
            with relatum.open(model, engine=engine) as opened:
                found.append(opened.evaluate(formula))
        except relatum.RelatumError as error:
            found.append(type(error).__name__)
    return found


def test_an_engine_reads_the_files_that_are_named_and_their_columns(tmp_path: Path) -> None:
    parquet(tmp_path / "q=100" / "s.parquet", q=[1, 2])
    parquet(tmp_path / "q=100" / "s[1].parquet", q=[30])
    parquet(tmp_path / "q=100" / "s1.parquet", q=[5])
    parquet(tmp_path / "odd" / "a?b.parquet", q=[8])
    parquet(tmp_path / "odd" / "axb.parquet", q=[9])
    for source, total in (
        ("q=100/s.parquet", 3),
        ("q=100/s[1].parquet", 30),
        ("odd/a?b.parquet", 8),
        ("q=100", 38),
        ("odd/a*", 17),
    ):
        (tmp_path / "m.toml").write_text(f'relatum = 1\n[table.t]\nsource = "{source}"\n')
        assert total_of(tmp_path / "m.toml") == [total, total], source
    parquet(tmp_path / "differ" / "1.parquet", q=[1], r=[2])
    parquet(tmp_path / "differ" / "2.parquet", q=[1])
    (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "differ"\n')
    for engine in ("memory", "duckdb"):
        with pytest.raises(relatum.SourceError, match=r"2\.parquet: .*lacks r"):
            relatum.open(tmp_path / "m.toml", engine=engine)
    parquet(tmp_path / "capitals.parquet", k=[1], K=[2])
    (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "capitals.parquet"\n')
    assert total_of(tmp_path / "m.toml", 'sum(t."K")') == [2, "SourceError"]
    for name in ("rowid", "file_row_number", "file_index"):
        parquet(tmp_path / "rows.parquet", k=["a", "a", "b"], q=[3, 4, 9], **{name: [7, 7, 7]})
        (tmp_path / "m.toml").write_text(
            'relatum = 1\n[table.t]\nsource = "rows.parquet"\nderived = { w = { formula = "t.q * 2" } }\n'
        )
        assert total_of(tmp_path / "m.toml", "sum(t.q)") == [16, 16]
        assert total_of(tmp_path / "m.toml", f"sum(t.{name})") == [21, 21]
        assert total_of(tmp_path / "m.toml", "sum(t.w)") in ([32, 32], [32, "ModelError"])
    with duckdb.connect(str(tmp_path / "r.duckdb")) as base:
        base.execute("create table t as select * from (values (7, 3), (7, 4), (7, 9)) v(rowid, q)")
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.t]\nsource = "r.duckdb"\npart = "t"\nderived = { w = { formula = "t.q * 2" } }\n'
    )
    assert total_of(tmp_path / "m.toml", "sum(t.w)") in ([32, 32], [32, "ModelError"])


def test_a_footer_that_lies_is_told(tmp_path: Path) -> None:
    path = parquet(tmp_path / "t.parquet", q=list(range(1000)))
    data = bytearray(path.read_bytes())
    # The number of rows is twice in the footer, of the file and of its one group: as a zigzag number of two bytes.
    places = [at for at in range(len(data) - 2) if data[at : at + 2] == b"\xd0\x0f"]
    lied = 0
    for at in places:
        changed = bytearray(data)
        changed[at] = 0xCE  # 999
        path.write_bytes(changed)
        (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "t.parquet"\n')
        found = total_of(tmp_path / "m.toml")
        assert all(each in (499500, "SourceError", "ValueOverflowError") for each in found), (at, found)
        lied += found[0] == "SourceError"
    assert lied >= 2


#: The first rows of a column, those that come after them, and whether a fresh look at all reads another type.
GROWN = [
    (["7", "8"], ["007"]), (["10:00", "11:00"], ["10:00:00"]), (["10:00", "11:00"], ["10:00"]), (["10:00", "11:00"], ["abc"]), (["abc", "11:00"], ["10:00"]), (["2024-01-01 10:00:00"], ["2024-01-03T10:00:00+02:00"]),
    (["2024-01-01T10:00:00+02:00"], ["2024-01-03 10:00:00"]), (["2024-01-01T10:00:00Z"], ["2024-01-03 10:00:00Z"]), (["2024-01-01"], ["2024-01-02"]), (["2024-01-01"], ["2024-01-02T03:00:00Z"]), (["1.5", "2"], ["007"]), (["1e2"], ["100"]),
    (["1", "2"], ["3.5"]), (["a", "b"], ["7"]), (["true"], ["1"]), (["9007199254740993"], ["1"]), (["18446744073709551615"], ["1"]),
]  # fmt: skip


@pytest.mark.parametrize("kind", ["csv", "jsonl"])
@pytest.mark.parametrize(("first", "more"), GROWN)
def test_rows_that_came_later_are_read_as_all_at_once(
    tmp_path: Path, kind: str, first: list[str], more: list[str]
) -> None:
    def line(value: str) -> str:
        bare = re.fullmatch(r"-?(0|[1-9]\d*)(\.\d+)?|true", value)
        return f"{value},1\n" if kind == "csv" else f'{{"k": {value if bare else json.dumps(value)}, "n": 1}}\n'

    path = tmp_path / f"t.{kind}"
    path.write_text(("k,n\n" if kind == "csv" else "") + "".join(map(line, first)))
    model, fresh = relatum.Model(), relatum.Model()
    model.add_table("t", path)
    with path.open("a") as file:
        file.writelines(map(line, more))
    found = model.refresh()
    try:
        fresh.add_table("t", path)
    except relatum.SourceError:
        assert not found.ok
        return
    same = fresh.session.data["t"].types == model.session.data["t"].types
    if found.ok and same:
        members = [each.pivot("t.k", values="count(t)").to_arrow().to_pylist() for each in (model, fresh)]
        assert members[0] == members[1]
    else:
        assert model.session.data["t"].rows == len(first) or not found.ok


def test_numbers_that_name_things_are_never_one(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("k,n\n007,1\n7,1\n1e2,1\n100,1\n")
    model = relatum.Model()
    model.add_table("t", tmp_path / "t.csv")
    assert model.pivot("t.k", values="count(t)").to_arrow()["t.k"].to_pylist() == ["007", "100", "1e2", "7"]


def test_ways_to_store_are_read(tmp_path: Path) -> None:
    ids = [uuid.UUID(int=5), None, uuid.UUID("12345678-1234-5678-9abc-def012345678"), uuid.UUID(int=5)]
    stored = {
        "runs": pc.run_end_encode(pa.array([1, 1, None, 2])), "texts": pc.run_end_encode(pa.array(["a", "a", "b", None])), "prices": pa.array([Decimal("1.50"), Decimal("2.25"), None, Decimal("1.50")]).dictionary_encode(),
        "truths": pa.ExtensionArray.from_storage(pa.bool8(), pa.array([1, 0, None, 5], pa.int8())), "ids": pa.ExtensionArray.from_storage(pa.uuid(), pa.array([each and each.bytes for each in ids], pa.binary(16))),
    }  # fmt: skip
    table = pa.table(stored)
    for frame in (table, pa.concat_tables([table.slice(0, 1), table.slice(1)])):
        model = relatum.Model()
        model.add_table("t", frame)
        values = [
            model.evaluate(each)
            for each in (
                "sum(t.runs)",
                "max(t.texts)",
                "sum(t.prices)",
                "sum(case when t.truths then 1 else 0 end)",
                "count(distinct t.ids)",
                "max(t.ids)",
            )
        ]
        assert values == [4, "b", Decimal("5.25"), 2, 2, str(ids[2])]


# -- pictures, patterns, rights, ends ---------------------------------------------------------------------------------


def test_what_is_written_may_be_read_by_who_may_read_the_sources(tmp_path: Path) -> None:
    # A process for each, since it remembers all that it read; they are forked from one that has everything loaded.
    code = (
        "import os, sys, matplotlib.pyplot, xlsxwriter, relatum, relatum.face.model, relatum.present.grid\n"
        "for each in sys.argv[1:]:\n"
        "    child = os.fork()\n"
        "    if child:\n"
        "        assert os.waitpid(child, 0)[1] == 0\n"
        "        continue\n"
        "    os.umask(int(each[-3:], 8)); os.chdir(each)\n"
        "    model = relatum.Model(); model.add_table('t', 't.csv'); model.measure('n', 'sum(t.n)'); model.save('m.toml')\n"
        "    grid = relatum.open('m.toml').pivot('t.k', values='n')\n"
        "    for name in ('g.csv', 'g.html', 'g.xlsx', 'g.svg'): grid.save(name)\n"
        "    os._exit(0)\n"
    )
    expected = {}
    for source, umask, mode in (
        (0o600, "022", 0o600),
        (0o644, "022", 0o644),
        (0o666, "000", 0o666),
        (0o644, "077", 0o600),
        (0o640, "000", 0o640),
    ):
        folder = tmp_path / f"{source:o}-{umask}"
        folder.mkdir()
        (folder / "t.csv").write_text("k,n\na,1\n")
        (folder / "t.csv").chmod(source)
        (folder / "old.csv").write_text("")
        expected[folder] = mode
    subprocess.run([sys.executable, "-c", code, *map(str, expected)], check=True)
    for folder, mode in expected.items():
        written = {each.name: stat.S_IMODE(each.stat().st_mode) for each in folder.iterdir() if each.name[0] in "gm"}
        assert set(written.values()) == {mode} and len(written) == 5, (folder, written)


def test_a_cache_in_a_shared_folder_is_no_ones_to_fill(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "WORTH_BYTES", 1)
    tmp_path.chmod(0o777)
    (tmp_path / "t.csv").write_text("k,n\na,1\n")
    (tmp_path / "m.toml").write_text('relatum = 1\n[table.t]\nsource = "t.csv"\n')
    assert relatum.open(tmp_path / "m.toml").evaluate("sum(t.n)") == 1
    assert not stat.S_IMODE((tmp_path / ".relatum").stat().st_mode) & 0o002
    for path in (tmp_path / ".relatum").glob("*.kept"):
        assert not stat.S_IMODE(path.stat().st_mode) & 0o113
        path.unlink()
        path.mkdir()
    assert relatum.open(tmp_path / "m.toml").evaluate("sum(t.n)") == 1
    for path in (tmp_path / ".relatum").glob("*.kept"):
        path.rmdir()
        with path.open("wb") as sparse:
            sparse.truncate(1 << 40)
    assert relatum.open(tmp_path / "m.toml").evaluate("sum(t.n)") == 1


def test_a_text_in_a_picture_is_no_mathematics(tmp_path: Path) -> None:
    model = relatum.Model("US$5 and CA$7")
    model.add_table("t", pa.table({"k": ["$5$ and $7", "$$", "a$\\frac$b", "x" * 100_000], "n": [1, 2, 3, 4]}), key="k")
    model.measure("v", "sum(t.n)", label="cost in $ and $$")
    for kind in ("bars", "ranked", "lines", "heat", "table", "shares", "areas"):
        figure = model.pivot("t.k", values="v").chart(kind)
        assert not any(text.get_parse_math() for text in figure.findobj(Text) if "$" in text.get_text())
        figure.savefig(tmp_path / "c.png")
    grid = model.pivot("t.k", values="v")
    grid.save(tmp_path / "c.svg")
    model.diagram().save(tmp_path / "d.svg")


def test_charts_of_what_nobody_could_read_are_refused_at_once() -> None:
    model = relatum.Model()
    model.add_table(
        "t", pa.table({"k": [f"k{at}" for at in range(200_000)], "n": [at * 1e195 for at in range(200_000)]})
    )
    start = time.monotonic()
    with pytest.raises(relatum.RequestError, match="200,001 cells"):
        model.pivot("t.k", values="sum(t.n)").chart()
    with pytest.raises(relatum.RequestError, match="too large to draw"):
        model.pivot("t.k by sum(t.n) desc top 3", values="sum(t.n)").chart()
    assert time.monotonic() - start < 8


@settings(max_examples=300, deadline=None)
@given(st.text("ab*", max_size=12), st.text("ab", max_size=12))
def test_a_pattern_of_names_stands_for_what_it_says(pattern: str, name: str) -> None:
    assert is_named_by(name, pattern) is (
        re.fullmatch(".*".join(map(re.escape, pattern.split("*"))), name, re.DOTALL) is not None
    )
    assert not is_named_by("a" * 5000, "*a" * 500 + "b*")


@pytest.mark.parametrize(
    "link", ["//host/x", "/\\\\host", "&#47;/host", "javascript:1", "file:///x", "\\\\\\\\host\\x"]
)
def test_a_report_links_to_no_other_machine_in_silence(link: str) -> None:
    shown = markdown_html(f"[a]({link}) [b](https://there.example/x) [c](more.html)")
    assert re.findall('href="([^"]*)"', shown)[-2:] == ["https://there.example/x", "more.html"]
    assert "//host" not in "".join(re.findall('href="([^"]*)"', shown))


def test_a_closed_model_says_so(server: Server) -> None:
    for engine in ("duckdb", server.address):
        model = relatum.Model("m", engine=engine)
        model.add_table("t", pa.table({"a": [1]}))
        assert model.evaluate("sum(t.a)") == 1
        model.close()
        model.close()
        for call in (lambda: model.evaluate("sum(t.a) + 1"), lambda: model.pivot("t.a", values="max(t.a)")):  # noqa: B023
            with pytest.raises(relatum.SourceError, match=r"closed"):
                call()


def test_a_process_that_is_told_to_end_leaves_nothing(tmp_path: Path) -> None:
    slow = "select sum(a.range * b.range) as n from range(10000000) a, range(1000000) b"
    model = limited_model(tmp_path, "duckdb", slow, "time = 60", engine=True)
    before, left = sorted(tmp_path.iterdir()), set(Path(tempfile.gettempdir()).glob("relatum-*"))
    with started([sys.executable, "-m", "relatum", "pivot", str(model), "--values", "max(t.n)"]) as asking:
        while not psutil.Process(asking.pid).children():
            assert asking.poll() is None
            time.sleep(0.1)
        (child,) = psutil.Process(asking.pid).children()
        time.sleep(1)
        asking.send_signal(signal.SIGTERM)
        assert asking.wait(5) == 128 + signal.SIGTERM
    assert psutil.wait_procs([child], 5)[1] == []
    assert sorted(tmp_path.iterdir()) == before
    assert not {
        each for each in Path(tempfile.gettempdir()).glob("relatum-*") if each not in left and list(each.iterdir())
    }
    taken = run("edit", tmp_path / "gone" / "m.toml", "measure", "x", "1")
    assert taken.exit_code == 2 and "added" not in taken.stdout
