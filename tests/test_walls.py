"""What a stranger's model, data and arguments must not do: write models, leave the folder, run anything."""

from __future__ import annotations

import gzip
import json
import re
import signal
import sqlite3
import stat
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import openpyxl
import psutil
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from matplotlib.text import Text

import relatum
from arguments import OddText, nested
from conftest import run
from postgres import Server, program
from relatum.model.declaration import EngineChoice
from relatum.paths import is_named_by
from relatum.present.report.page import markdown_html
from relatum.session import reading
from relatum.sources.database.address import plain_address
from relatum.sources.database.calls import refuse_unknown
from relatum.sources.database.query import one_select, own_names, written

# -- data that would write a model ------------------------------------------------------------------------------------

ENDS = ("\n", "\r\n", "\r", "\x1b[2K\n", "\0", "\x7f", "\x85", "\u2028", "\u2029", "\x0b", "\x0c", "\x1c", "\x1e")
LIVE = '{0}[engine]{0}kind = "duckdb"{0}[table.zz]{0}source = "a.csv"{0}# '


@pytest.mark.parametrize("end", ENDS)
@pytest.mark.parametrize("where", ["value", "heading", "table"])
def test_a_draft_takes_what_data_holds_for_text(tmp_path: Path, end: str, where: str) -> None:
    hostile = "X" + LIVE.format(end).replace('"', '""') + "end"
    value, heading = (hostile if where == each else "X" for each in ("value", "heading"))
    name = f"sales{end if end != chr(0) else ''}forged = 1.csv" if where == "table" else "sales.csv"
    rows = "".join(f'"{value if at == 7 else f"k{at % 30}"}",{at}\n' for at in range(200))
    (tmp_path / name).write_text(f'product_id,"{heading}"\n{rows}', newline="")
    (tmp_path / "product.csv").write_text("product_id,plant\n" + "".join(f"k{at},p{at}\n" for at in range(30)))
    drafted = run("draft", tmp_path, "-o", tmp_path / "m.toml")
    if drafted.exit_code == 2:
        assert "fault of Relatum" not in drafted.stderr and not (tmp_path / "m.toml").exists()
        return
    model = relatum.open(tmp_path / "m.toml")
    assert model.declaration.engine.kind == "memory" and "zz" not in model.declaration.tables
    assert len(model.declaration.tables) <= 3
    for command in (("show",), ("check",), ("impact", "product"), ("refresh",)):
        said = run(command[0], tmp_path / "m.toml", *command[1:])
        assert said.exit_code in (0, 1, 2)
        lines = (said.stdout + said.stderr).splitlines()
        assert not [line for line in lines if line.startswith(("[engine]", "kind =", "forged"))]


# -- queries of a stranger --------------------------------------------------------------------------------------------

