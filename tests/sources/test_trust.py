"""What a model file, data and a cache folder may do: nothing outside the folder, nothing to the terminal, no wrong number."""

from __future__ import annotations

import csv
import os
import pty
import sqlite3
import stat
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import duckdb
import pyarrow as pa
import pyarrow.ipc as paipc
import pytest

import hostile
import relatum
from postgres import Server
from relatum.data.stored import batch_bytes, column_batch
from relatum.model.names import quoted
from relatum.session import reading
from relatum.sources import fingerprint
from relatum.sources.database.query import one_select
from relatum.wording import visible
from stall import run

#: What no terminal may be sent out of data: controls but for the end of a line and tabs, and what turns text around.
OBEYED = {
    chr(code)
    for code in (*range(32), *range(0x7F, 0xA0), 0x2028, 0x2029, *range(0x202A, 0x202F), *range(0x2066, 0x206A))
} - {"\n", "\t"}


def hostile_model(folder: Path, text: str) -> Path:
    """A model in which a text is wherever a person or a file may put one."""
    heading = text.strip().replace("\0", "")
    with (folder / "sales.csv").open("w", newline="") as file:
        csv.writer(file).writerows(
            [
                [heading, "n", "day"],
                [text.replace("\0", ""), 2, "2024-01-02"],
                ["fig", 3, "2024-02-01"],
                ["gone", 1, "2024-02-01"],
            ]
        )
    with (folder / "product.csv").open("w", newline="") as file:
        csv.writer(file).writerows([[heading, "price"], [text.replace("\0", ""), 5], ["fig", 7]])
    model = relatum.Model(heading)
    model.add_table("sales", folder / "sales.csv", about=text)
    model.add_table("product", folder / "product.csv", key=heading, about=text)
    column = quoted(heading)
    model.relate(f"sales.{column} -> product.{column}")
    model.measure("v", "sum(sales.n * product.price)", about=text, label=heading)
    model.look(f"product.{column}", label=heading)
    model.keep_pivot("p", model.pivot(f"product.{column}", values="v"), about=text)
    model.save(folder / "m.toml")
    return folder / "m.toml"


@pytest.mark.parametrize(
    "text", [each for each in hostile.TEXTS if visible(each) != each or each.startswith(("[", "]", "{", "%"))]
)
def test_no_terminal_obeys_a_text(tmp_path: Path, text: str) -> None:
    file = hostile_model(tmp_path, text)
    column = quoted(text.strip().replace("\0", ""))
    with (tmp_path / "grown.toml").open("w") as grown:
        grown.write(file.read_text().replace("sum(sales.n", "max(sales.n"))
    said = ""
    for command in (
        ("show", file), ("show", file, "product"), ("check", file), ("pivot", file, "p"), ("pivot", file, "p", "--layout", "nested"), ("members", file, f"product.{column}"),
        ("explain", file, "v", "--at", f"product.{column}=fig"), ("impact", file, f"product.{column}"), ("diff", file, tmp_path / "grown.toml"), ("diagram", file), ("refresh", file),
        ("pivot", file, "--rows", column, "--values", "v"), ("pivot", file, text, "--values", text, "--where", text), ("pivot", file, "--values", f"'{text}'"),
        ("pivot", tmp_path / text.replace("\0", "").replace("/", "_"), "--values", "v"), ("edit", file, "rename", "v", text), ("edit", file, "remove", f"product.{column}", "--dry-run"),
        ("draft", tmp_path, "-o", tmp_path / "draft.toml"),
    ):  # fmt: skip
        result = run(*command)
        assert result.exit_code in (0, 1, 2) and "fault of Relatum" not in result.stderr, (command, result.stderr)
        said += result.stdout + result.stderr
    assert not OBEYED & set(said.replace("\r\n", "\n") if os.linesep == "\r\n" else said)
    if visible(text) != text:
        assert set(visible(text)) - set(text) & set(said), "what is not shown as it is, is shown as a mark"


@pytest.mark.parametrize("text", hostile.TEXTS)
def test_exported_statements_make_the_tables_and_nothing_else(tmp_path: Path, text: str) -> None:
    file = hostile_model(tmp_path, text)
    relatum.open(file).export(tmp_path / "m.sql")
    base = sqlite3.connect(":memory:")
    base.executescript((tmp_path / "m.sql").read_bytes().decode())
    tables = base.execute("select name from sqlite_master where type = 'table' order by name").fetchall()
    assert tables == [("product",), ("sales",)]
    assert base.execute("select name from pragma_table_info('product')").fetchall()[0] == (
        text.strip().replace("\0", ""),
    )
    base.close()
    mermaid = run("diagram", file).stdout
    assert len(mermaid.splitlines()) == 4, "two tables, one line between them, and the heading"


