"""What a stranger's model, data and arguments must not do: write models, leave the folder, run anything."""

from __future__ import annotations

import gzip
import json
import re
import subprocess
import threading
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import duckdb
import numpy as np
import openpyxl
import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

import relatum
from arguments import OddText, nested
from postgres import Server, program
from relatum.sources.database.address import plain_address
from relatum.sources.database.calls import refuse_unknown
from relatum.sources.database.postgresql import open_postgresql
from relatum.sources.database.query import one_select, own_names, written
from stall import run

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

#: Queries that act on a server, run a text, read the server's own tables, or hide that they do.
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
    """All that is in a server, large objects and the settings of another session too."""
    place = ["-h", "127.0.0.1", "-p", str(server.port), "-U", "tester"]
    done = subprocess.run(
        [program("pg_dumpall"), *place, "--restrict-key=k"], capture_output=True, text=True, check=True
    )
    return done.stdout + server.told("select name, setting from pg_settings order by 1")


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
                pytest.raises(relatum.SourceError, match=r"calls|reads|not a SELECT|contains LOCK|does not exist"),
                asked(tmp_path, server.address, query, engine=engine),
            ):
                pass
        for query in HARMLESS:
            with asked(tmp_path, server.address, query, engine=engine) as model:
                assert (model.evaluate("count(t)") is None) is ("from w_things" in query)
    volatile = server.told("select distinct proname from pg_proc where provolatile = 'v' and prokind = 'f'").split("\n")
    names = [each for each in volatile if each]
    assert len(names) > 200
    with closing(open_postgresql(server.address, "base")) as base:
        for name in names:
            with pytest.raises(relatum.SourceError, match=f"calls {re.escape(name)}"):
                base.select(f'select "{name}"(1) as n', "base")
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
    with pytest.raises(relatum.SourceError, match=r"which a model file may not|Invalid address|cannot be reached"):
        relatum.Model().add_table("t", f"postgresql://127.0.0.1:1/{said}", part="t")
    with pytest.raises(relatum.SourceError, match="must not contain them"):
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
    with pytest.raises(relatum.ModelError, match="names its own Spark server"):
        relatum.open(tmp_path / "m.toml")


def test_spark_calls_what_it_brings_itself_and_nothing_that_runs() -> None:
    known = ("sum", "count", "transform", "upper", "reflect", "java_method", "try_reflect", "range")
    for query in (
        "select reflect('java.lang.System', 'exit', 1)", "select java_method('a', 'b')", "select `reflect`('a', 'b')", "select try_reflect('a', 'b')", "select theirs(a) from t", "select transform(a) using 'cat' from t",
        "from (from t map a using 'cat') select *", "select * from t lateral view theirs(a) x",
    ):  # fmt: skip
        with pytest.raises(relatum.SourceError, match=r"calls|not a valid SELECT|not a SELECT|contains"):
            tree = one_select(query, "spark", "base")
            refuse_unknown(written(tree, "spark"), known, own_names(tree), "base")
    for query in (
        "select transform(a, x -> x + 1) as b, upper(c) from t", "with n(a) as (select 1) select sum(a) from n", "select cast(a as decimal(10, 2)) from t where a in (1, 2) and exists (select 1) and not (a > 1)",
        "select v.a from (values (1), (2)) as v(a)", "select count(*) filter (where a > 1) over (partition by b) from range(5)",
    ):  # fmt: skip
        tree = one_select(query, "spark", "base")
        refuse_unknown(written(tree, "spark"), known, own_names(tree), "base")


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


# -- arguments --------------------------------------------------------------------------------------------------------


def test_arguments_are_what_the_signature_says() -> None:
    model = relatum.Model("m")
    model.add_table("t", pa.table({"a": [1, 2]}), key="")
    assert model.declaration.tables["t"].key == ()
    before = model.declaration
    calls: list[tuple[Callable[[], object], str]] = [
        (lambda: model.measure(5, "1"), r"name of measure is 5 \(int\); it must be a text"), (lambda: model.measure("m", "1", about=b"x"), "about of measure is b'x'"), (lambda: model.measure("m", "1", format=3), "a text or a dictionary"),
        (lambda: model.measure("m", "1", replace="yes"), "True or False"), (lambda: model.derive("t", int, "1"), "name of derive is <class 'int'>"), (lambda: model.add_derived_table(int, "t.a", {}), "it must be a text"),
        (lambda: model.pivot(["t.a", 3]), "a list in which each item is a text"), (lambda: model.evaluate(None), "formula of evaluate is None"), (lambda: model.evaluate("'\ud800'"), "lone surrogates"), (lambda: model.look("t.a", label=["x"]), "label of look"),
        (lambda: model.hierarchy("h", (each for each in ["t.a"])), "a list"), (lambda: model.control("m", 1, tolerance=True), "a number"), (lambda: model.save(3), "a path"), (lambda: relatum.open(b"x"), "path of open is"),
        (lambda: model.pivot("t.a", values={"x": nested(10**5)}), "it must be"), (lambda: model.add_report("r", nested(10**5)), "it must be"), (lambda: relatum.Model(locale=["en"]), "locale of Model"), (lambda: model.limit(cells=None), "cells of limit"),
        (lambda: model.compare("other"), "a Model"), (lambda: model.explain("sum(t.a)", at={"t.a": object()}), "at of explain"), (lambda: model.pivot("t.a", values="sum(t.a)").again(rows=5), "rows of a request"),
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