#: What acts on a server, runs a text, reads what is its own, or hides that it does.
ACTING = [
    "select lo_create(0) as n", "select lo_unlink(1) as n", "select lo_from_bytea(0, 'x') as n", "select set_config('statement_timeout', '0', false) as n",
    "select set_config('default_transaction_read_only', 'off', false) as n", "select pg_terminate_backend(1) as n", "select pg_cancel_backend(1) as n", "select pg_advisory_lock(1) as n",
    "select pg_notify('a', 'b') as n", "select query_to_xml('select 1', true, true, '') as n", "select table_to_xml('w_kept', true, true, '') as n", "select nextval('w_s') as n", "select setval('w_s', 9) as n",
    "select * from w_s", "select * from pg_authid", "select * from pg_catalog.pg_settings", "select * from pg_largeobject", "select pg_read_file('/etc/passwd') as n", "select * from pg_ls_dir('.')",
    'select "lo_create" (0) as n', 'select "pg_catalog" . "lo_create"(0) as n', "select LO_CREATE\n(0) as n", "select lo_create/**/(0) as n", 'select U&"\\006co_create"(0) as n', "select k.w_touch as n from w_kept k",
    "select (k).w_touch as n from w_kept k", "select sum(a) as n from w_kept where exists (select w_write())", "with x as (select w_write() as n) select * from x", "select n from (values (nextval('w_s'))) v(n)",
    "select * from rows from (generate_series(1, 2), pg_ls_dir('.'))", "select a as n from w_kept order by random()", "select pg_sleep(1) as n", "select coalesce(w_write(), 1) as n", "select array(select w_write()) as n",
    "select x as n from w_kept, lateral (select w_write() as x) l", "select E'\\'', lo_create(0) as n --'", "select $a$x$a$, lo_create(0) as n", "select txid_current() as n", "select a as n from w_kept for update",
    "select pg_export_snapshot() as n", "select pg_reload_conf() as n", "select pg_create_logical_replication_slot('a', 'b') as n", "select pg_switch_wal() as n", "select pg_stat_reset() as n",
    "select lo_export(1, '/tmp/x') as n", "select lo_import('/etc/passwd') as n", "select pg_advisory_xact_lock_shared(1) as n", "select currval('w_s') as n", "select ts_stat('select 1') as n",
]  # fmt: skip
HARMLESS = [
    "select a as n from w_kept -- a comment at the end", "select count(*) as n, coalesce(sum(a), 0) as s, now() as t from w_kept where a in (1, 2) and a between 1 and (2)",
    "select date_trunc('month', d)::date as m, string_agg(x, ',' order by x) as n, row_number() over (partition by x order by d) as r, extract(year from d) as y, cast(1 as numeric(5, 2)) as z from w_things group by 1, x, d",
    "select v.n from (values (1), (2)) as v(n)", "select 'lo_c(' as n", "select a as n from w_seen", "with recursive t(n) as (select 1 union all select n + 1 from t where n < 5) select * from t",
]  # fmt: skip


def world(server: Server) -> None:
    server.execute(
        "drop table if exists w_kept cascade; drop table if exists w_things; drop sequence if exists w_s; create table w_kept (a int); insert into w_kept values (1); create table w_things (d timestamp, x text); "
        "create sequence w_s; create view w_seen as select * from w_kept; create or replace function w_write() returns int language plpgsql as 'begin insert into w_kept values (1); return 1; end'; "
        "create function w_touch(k w_kept) returns int language plpgsql as 'begin perform lo_create(0); return 1; end'"
    )


def dump(server: Server) -> str:
    """All that is in a server, large objects and settings too."""
    place = ["-h", "127.0.0.1", "-p", str(server.port), "-U", "tester"]
    done = subprocess.run(
        [program("pg_dumpall"), *place, "--restrict-key=k"], capture_output=True, text=True, check=True
    )
    return done.stdout


def asked(folder: Path, address: str, query: str, *, engine: bool) -> relatum.Model:
    """A model whose table is a query: of a source, or of the engine."""
    place = f'[engine]\nkind = "postgresql"\naddress = "{address}"\n' if engine else ""
    source = "" if engine else f'source = "{address}"\n'
    (folder / "m.toml").write_text(f"relatum = 1\n{place}[table.t]\n{source}query = {json.dumps(query)}\n")
    return relatum.open(folder / "m.toml")


@pytest.mark.xdist_group("postgresql")
def test_no_query_acts_on_a_server(server: Server, tmp_path: Path) -> None:
    world(server)
    before = dump(server)
    for engine in (False, True):
        for query in ACTING:
            with (
                pytest.raises(relatum.SourceError, match=r"calls|reads|no SELECT|holds LOCK|does not exist"),
                asked(tmp_path, server.address, query, engine=engine),
            ):
                pass
        for query in HARMLESS:
            with asked(tmp_path, server.address, query, engine=engine) as model:
                assert (model.evaluate("count(t)") is None) is ("from w_things" in query)
    assert dump(server) == before


@pytest.mark.xdist_group("postgresql")
def test_a_foreign_table_is_told(server: Server) -> None:
    server.execute(
        "create extension if not exists file_fdw; drop server if exists away cascade; create server away foreign data wrapper file_fdw; "
        "create foreign table far (a text) server away options (filename '/etc/hostname'); create view behind as select * from far;"
    )
    for options in ({"part": "far"}, {"query": "select a from behind"}):
        model = relatum.Model()
        model.add_table("t", server.address, **options)
        assert "far is a foreign table" in str(model.check())
    server.execute("drop server away cascade")