def test_csv_keeps_texts_and_guards_formulas(tmp_path: Path) -> None:
    model = relatum.Model("m")
    model.add_table("t", pa.table({"a": list(hostile.TEXTS), "x": range(len(hostile.TEXTS))}))
    grid = model.pivot("t.a", values="v: sum(t.x)")
    grid.save(tmp_path / "g.csv")
    with (tmp_path / "g.csv").open(newline="") as file:
        rows = list(csv.reader(file))[1:]
    assert {each[0].removeprefix("'") for each in rows} == set(hostile.TEXTS)
    assert not [each for each in rows if each[0].startswith(("=", "+", "-", "@"))]
    assert {each[0] for each in csv.reader(grid.to_csv(guarded=False).splitlines()[1:2])} <= set(hostile.TEXTS)
    assert [each["t.a"] for each in grid.to_arrow().to_pylist()] == sorted(hostile.TEXTS)


def test_a_terminal_is_sent_marks_by_a_document_too(tmp_path: Path) -> None:
    file = hostile_model(tmp_path, "a\x1b[31mb")
    leader, follower = pty.openpty()
    done = subprocess.run(
        [sys.executable, "-m", "relatum", "pivot", str(file), "p", "--format", "csv"],
        stdout=follower,
        stderr=subprocess.DEVNULL,
        timeout=60,
    )
    assert done.returncode == 0
    os.close(follower)
    shown = os.read(leader, 65536).decode()
    os.close(leader)
    assert "a␛[31mb" in shown and "\x1b" not in shown
    piped = subprocess.run(
        [sys.executable, "-m", "relatum", "pivot", str(file), "p", "--format", "csv"], capture_output=True, text=True
    )
    assert "a\x1b[31mb" in piped.stdout, "a program gets what is there"


# -- databases --------------------------------------------------------------------------------------------------------

REFUSED_QUERIES = [
    "delete from t", "select 1; select 2", "select 1) as x; drop table t; select (1", "attach 'x.db' as y", "copy t to 'out.csv'", "pragma writable_schema = 1",
    "with x as (delete from t returning *) select * from x", "select * into u from t", "create table u as select 1", "set x = 1", "vacuum", "begin", "install httpfs",
    "select * from t for update", "call pragma_version()", "export database 'x'", "-- nothing", "", "explain select 1", "select 1 --\n; drop table t", "/* */", "values (1); drop table t",
    "insert into t select 1", "select '", "do $$ begin perform 1; end $$", "truncate t", "grant all on t to public", "lock table t", "\0select 1", "load 'x'", "use x",
]  # fmt: skip


@pytest.mark.parametrize("dialect", ["sqlite", "duckdb", "postgres"])
@pytest.mark.parametrize("query", REFUSED_QUERIES)
def test_what_is_no_select_is_refused_before_a_database_sees_it(dialect: str, query: str) -> None:
    with pytest.raises(relatum.SourceError, match="query"):
        one_select(query, dialect, "base")


@pytest.mark.parametrize(
    "query",
    [
        "select * from t",
        "with a as (select 1 as x) select x from a union all select 2 order by 1",
        "select a.x from t as a join t as b on a.x = b.x where a.x in (select 1)",
        "(select 1 as x)",
        "select ';' as x -- a comment; with a semicolon",
    ],
)
def test_what_is_one_select_is_let_through(query: str) -> None:
    for dialect in ("sqlite", "duckdb", "postgres"):
        one_select(query, dialect, "base")


def bases(folder: Path) -> dict[str, Path]:
    """A table, a view that reaches out and one that never closed, in each kind of file."""
    (folder / "secret.csv").write_text("a\nsecret\n")
    with duckdb.connect(str(folder / "b.duckdb")) as base:
        base.execute("create table t as select 1 as a")
        base.execute(f"create view reach as select * from read_csv('{folder}/secret.csv')")
        base.execute("create view endless as select count(*) as n from range(100000000000) a, range(100000) b")
    lite = sqlite3.connect(folder / "b.sqlite")
    lite.executescript("create table t (a); insert into t values (1); create view endless as with recursive x(n) as (select 1 union all select n + 1 from x) select count(*) as n from x;"
                       "create view broken as select nope from t; create view reach as select * from pragma_database_list;")  # fmt: skip
    lite.close()
    return {"duckdb": folder / "b.duckdb", "sqlite": folder / "b.sqlite"}


