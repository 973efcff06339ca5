"""The limits at which requests end, and the state of a database that they see."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from postgres import Server
from processes import started
from relatum.model.declaration import EngineChoice
from stall import run
from test_walls import asked

# -- limits -----------------------------------------------------------------------------------------------------------

#: Questions that never end, or take all the memory there is: one step of a statement that cannot be stopped among them.
LONG = {
    "sqlite": ["with recursive x(n) as (select 1 union all select n + 1 from x) select count(*) as n from x", "select instr(hex(zeroblob(50000000)), hex(zeroblob(20000000)) || '1') as n"],
    "duckdb": ["with recursive x(n) as (select 1 union all select n + 1 from x) select count(*) as n from x", "select levenshtein(repeat('a', 400000), repeat('b', 400000)) as n"],
}  # fmt: skip
LARGE = [
    "select unnest(range(30000000)) as n",
    "select len(range(300000000)) as n",
    "select length(repeat('abc', 900000000)) as n",
]


def limited_model(folder: Path, kind: str, query: str, limits: str, *, engine: bool) -> Path:
    """A model with limits whose table is a query of a file of a kind: of a source, or of the engine."""
    path = folder / f"b.{kind}"
    if kind == "duckdb":
        duckdb.connect(str(path)).close()
    else:
        sqlite3.connect(path).execute("create table if not exists t (a)").connection.close()
    place = f'engine = {{ kind = "duckdb", address = "{path.name}" }}\n' if engine else ""
    source = "" if engine else f'source = "{path.name}"\n'
    (folder / "m.toml").write_text(
        f"relatum = 1\n{place}[limits]\n{limits}\n[table.t]\n{source}query = {json.dumps(query)}\n"
    )
    return folder / "m.toml"


@pytest.mark.parametrize(("kind", "engine"), [("sqlite", False), ("duckdb", False), ("duckdb", True)])
def test_every_question_ends_at_its_limits(tmp_path: Path, kind: str, engine: bool) -> None:
    for number, query in enumerate(LONG[kind]):
        model = limited_model(tmp_path, kind, query, "time = 1", engine=engine)
        commands = (("pivot", model, "--values", "max(t.n)"), ("show", model), ("check", model))
        for command in commands if number == 0 else commands[:1]:
            start = time.monotonic()
            said = run(*command)
            assert said.exit_code == 2 and "takes longer than 1 second" in said.stderr, (command, said.stderr)
            assert time.monotonic() - start < 2 * 2 + 2  # opening and asking are a request each
    for query in LARGE if kind == "duckdb" else ():
        model = limited_model(tmp_path, kind, query, 'memory = "400 MB"', engine=engine)
        said = run("pivot", model, "--values", "max(t.n)")
        assert said.exit_code == 2 and re.search("more memory than allowed|out of memory", said.stderr, re.I), said
    assert (
        run(
            "pivot", limited_model(tmp_path, kind, "select 1 as n", "time = 9", engine=engine), "--values", "max(t.n)"
        ).exit_code
        == 0
    )


def test_a_server_is_left_in_time_too(server: Server, tmp_path: Path) -> None:
    endless = "with recursive x(n) as (select 1 union all select n + 1 from x) select count(*) as n from x"
    for engine in (False, True):
        start = time.monotonic()
        with (
            pytest.raises(relatum.LimitError, match="longer than 2 seconds"),
            relatum.limited(time=2),
            asked(tmp_path, server.address, endless, engine=engine) as model,
        ):
            model.evaluate("max(t.n)")
        assert time.monotonic() - start < 6


# -- SQLite beside a writer -------------------------------------------------------------------------------------------


def test_sqlite_is_read_in_one_state_beside_a_writer(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    code = (
        "import sqlite3, sys\n"
        "base = sqlite3.connect(sys.argv[1], timeout=60)\n"
        "base.execute('pragma synchronous = off')\n"
        "base.execute('create table t (k integer primary key, a integer)')\n"
        "base.executemany('insert into t values (?, 5)', [(at,) for at in range(10000)])\n"
        "base.commit(); print('ready', flush=True)\n"
        "while True:\n"
        "    base.execute('update t set a = a + 1 where k < 5000'); base.execute('update t set a = a - 1 where k >= 5000')\n"
        "    base.commit()\n"
        "    base.execute('update t set a = a - 1 where k < 5000'); base.execute('update t set a = a + 1 where k >= 5000')\n"
        "    base.commit()\n"
    )
    with started([sys.executable, "-c", code, str(path)], stdout=subprocess.PIPE) as writer:
        assert writer.stdout is not None and writer.stdout.readline() == b"ready\n"
        read = 0
        for _ in range(12):
            model = relatum.Model()
            try:
                model.add_table("t", path, part="t")
            except relatum.SourceError as error:
                assert "is writing" in str(error)
                continue
            assert model.evaluate("sum(t.a)") == 50_000
            read += 1
    assert read


def test_what_a_writer_left_half_done_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "h.sqlite"
    code = (
        "import os, sqlite3, sys\n"
        "base = sqlite3.connect(sys.argv[1])\n"
        "base.execute('create table t (a integer, b text)')\n"
        "base.executemany('insert into t values (5, ?)', [('x' * 500,)] * 10000)\n"
        "base.commit()\n"
        "base.execute('pragma cache_size = 5'); base.execute('begin'); base.execute('update t set a = 5000')\n"
        "os.kill(os.getpid(), 9)\n"
    )
    subprocess.run([sys.executable, "-c", code, str(path)], check=False)
    assert path.with_name("h.sqlite-journal").stat().st_size
    with pytest.raises(relatum.SourceError, match="was interrupted while writing"):
        relatum.Model().add_table("t", path, part="t")
    sqlite3.connect(path).execute("select count(*) from t").connection.close()
    model = relatum.Model()
    model.add_table("t", path, part="t")
    assert model.evaluate("sum(t.a)") == 50_000


def test_a_file_with_a_log_of_its_own_gets_none_from_us(tmp_path: Path) -> None:
    path = tmp_path / "w.sqlite"
    base = sqlite3.connect(path)
    base.executescript("pragma journal_mode = wal; create table t (a); insert into t values (7);")
    base.close()
    model = relatum.Model()
    model.add_table("t", path, part="t")
    assert model.evaluate("sum(t.a)") == 7
    assert [each.name for each in tmp_path.iterdir()] == ["w.sqlite"]


# -- tables of an engine that change ----------------------------------------------------------------------------------


def by_key(model: relatum.Model) -> dict[str, int]:
    return {each["t.k"]: each["n"] for each in model.pivot("t.k", values="n: sum(t.n)").to_arrow().to_pylist()}


def test_a_server_that_is_written_to_is_asked_in_one_state(server: Server) -> None:
    server.execute(
        "drop schema if exists moving cascade; create schema moving; set search_path = moving; create table t (k text, n int); insert into t values ('a', 1), ('b', 2); "
        "create table p (k text, w int); insert into p values ('a', 10), ('b', 20)"
    )
    with relatum.Model("moving", engine=EngineChoice("postgresql", server.address, "moving")) as model:
        model.add_table("t", "", part="t")
        model.add_table("p", "", part="p", key="k")
        model.relate("t.k -> p.k")
        grid = model.pivot("t.k", values="n: sum(t.n)")
        assert by_key(model) == {"a": 1, "b": 2} and model.evaluate("sum(t.n * p.w)") == 50
        for change, rows in (
            ("insert into t values ('c', 1000)", {"a": 1, "b": 2, "c": 1000}),
            ("update t set k = 'aa' where k = 'a'", {"aa": 1, "b": 2, "c": 1000}),
            ("delete from t where k = 'b'; update t set n = 5 where k = 'c'", {"aa": 1, "c": 5}),
            ("drop table t; create table t (k text, n int, x int); insert into t values ('z', 3, 4)", {"z": 3}),
        ):
            server.execute(f"set search_path = moving; {change}")
            assert by_key(model) == rows
        assert model.evaluate("sum(t.x)") == 4
        with pytest.raises(relatum.SourceError, match="data changed during"):
            grid.again(where="t.n > 0")
        server.execute("insert into moving.t values ('b', 7, 0); insert into moving.p values ('b', 30)")
        with pytest.raises(relatum.DataError, match="not unique"):
            model.evaluate("sum(t.n * p.w)")
        server.execute("delete from moving.p where w = 30")
        assert model.evaluate("sum(t.n * p.w)") == 140
        over = threading.Event()

        def write() -> None:
            at = 0
            while not over.is_set():
                at += 1
                server.execute(f"insert into moving.t values ('k{at}', 1, 0), ('m{at}', -1, 0)")

        writer = threading.Thread(target=write)
        writer.start()
        try:
            for _ in range(15):
                found = by_key(model)
                assert sum(found.values()) == 10 and {found[key] for key in found if key[0] == "k"} <= {1}
        finally:
            over.set()
            writer.join()


def test_files_that_an_engine_reads_are_read_as_they_are_now(tmp_path: Path) -> None:
    def write(**columns: list[Any]) -> None:
        pq.write_table(pa.table(columns), tmp_path / "new.parquet")
        (tmp_path / "new.parquet").replace(tmp_path / "t.parquet")

    write(k=["a", "b"], n=[1, 2])
    (tmp_path / "m.toml").write_text('relatum = 1\nengine = { kind = "duckdb" }\n[table.t]\nsource = "t.parquet"\n')
    with relatum.open(tmp_path / "m.toml") as model:
        assert by_key(model) == {"a": 1, "b": 2}
        write(k=["b", "c"], n=[2, 1000])
        assert by_key(model) == {"b": 2, "c": 1000}
        write(k=["d"], n=[5], x=[6])
        assert by_key(model) == {"d": 5} and model.evaluate("sum(t.x)") == 6
        write(k=["d"])
        with pytest.raises(relatum.RelatumError, match=r"n"):
            by_key(model)
        write(k=["d"], n=[8])
        assert by_key(model) == {"d": 8}