@pytest.mark.parametrize(
    "said",
    [
        "x?sslmode=disable#&sslkeylogfile=/tmp/k", "x#?sslkeylogfile=/tmp/k", "x?sslmode=disable&sslkeylogfile=/tmp/k", "x?application_name=a#b", "x?sslmode=disable%26passfile=/x", "x%20passfile=/etc/x",
        "x?application_name=a' passfile='/etc/x", "x?connect_timeout=1\npassfile=/x", "x=y&passfile=/x", "?passfile=x", "x?ssl%6bey=/x", "x?sslrootcert=/x", "x?=y", "x\\0y", "x?application_name=a;b",
    ],
)  # fmt: skip
def test_an_address_reaches_the_driver_as_it_was_looked_at(said: str) -> None:
    with pytest.raises(
        relatum.SourceError, match=r"which a model file may not|none that can be read|cannot be reached"
    ):
        relatum.Model().add_table("t", f"postgresql://127.0.0.1:1/{said}", part="t")
    with pytest.raises(relatum.SourceError, match="no place for them"):
        relatum.Model().add_table("t", "postgresql://127.0.0.1:1/x?%75ser=me", part="t")


def test_addresses_are_written_anew() -> None:
    for said, meant in (
        ("postgresql://h/a%20b", "postgresql://h/a%20b?"), ("postgres://[::1]:5/x", "postgresql://[::1]:5/x?"), ("postgresql://", "postgresql:///?"), ("postgresql://h1:1,h2:2/x", "postgresql://h1:1,h2:2/x?"),
        ("postgresql://h/x?sslmode=require&connect_timeout=3", "postgresql://h/x?require_auth=%21password&connect_timeout=3&sslmode=require"),
    ):  # fmt: skip
        assert plain_address(said, "x").startswith(meant)


# -- engines that a file names ----------------------------------------------------------------------------------------


def test_an_engine_stays_in_the_folder_unless_the_caller_says_so(tmp_path: Path) -> None:
    (tmp_path / "here").mkdir()
    with duckdb.connect(str(tmp_path / "out.duckdb")) as base:
        base.execute("create table t as select 7 as a")
    (tmp_path / "here" / "link.duckdb").symlink_to("../out.duckdb")
    model = tmp_path / "here" / "m.toml"
    for address in ("../out.duckdb", str(tmp_path / "out.duckdb"), "link.duckdb", "../none.duckdb"):
        model.write_text(
            f'relatum = 1\n[engine]\nkind = "duckdb"\naddress = "{address}"\n[table.t]\npart = "t"\n[measure.n]\nformula = "sum(t.a)"\n'
        )
        with pytest.raises(relatum.ModelError, match="lies outside the model's folder") as refused:
            relatum.open(model)
        assert address in str(refused.value) and "Did you mean" not in str(refused.value)
        assert run("pivot", model, "--values", "n").exit_code == 2
        assert run("pivot", model, "--values", "n", "--engine", "duckdb").exit_code == 2
        if "none" not in address:
            with relatum.open(model, allow_outside=True) as outside, relatum.open(model, engine=address) as said:
                assert outside.evaluate("n") == said.evaluate("n") == 7
            assert run("pivot", model, "--values", "n", "--engine", address).exit_code == 0
    text = 'relatum = 1\n[table.t]\nsource = "../out.duckdb"\npart = "t"\n'
    model.write_text(text)
    with pytest.raises(relatum.ModelError, match="lies outside"):
        relatum.open(model, engine="duckdb")


@pytest.mark.parametrize(
    "address", ["spark://there:7077", "k8s://https://there", "yarn", "local-cluster[1,1,1]", "local[2]x"]
)
def test_a_spark_elsewhere_is_the_callers_to_name(tmp_path: Path, address: str) -> None:
    (tmp_path / "m.toml").write_text(
        f'relatum = 1\n[engine]\nkind = "spark"\naddress = "{address}"\n[table.t]\npart = "t"\n'
    )
    with pytest.raises(relatum.ModelError, match="names a Spark of its own"):
        relatum.open(tmp_path / "m.toml")