@pytest.mark.parametrize("kind", ["duckdb", "sqlite"])
def test_a_database_file_reads_itself_alone_and_not_for_ever(tmp_path: Path, kind: str) -> None:
    path = bases(tmp_path)[kind]
    before = {each: each.read_bytes() for each in tmp_path.iterdir()}
    model = relatum.Model()
    model.add_table("t", path, part="t")
    for options in ({"part": "reach"}, {"query": f"select * from '{tmp_path}/secret.csv'"}, {"query": "select load_extension('x') from t"}, {"query": "select * from read_text('/etc/hostname')"},
                    {"query": f"select writefile('{tmp_path}/out', 'x')"}):  # fmt: skip
        with pytest.raises(relatum.SourceError, match=r"rejected|cannot be read"):
            model.add_table("u", path, **options)
    with relatum.limited(time=1), pytest.raises(relatum.LimitError, match="takes longer than 1 second"):
        model.add_table("u", path, part="endless")
    assert model.evaluate("sum(t.a)") == 1
    assert {each: each.read_bytes() for each in tmp_path.iterdir()} == before, "nothing is written, nothing left"


def test_one_broken_view_keeps_nobody_from_the_tables(tmp_path: Path) -> None:
    path = bases(tmp_path)["sqlite"]
    with relatum.limited(time=4):  # three readable tables fit into what the endless one leaves, on a busy machine too
        draft = relatum.draft(path)
    assert "t" in draft.kinds and {"broken", "endless", "reach"} == {each.what for each in draft.left_out}
    with pytest.raises(relatum.SourceError, match=r"broken cannot be read: .*no such column: nope"):
        relatum.Model().add_table("b", path, part="broken")


@pytest.mark.parametrize("name", ["a%2Fb.sqlite", "a#b.sqlite", "a?mode=rwc.sqlite", "a b&c.sqlite", "a%20b.sqlite"])
def test_a_database_file_of_any_name_is_itself(tmp_path: Path, name: str) -> None:
    for at, each in enumerate((name, "b.sqlite", "a", "a b.sqlite")):
        base = sqlite3.connect(tmp_path / each)
        base.executescript(f"create table t (a); insert into t values ({at})")
        base.close()
    model = relatum.Model()
    model.add_table("t", tmp_path / name, part="t")
    assert model.evaluate("count(t)") == 1 and model.evaluate("max(t.a)") == 0
    with pytest.raises(relatum.SourceError, match="no such file"):
        relatum.Model().add_table("t", tmp_path / f"new{name}", part="t")
    assert not (tmp_path / f"new{name}").exists()


def test_a_log_beside_a_database_is_read_with_it(tmp_path: Path) -> None:
    writer = sqlite3.connect(tmp_path / "w.sqlite")
    writer.executescript("pragma journal_mode = wal; create table t (a); insert into t values (1);")
    writer.execute("insert into t values (41)")
    writer.commit()
    model = relatum.Model()
    model.add_table("t", tmp_path / "w.sqlite", part="t")
    assert model.evaluate("sum(t.a)") == 42
    writer.close()


def test_columns_of_several_kinds_say_so(tmp_path: Path) -> None:
    base = sqlite3.connect(tmp_path / "m.sqlite")
    base.execute("create table t (a, b, c, d)")
    base.executemany(
        "insert into t values (?, ?, ?, ?)", [(1, 2, b"x", None), ("one", 2.5, "y", None), (None, 7, None, None)]
    )
    base.commit()
    base.close()
    model = relatum.Model()
    model.add_table("t", tmp_path / "m.sqlite", part="t")
    assert (
        model.evaluate("sum(t.b)") == 11.5
        and model.evaluate("count(distinct t.a)") == 2
        and model.evaluate("count(t.d)") == 0
    )
    assert "a: 1 number among 1 text; all are read as text" in str(model.check())
    with pytest.raises(relatum.FormulaError, match=r"t\.c cannot be used, since values of type binary cannot be read"):
        model.evaluate("max(t.c)")