def test_spark_calls_what_it_brings_itself_and_nothing_that_runs() -> None:
    known = ("sum", "count", "transform", "upper", "reflect", "java_method", "try_reflect", "range")
    for query in (
        "select reflect('java.lang.System', 'exit', 1)", "select java_method('a', 'b')", "select `reflect`('a', 'b')", "select try_reflect('a', 'b')", "select theirs(a) from t", "select transform(a) using 'cat' from t",
        "from (from t map a using 'cat') select *", "select * from t lateral view theirs(a) x",
    ):  # fmt: skip
        with pytest.raises(relatum.SourceError, match=r"calls|no SELECT|holds"):
            tree = one_select(query, "spark", "base")
            refuse_unknown(written(tree, "spark"), known, own_names(tree), "base")
    for query in (
        "select transform(a, x -> x + 1) as b, upper(c) from t", "with n(a) as (select 1) select sum(a) from n", "select cast(a as decimal(10, 2)) from t where a in (1, 2) and exists (select 1) and not (a > 1)",
        "select v.a from (values (1), (2)) as v(a)", "select count(*) filter (where a > 1) over (partition by b) from range(5)",
    ):  # fmt: skip
        tree = one_select(query, "spark", "base")
        refuse_unknown(written(tree, "spark"), known, own_names(tree), "base")


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
    for query in LONG[kind]:
        model = limited_model(tmp_path, kind, query, "time = 2", engine=engine)
        for command in (("show", model), ("check", model), ("pivot", model, "--values", "max(t.n)")):
            start = time.monotonic()
            said = run(*command)
            assert said.exit_code == 2 and "takes longer than 2 seconds" in said.stderr, (command, said.stderr)
            assert time.monotonic() - start < 2 * 2 + 2  # opening and asking are a request each
    for query in LARGE if kind == "duckdb" else ():
        model = limited_model(tmp_path, kind, query, 'memory = "400 MB"', engine=engine)
        said = run("pivot", model, "--values", "max(t.n)")
        assert said.exit_code == 2 and re.search("more memory than it may|out of memory", said.stderr, re.I), said
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
    with subprocess.Popen([sys.executable, "-c", code, str(path)], stdout=subprocess.PIPE) as writer:
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
        writer.kill()
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
    with pytest.raises(relatum.SourceError, match="ended in the middle"):
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
        with pytest.raises(relatum.SourceError, match="has changed while"):
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


# -- arguments --------------------------------------------------------------------------------------------------------