#: What a view of the server would do, whatever a query may call.
SERVER_REFUSES = [
    ("pg_sleep(30)", "takes longer than 2 seconds"), ("nextval('s')", "read-only"), ("set_config('transaction_read_only', 'off', false)", "read-write mode|read-only"), ("write()", "read-only"),
]  # fmt: skip


@pytest.mark.parametrize(("called", "says"), SERVER_REFUSES)
def test_a_server_is_asked_so_that_it_can_only_read(server: Server, called: str, says: str) -> None:
    server.execute(
        "create table if not exists kept (a int); create sequence if not exists s; "
        "create or replace function write() returns int language plpgsql as 'begin insert into kept values (1); return 1; end'; "
        f"drop view if exists does; create view does as select {called}::text as n;"
    )
    with relatum.limited(time=2), pytest.raises(relatum.SourceError, match=says):
        relatum.Model().add_table("t", server.address, part="does")
    model = relatum.Model()
    model.add_table("kept", server.address, part="kept")
    assert model.session.data["kept"].rows == 0


def test_names_with_dots_in_a_database(server: Server, tmp_path: Path) -> None:
    server.execute('drop table if exists "a.b"; create table "a.b" ("c""d" int); insert into "a.b" values (5)')
    with duckdb.connect(str(tmp_path / "n.duckdb")) as base:
        base.execute('create table "a.b" ("c""d" int); insert into "a.b" values (5)')
    for address in (server.address, str(tmp_path / "n.duckdb")):
        model = relatum.Model()
        model.add_table("t", address, part="a.b")
        assert model.evaluate('sum(t."c""d")') == 5


@pytest.mark.parametrize(
    "said",
    ["passfile=/etc/passwd", "sslkey=/etc/key", "service=x", "options=-c%20x=y", "host=elsewhere", "hostaddr=1.2.3.4"],
)
def test_an_address_names_a_server_and_no_file(said: str) -> None:
    with pytest.raises(relatum.SourceError, match="which a model file may not"):
        relatum.Model().add_table("t", f"postgresql://127.0.0.1:1/x?{said}", part="t")


# -- paths ------------------------------------------------------------------------------------------------------------


def outside(folder: Path) -> Path:
    """A folder beside the model's, with a file that the model must not read."""
    (folder / "away").mkdir()
    (folder / "away" / "secret.csv").write_text("a\n1\n")
    (folder / "here").mkdir()
    return folder / "here"


def linked_file(here: Path) -> str:
    (here / "s.csv").symlink_to("../away/secret.csv")
    return "s.csv"


def linked_folder(here: Path) -> str:
    (here / "parts").symlink_to("../away")
    return "parts"


def linked_member(here: Path) -> str:
    (here / "parts").mkdir()
    (here / "parts" / "s.csv").symlink_to("../../away/secret.csv")
    return "parts"


def linked_match(here: Path) -> str:
    (here / "s1.csv").symlink_to("../away/secret.csv")
    return "s*.csv"


def pipe(here: Path) -> str:
    os.mkfifo(here / "s.csv")
    return "s.csv"


def circle(here: Path) -> str:
    (here / "s.csv").symlink_to("t.csv")
    (here / "t.csv").symlink_to("s.csv")
    return "s.csv"


PATHS: list[tuple[Callable[[Path], str], str]] = [
    (linked_file, "lies outside"), (linked_folder, "lies outside"), (linked_member, "leads outside the model"), (linked_match, "leads outside the model"), (pipe, "This is a pipe, not a file"),
    (circle, "cannot be followed: Too many levels"), (lambda _: "../away/secret.csv", "lies outside"), (lambda _: "/dev/zero", "lies outside"), (lambda _: "**", "files of one folder"),
    (lambda _: "*/s.csv", "files of one folder"), (lambda _: "a/**/b.csv", "files of one folder"), (lambda _: "x" * 300 + ".csv", "cannot be followed: File name too long"),
    (lambda _: "a\\u0000b.csv", "a character that paths cannot have"), (lambda _: "./here/../../away/secret.csv", "lies outside|no such file"), (lambda _: "s.csv/t.csv", "no such file"),
]  # fmt: skip


@pytest.mark.parametrize(("make", "says"), PATHS)
def test_a_source_stays_in_its_folder_and_is_a_file(tmp_path: Path, make: Callable[[Path], str], says: str) -> None:
    here = outside(tmp_path)
    (here / "m.toml").write_text(f'relatum = 1\n[table.t]\nsource = "{make(here)}"\n')
    with pytest.raises(relatum.RelatumError, match=says):
        relatum.open(here / "m.toml")
    assert run("check", here / "m.toml").exit_code == 2


def test_what_is_allowed_outside_is_read_there(tmp_path: Path) -> None:
    here = outside(tmp_path)
    (here / "m.toml").write_text(f'relatum = 1\n[table.t]\nsource = "{linked_member(here)}"\n')
    assert relatum.open(here / "m.toml", allow_outside=True).evaluate("sum(t.a)") == 1


# -- the cache --------------------------------------------------------------------------------------------------------


@pytest.fixture
def cached(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A model with a cache for files of any size, opened once."""
    monkeypatch.setattr(reading, "WORTH_BYTES", 1)
    (tmp_path / "s.csv").write_text("k,n\n" + "".join(f"k{at % 7},{at}\n" for at in range(50)))
    (tmp_path / "m.toml").write_text(
        'relatum = 1\n[table.s]\nsource = "s.csv"\n[measure.total]\nformula = "sum(s.n)"\n'
    )
    assert relatum.open(tmp_path / "m.toml").evaluate("total") == 1225
    relatum.refresh(tmp_path / "m.toml")
    return tmp_path / "m.toml"


def kept(model: Path) -> list[Path]:
    return sorted((model.parent / ".relatum").glob("*.kept"))


def other_rows(path: Path) -> bytes:
    column = relatum.Model()
    column.add_table("t", pa.table({"n": [1, 2, 3]}))
    return batch_bytes(column_batch(column.session.data["t"].column("n")))


def wild_codes(path: Path) -> bytes:
    codes = pa.DictionaryArray.from_arrays(
        pa.array([0, 99, -5], pa.int8()), pa.array(["a"], pa.large_string()), safe=False
    )
    batch = pa.record_batch(
        [codes], schema=pa.schema([pa.field("values", codes.type)], {"type": "text", "lower": "0", "upper": "0"})
    )
    return batch_bytes(batch)


FORGED: list[Callable[[Path], bytes]] = [
    lambda path: b"", lambda path: path.read_bytes()[:40], lambda path: path.read_bytes()[:-1], lambda path: path.read_bytes() + b"x", lambda path: b"\0" * 32 + path.read_bytes()[32:],
    lambda path: path.read_bytes()[:32] + other_rows(path), lambda path: b"\0" * 32 + other_rows(path), lambda path: b"\0" * 32 + wild_codes(path), other_rows, lambda path: b"{}", lambda path: os.urandom(5000),
]  # fmt: skip


@pytest.mark.parametrize("forge", FORGED)
def test_what_others_put_into_the_cache_is_not_there(cached: Path, forge: Callable[[Path], bytes]) -> None:
    for path in kept(cached):
        path.write_bytes(forge(path))
    assert relatum.open(cached).evaluate("total") == 1225
    assert relatum.refresh(cached).ok
    assert (
        relatum.open(cached).pivot("s.k", values="total").to_arrow()["total"].to_pylist()
        == relatum.open(cached, cache=False).pivot("s.k", values="total").to_arrow()["total"].to_pylist()
    )


def test_things_kept_under_the_names_of_others_are_not_taken(cached: Path) -> None:
    contents = [path.read_bytes() for path in kept(cached)]
    for path, content in zip(kept(cached), [*contents[1:], contents[0]], strict=True):
        path.write_bytes(content)
    assert relatum.open(cached).evaluate("total") == 1225
    for path in kept(cached):
        path.unlink()
        path.symlink_to("/dev/zero")
    assert relatum.open(cached).evaluate("total") == 1225


def test_a_cache_folder_that_is_a_link_is_left_alone(tmp_path: Path, cached: Path) -> None:
    for path in kept(cached):
        path.unlink()
    (cached.parent / ".relatum" / "CACHEDIR.TAG").unlink()
    (cached.parent / ".relatum" / ".gitignore").unlink()
    (cached.parent / ".relatum").rmdir()
    precious = tmp_path / "precious"
    precious.mkdir()
    for name in ("a.kept", ".new-b", "c.arrow"):
        (precious / name).write_text("mine")
        os.utime(precious / name, (0, 0))
    (cached.parent / ".relatum").symlink_to(precious)
    assert relatum.open(cached).evaluate("total") == 1225
    result = run("refresh", cached)
    assert result.exit_code == 2 and "cannot be recorded" in result.stderr
    assert sorted(each.name for each in precious.iterdir()) == [".new-b", "a.kept", "c.arrow"]


def test_who_may_read_the_folder_may_read_the_cache(cached: Path) -> None:
    assert {stat.S_IMODE(path.stat().st_mode) & 0o077 for path in kept(cached)} == {
        stat.S_IMODE(cached.parent.stat().st_mode) & 0o066
    }
    key = Path(os.environ["XDG_STATE_HOME"]) / "relatum" / "key"
    assert stat.S_IMODE(key.stat().st_mode) == 0o600 and len(key.read_bytes()) == 32


def test_a_file_of_the_same_size_and_time_with_other_content_is_read_anew(cached: Path) -> None:
    source = cached.parent / "s.csv"
    for number in range(5):
        before = source.stat()
        content = source.read_text().replace(f"k{number},{number}\n", f"k{number},{number + 3}\n")
        source.write_text(content) if number % 2 else source.write_bytes(content.encode())
        os.utime(source, ns=(before.st_atime_ns, before.st_mtime_ns))
        assert source.stat().st_mtime_ns == before.st_mtime_ns and source.stat().st_size == before.st_size
        assert (
            relatum.open(cached).evaluate("total")
            == 1225 + 3 * (number + 1)
            == relatum.open(cached, verify=True).evaluate("total")
        )
    assert run("refresh", cached, "--verify").exit_code == 0


def test_a_large_file_is_told_by_samples_and_verify_reads_all_of_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = tmp_path / "large.csv"
    source.write_bytes(b"n\n" + b"1\n" * 1_000_000)
    digests = fingerprint.Digests()
    first = digests.state(source)
    monkeypatch.setattr(fingerprint, "_TOO_NEW", -1)
    known = digests.known[str(source)]
    # A system that tells nothing of a change: the samples do, or, between them, reading all of it.
    for at, found in ((2, True), (2_000_000, True), (1_000_000, False)):
        with source.open("r+b") as file:
            file.seek(at)
            file.write(b"2")
        told = tuple(getattr(source.stat(), name) for name in ("st_size", "st_mtime_ns", "st_ctime_ns", "st_ino"))
        digests.known[str(source)] = fingerprint.Known(told, 1 << 62, known.sampled, known.digest)
        assert (digests.state(source).digest != first.digest) is found
        assert fingerprint.Digests().state(source).digest != first.digest
        with source.open("r+b") as file:
            file.seek(at)
            file.write(b"1")


# -- files that change ------------------------------------------------------------------------------------------------


def test_a_file_that_is_cut_short_or_written_anew_while_open_ends_nothing(tmp_path: Path) -> None:
    table = pa.table({"a": range(100_000), "b": [f"t{at % 1000}" for at in range(100_000)], "c": range(100_000)})
    code = (
        "import os, sys, relatum, pyarrow as pa, pyarrow.ipc as ipc\n"
        "model = relatum.Model(); model.add_table('t', sys.argv[1]); assert model.evaluate('sum(t.a)') == 4999950000\n"
        "how = sys.argv[2]\n"
        "if how == 'cut': os.truncate(sys.argv[1], 500)\n"
        "else:\n"
        "    table = pa.table({'a': range(9), 'b': ['x'] * 9, 'c': [1] * 9})\n"
        "    with ipc.new_file(sys.argv[1], table.schema) as writer: writer.write_table(table)\n"
        "for formula in ('max(t.b)', 'sum(t.c)', 'sum(t.a)'):\n"
        "    try: print(model.evaluate(formula))\n"
        "    except relatum.SourceError as error: print('refused', 'has changed' in str(error))\n"
    )
    for how in ("cut", "anew"):
        with paipc.new_file(tmp_path / "t.arrow", table.schema) as writer:
            writer.write_table(table)
        done = subprocess.run(
            [sys.executable, "-c", code, str(tmp_path / "t.arrow"), how], capture_output=True, text=True
        )
        assert (done.returncode, done.stdout, done.stderr) == (0, "refused True\nrefused True\n4999950000\n", ""), (
            how,
            done,
        )