def test_arguments_are_what_the_signature_says() -> None:
    model = relatum.Model("m")
    model.add_table("t", pa.table({"a": [1, 2]}), key="")
    assert model.declaration.tables["t"].key == ()
    before = model.declaration
    calls: list[tuple[Callable[[], object], str]] = [
        (lambda: model.measure(5, "1"), r"name of measure is 5 \(int\); it must be a text"), (lambda: model.measure("m", "1", about=b"x"), "about of measure is b'x'"), (lambda: model.measure("m", "1", format=3), "a text or a dictionary"),
        (lambda: model.measure("m", "1", replace="yes"), "True or False"), (lambda: model.derive("t", int, "1"), "name of derive is <class 'int'>"), (lambda: model.add_derived_table(int, "t.a", {}), "it must be a text"),
        (lambda: model.pivot(["t.a", 3]), "a list in which each is a text"), (lambda: model.evaluate(None), "formula of evaluate is None"), (lambda: model.evaluate("'\ud800'"), "half of one"), (lambda: model.look("t.a", label=["x"]), "label of look"),
        (lambda: model.hierarchy("h", (each for each in ["t.a"])), "a list"), (lambda: model.control("m", 1, tolerance=True), "a number"), (lambda: model.save(3), "a path"), (lambda: relatum.open(b"x"), "path of open_model"),
        (lambda: model.pivot("t.a", values={"x": nested(10**5)}), "it must be"), (lambda: model.add_report("r", nested(10**5)), "it must be"), (lambda: relatum.Model(locale=["en"]), "locale of Model"), (lambda: model.limit(cells=None), "cells of limit"),
        (lambda: model.compare("other"), "a Model"), (lambda: model.explain("sum(t.a)", at={"t.a": object()}), "at of explain"), (lambda: model.pivot("t.a", values="sum(t.a)").again(rows=5), "rows of ask"),
    ]  # fmt: skip
    for call, says in calls:
        with pytest.raises(relatum.ArgumentError, match=says):
            call()
    assert model.declaration == before
    reader = pa.table({"a": [1]}).to_reader()
    model.add_table("r", reader)
    with pytest.raises(relatum.SourceError, match="has been read already"):
        model.add_table("s", reader)
    model.measure(OddText("n"), np.str_("sum(t.a)"), about=np.str_("x"))
    assert model.evaluate("n") == 3 and type(model.declaration.measures["n"].about) is str


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
    # The number of rows stands twice in the footer, of the file and of its one group: as a zigzag number of two bytes.
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
    code = (
        "import os, sys, relatum\n"
        "os.umask(int(sys.argv[2], 8)); os.chdir(sys.argv[1])\n"
        "model = relatum.Model(); model.add_table('t', 't.csv'); model.measure('n', 'sum(t.n)'); model.save('m.toml')\n"
        "grid = relatum.open('m.toml').pivot('t.k', values='n')\n"
        "for name in ('g.csv', 'g.html', 'g.xlsx', 'g.svg'): grid.save(name)\n"
    )
    for source, umask, expected in (
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
        subprocess.run([sys.executable, "-c", code, str(folder), umask], check=True)
        written = {each.name: stat.S_IMODE(each.stat().st_mode) for each in folder.iterdir() if each.name[0] in "gm"}
        assert set(written.values()) == {expected} and len(written) == 5, (source, umask, written)


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
    with pytest.raises(relatum.RequestError, match="too large to be drawn"):
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
    with subprocess.Popen([sys.executable, "-m", "relatum", "pivot", str(model), "--values", "max(t.n)"]) as asking:
        while not psutil.Process(asking.pid).children():
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


# -- a folder in which somebody exchanges what names lead to ----------------------------------------------------------


def test_nobody_leads_a_reader_away_while_it_opens(tmp_path: Path) -> None:
    """A link between a folder inside and one outside changes as fast as it can: no row from outside is ever read."""
    (tmp_path / "here" / "real").mkdir(parents=True)
    (tmp_path / "away").mkdir()
    for folder, number in ((tmp_path / "away", 9), (tmp_path / "here" / "real", 1)):
        table = pa.table({"n": [number] * 50})
        (folder / "t.csv").write_text("n\n" + f"{number}\n" * 50)
        (folder / "t.csv.gz").write_bytes(gzip.compress((folder / "t.csv").read_bytes()))
        (folder / "t.jsonl").write_text(f'{{"n": {number}}}\n' * 50)
        pq.write_table(table, folder / "t.parquet")
        feather.write_feather(table, folder / "t.arrow")
        book = openpyxl.Workbook()
        for row in ["n", *[number] * 50]:
            book.active.append([row])
        book.save(folder / "t.xlsx")
    over = threading.Event()

    def exchange() -> None:
        here = tmp_path / "here"
        while not over.is_set():
            for target in ("../away", "real"):
                (here / "new").symlink_to(target)
                (here / "new").replace(here / "link")

    exchanging = threading.Thread(target=exchange)
    exchanging.start()
    found = Counter[object]()
    try:
        for at in range(240):
            kind = ("csv", "csv.gz", "jsonl", "parquet", "arrow", "xlsx")[at % 6]
            (tmp_path / "here" / "m.toml").write_text(f'relatum = 1\n[table.t]\nsource = "link/t.{kind}"\n')
            try:
                found[relatum.open(tmp_path / "here" / "m.toml", cache=False).evaluate("sum(t.n)")] += 1
            except relatum.RelatumError as error:
                assert re.search("outside|no such file", str(error)), error
                found["refused"] += 1
    finally:
        over.set()
        exchanging.join()
    assert set(found) == {50, "refused"}, found
