"""The shell as people and programs meet it: output, exit codes, and never a traceback."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import pty
import subprocess
import sys
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

import relatum
from conftest import LINES
from stall import run

COMMANDS = ["demo", "draft", "check", "show", "diagram", "pivot", "impact", "diff", "refresh", "export"]


def test_help_names_every_command_and_each_has_an_example() -> None:
    result = run("--help")
    assert result.exit_code == 0
    assert all(command in result.stdout for command in COMMANDS)
    for command in COMMANDS:
        text = run(command, "--help").stdout
        assert f"Example: relatum {command}" in " ".join(text.split()).replace("│ ", ""), text


def test_version() -> None:
    assert run("--version").stdout == f"relatum {relatum.__version__}\n"


#: A command, and what it must start without.
HELP = ("numpy", "pyarrow", "pandas", "lark", "babel", "rich", "matplotlib", "psutil")
ENGINE = (
    "relatum.engine.memory.run",
    "relatum.engine.memory.scan",
    "relatum.pivot.answer",
    "relatum.present.grid",
    "pyarrow.compute",
    "pandas",
    "matplotlib",
)
#: What reads databases and workbooks, and on Linux what asks other systems.
OTHERS = (
    "relatum.sources.database.ask",
    "relatum.sources.workbook",
    "sqlite3",
    *["psutil"] * (sys.platform == "linux"),
)
STARTS = [
    (["edit", "nursery.toml", "measure", "twice", "revenue * 2", "--dry-run"], (*ENGINE, "rich")), (["impact", "nursery.toml", "revenue"], ENGINE), (["show", "nursery.toml"], OTHERS),
    (["--help"], HELP), (["pivot", "--help"], HELP), (["edit", "m.toml", "measure", "--help"], HELP),
    (["pivot", "nursery.toml", "--values", "revenue", "--rows", "customer.region"], ("pandas", "matplotlib", "openpyxl", "xlsxwriter", "jinja2", "duckdb", "sqlglot", "pyarrow.compute")),
    (["pivot", "nursery.toml", "--values", "revenue", "--rows", "category.department open ('Edibles'), category.category", "--where", "customer.region in ('North', 'South')"], ("pandas", "pyarrow.compute")),
]  # fmt: skip


@pytest.mark.outside
@pytest.mark.parametrize(("command", "without"), STARTS)
def test_a_command_loads_only_what_it_needs(command: list[str], without: tuple[str, ...], hollowmere: Path) -> None:
    code = (
        "import sys; from relatum.cli.main import app\n"
        f"try: app({command!r})\nexcept SystemExit: pass\n"
        f"print([name for name in {without!r} if name in sys.modules])"
    )
    result = subprocess.run(
        [sys.executable, "-c", code], cwd=hollowmere.parent, capture_output=True, text=True, check=True
    )
    assert result.stdout.splitlines()[-1] == "[]"


@pytest.mark.outside
def test_a_program_that_opens_a_model_loads_only_what_it_needs(hollowmere: Path) -> None:
    without = (*OTHERS, "babel.dates", "zoneinfo")
    code = f"import sys, relatum; relatum.open('nursery.toml'); print([name for name in {without!r} if name in sys.modules])"
    result = subprocess.run(
        [sys.executable, "-c", code], cwd=hollowmere.parent, capture_output=True, text=True, check=True
    )
    assert result.stdout == "[]\n"


@pytest.mark.outside
def test_texts_that_were_parsed_before_do_not_load_the_parser(hollowmere: Path, tmp_path: Path) -> None:
    code = (
        "import sys; from relatum.cli.main import app\n"
        "try: app(['pivot', 'nursery.toml', 'departments'])\nexcept SystemExit: pass\n"
        "print('lark' in sys.modules)"
    )
    first, second = (
        subprocess.run(
            [sys.executable, "-c", code], cwd=hollowmere.parent, capture_output=True, text=True, check=True,
            env={**os.environ, "XDG_CACHE_HOME": str(tmp_path)},
        ).stdout
        for _ in range(2)
    )  # fmt: skip
    assert first.endswith("True\n") and second == first.removesuffix("True\n") + "False\n"


@pytest.mark.outside
def test_garbage_is_looked_for_seldom_while_a_command_starts_and_as_usual_while_one_goes_on() -> None:
    code = (
        "import gc; usual = gc.get_threshold()\n"
        "from relatum.runtime.garbage import look_as_usual, look_seldom\n"
        "look_as_usual(); print(gc.get_freeze_count(), end=' ')\n"
        "look_seldom(); print(gc.get_threshold()[0] > 100 * usual[0], end=' ')\n"
        "look_as_usual(); print(gc.get_threshold() == usual, gc.get_freeze_count() > 0)"
    )
    result = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert result.stdout.split() == ["0", "True", "True", "True"]


def test_the_demo_writes_and_asks(tmp_path: Path) -> None:
    result = run("demo", tmp_path / "hm", "--lines", "4000", width=110)
    assert result.exit_code == 0
    lines = result.stdout.splitlines()
    assert lines[0] == "nursery  revenue, margin"
    assert any(line.startswith("(no match)") for line in lines)
    assert any(line.startswith("total") for line in lines)
    assert lines[-1].startswith("note: ")
    assert len(lines) <= 24, "one screen"
    assert "relatum check" in result.stderr
    again = run("demo", tmp_path / "hm", "--lines", "2000", "--format", "json")
    assert json.loads(again.stdout)["model"] == "nursery"


def test_pivot_as_text(hollowmere: Path) -> None:
    result = run("pivot", hollowmere, "--rows", "customer.region", "--columns", "calendar.year", "--values", "margin_rate",
                 "--where", "category.department = 'Edibles'", width=80)  # fmt: skip
    assert result.exit_code == 0
    lines = result.stdout.splitlines()
    assert lines[1] == "where category.department = 'Edibles'"
    assert lines[2].split() == ["region", "2022", "2023", "2024", "total"]
    assert all(len(line) <= 80 for line in lines)


def test_pivot_for_programs(hollowmere: Path, nursery: relatum.Model, tmp_path: Path) -> None:
    question = [
        "--rows",
        "customer.region",
        "--rows",
        "customer.kind",
        "--values",
        "revenue",
        "--values",
        "n: count(sales)",
    ]
    document = json.loads(run("pivot", hollowmere, *question, "--format", "json").stdout, parse_float=Decimal)
    expected = nursery.pivot(rows=["customer.region", "customer.kind"], values=["revenue", "n: count(sales)"])
    assert document["records"] == expected.to_arrow().to_pylist()
    result = run("pivot", hollowmere, *question, "--format", "csv")
    rows = list(csv.DictReader(io.StringIO(result.stdout)))
    assert len(rows) == expected.to_arrow().num_rows
    assert "note: " in result.stderr, "notes do not get lost, nor into the table"
    with_totals = run("pivot", hollowmere, *question, "--format", "csv", "--totals")
    assert "customer.kind:total" in with_totals.stdout.splitlines()[0]
    out = tmp_path / "grid.csv"
    result = run("pivot", hollowmere, *question, "--format", "csv", "--out", out)
    assert result.stdout == ""
    assert list(csv.DictReader(io.StringIO(out.read_text()))) == rows
    assert run("pivot", hollowmere, *question, "--out", tmp_path / "grid.txt").exit_code == 0
    assert (tmp_path / "grid.txt").read_text().startswith("nursery  revenue, n\n")


def test_pivot_shows_empty_members_when_asked(hollowmere: Path) -> None:
    plain = run("pivot", hollowmere, "--rows", "category.category", "--values", "quantity").stdout
    wide = run("pivot", hollowmere, "--rows", "category.category", "--values", "quantity", "--empty").stdout
    assert "Floating Plants" not in plain
    assert "Floating Plants" in wide
    bare = run("pivot", hollowmere, "--rows", "category.category", "--values", "quantity", "--no-totals").stdout
    assert "total" not in bare


def test_check_exit_codes(hollowmere: Path, tmp_path: Path) -> None:
    result = run("check", hollowmere)
    assert result.exit_code == 1
    assert result.stdout.splitlines()[-1] == "3 problems in 8 tables, 10 relationships, 14 measures and 3 controls."
    first = [line.split()[0] for line in result.stdout.splitlines() if line.startswith(("problem", "remark"))]
    assert first == sorted(first), "problems come first"
    report = json.loads(run("check", hollowmere, "--format", "json").stdout)
    assert {finding["severity"] for finding in report["findings"]} == {"problem", "remark"}
    (tmp_path / "t.csv").write_text("a\n1\n")
    clean = tmp_path / "clean.toml"
    clean.write_text('relatum = 1\n[table.t]\nsource = "t.csv"\nkey = "a"\n[measure.m]\nformula = "sum(t.a)"\n'
                     '[[control]]\nmeasure = "m"\nequals = 1\n')  # fmt: skip
    assert run("check", clean).exit_code == 0
    assert "No problem in 1 table" in run("check", clean).stdout
    clean.write_text(clean.read_text().replace("equals = 1", "equals = 3.5"))
    result = run("check", clean)
    assert result.exit_code == 1
    assert "expected 3.5, got 1, difference -2.5" in result.stdout
    (tmp_path / "t.csv").write_text("a\n1\n1\n\n,\n")
    assert "key a is not unique: 1 value on 2 rows" in run("check", clean).stdout or run("check", clean).exit_code == 2


def test_show(hollowmere: Path) -> None:
    whole = run("show", hollowmere, width=120).stdout
    assert f"{LINES:,}" in whole
    assert "as of" in whole
    assert "1 : n level calendar → quota" in " ".join(whole.split())
    assert "stored derived columns: product.pot_class" in whole
    assert "control 2  quantity  calendar.year = 2023" in whole
    assert "attainment" in whole
    table = run("show", hollowmere, "product", width=120).stdout
    assert "pot_class" in table
    assert "case when pot_litres >= 10" in table
    assert "price.product_id" in table
    document: dict[str, Any] = json.loads(run("show", hollowmere, "price.unit_price", "--format", "json").stdout)
    assert [column["name"] for column in document["tables"][0]["columns"]] == ["unit_price"]
    assert run("show", hollowmere, "revenue").exit_code == 0
    kinds = {
        table["name"]: table["kind"]
        for table in json.loads(run("show", hollowmere, "--format", "json").stdout)["tables"]
    }
    assert kinds == {"sales": "fact", "quota": "fact", "stock": "fact", "product": "lookup", "category": "lookup",
                     "price": "lookup", "customer": "lookup", "calendar": "calendar"}  # fmt: skip


def test_relationships_read_the_same_whichever_end_is_named_first(tmp_path: Path) -> None:
    for name, text in {"a": "k,v\nx,1\ny,2\n", "b": "k,w\nx,1\nx,2\nz,3\n", "c": "k\nx\ny\n"}.items():
        (tmp_path / f"{name}.csv").write_text(text)
    tables = "".join(f'[table.{name}]\nsource = "{name}.csv"\n' for name in "abc")

    def shown(*links: str) -> str:
        said = "".join(f'[[relationship]]\nlink = "{link}"\n' for link in links)
        said = said.replace(">-< ", ">-< ")
        (tmp_path / "m.toml").write_text(f"relatum = 1\n{tables}{said}")
        return run("show", tmp_path / "m.toml").stdout

    assert shown("b.k -> a.k", "a.k <-> c.k") == shown("a.k <- b.k", "c.k <-> a.k")
    text = " ".join(shown("b.k -> a.k", "a.k <-> c.k").split())
    assert "a.k b.k 1 : n a → b 66.67% 3" in text
    assert "c.k a.k 1 : 1 a ↔ c 100% 2" in text
    many = 'link = "a.k >-< b.k"\ndirection = "left"', 'link = "b.k >-< a.k"\ndirection = "right"'
    texts = []
    for link in many:
        (tmp_path / "m.toml").write_text(f"relatum = 1\n{tables}[[relationship]]\n{link}\n")
        texts.append(run("show", tmp_path / "m.toml").stdout)
    assert texts[0] == texts[1]


PROGRESS = """
import sys
from relatum.cli import output
output._MOMENT = 0
from relatum.cli.main import app
app(["check", sys.argv[1]], standalone_mode=False)
"""


@pytest.mark.outside
def test_progress_goes_to_a_terminal_and_nowhere_else(hollowmere: Path) -> None:
    def ask(terminal: bool) -> tuple[str, str]:
        ours, theirs = pty.openpty()
        command = [sys.executable, "-c", PROGRESS, str(hollowmere)]
        environment = {**os.environ, "TERM": "xterm", "COLUMNS": "100"}
        process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=theirs if terminal else subprocess.PIPE, text=True, env=environment
        )
        os.close(theirs)
        shown = ""
        if terminal:
            with contextlib.suppress(OSError):
                while part := os.read(ours, 1 << 16):
                    shown += part.decode(errors="replace")
        out, err = process.communicate()
        os.close(ours)
        return out, shown if terminal else err

    quiet_out, quiet_err = ask(terminal=False)
    out, shown = ask(terminal=True)
    assert out == quiet_out, "results are the same"
    assert any(word in shown for word in ("looking at", "reading", "joining", "checking", "working out"))
    assert shown.endswith("\x1b[2K"), "and is gone when the work is done"
    assert quiet_err == ""


def test_a_listener_hears_how_far_work_has_come(hollowmere: Path) -> None:
    heard: list[tuple[str, int, int]] = []
    with relatum.listening(lambda *step: heard.append(step)):
        relatum.open(hollowmere).check()
    assert ("reading sales", 0, 8) in heard
    assert any(what.startswith("joining sales.product_id") for what, _, _ in heard)
    assert all(0 <= done <= max(total, done) for _, done, total in heard)
    count = len(heard)
    relatum.open(hollowmere)
    assert len(heard) == count, "nobody listens any more"


def make_broken(folder: Path) -> None:
    """Files that are wrong in every way that the table below names."""
    (folder / "folder").mkdir()
    (folder / "empty.toml").write_text("")
    (folder / "binary.toml").write_bytes(bytes(range(256)) * 20)
    (folder / "deep.toml").write_text("relatum = 1\nx = " + "[" * 10_000)
    for name, heading in {"twice": "a,b,a", "plain": "a,b,c", "binary": "\0\1\2"}.items():
        (folder / f"{name}.csv").write_text(f"{heading}\n1,2,3\n")
        (folder / f"{name}.toml").write_text(f'relatum = 1\n[table.t]\nsource = "{name}.csv"\n')
    (folder / "blank.csv").write_text("")
    (folder / "blank.toml").write_text('relatum = 1\n[table.t]\nsource = "blank.csv"\n')
    (folder / "nocolumn.toml").write_text('relatum = 1\n[table.t]\nsource = "plain.csv"\nkey = "z"\n')
    (folder / "nosource.toml").write_text('relatum = 1\n[table.t]\nsource = "gone.csv"\n')
    (folder / "parquet.toml").write_text('relatum = 1\n[table.t]\nsource = "fake.parquet"\n')
    (folder / "fake.parquet").write_text("PAR1")


BROKEN = [
    (["check", "missing.toml"], "no such file"), (["check", "folder"], "a folder"), (["check", "empty.toml"], "empty"),
    (["check", "binary.toml"], "not a text file"), (["check", "deep.toml"], "not TOML"), (["show", "twice.toml"], "more than once"),
    (["show", "blank.toml"], "empty"), (["show", "nocolumn.toml"], "no column z"), (["show", "nosource.toml"], "no such file"),
    (["show", "parquet.toml"], "not a file of the expected kind"), (["pivot", "plain.toml", "--values", "x"], "no measure x"),
    (["pivot", "plain.toml", "--values", "sum(t.z)"], "no column z"), (["pivot", "plain.toml", "--values", "(" * 10_000], "100 levels deep"),
    (["pivot", "plain.toml", "--values", "sum(t.a)", "--rows", "t.z"], "no column z"),
    (["pivot", "plain.toml", "--values", "sum(t.a)", "--where", "t.a >"], "ends too early"),
    (["pivot", "plain.toml", "--values", "sum(t.a)", "--out", "nowhere/x.csv"], "cannot be written"),
    (["pivot", "plain.toml", "--values", "sum(t.a)", "--out", "folder"], "files ending in nothing"), (["pivot", "plain.toml", "--values", "sum(t.a)", "--out", "x.ods"], "Known endings: .csv, .json, .parquet"),
    (["show", "plain.toml", "nothing"], "no table or measure nothing"), (["show", "plain.toml", "t.z"], "no column t.z"),
    (["demo", "plain.csv"], "the demo needs a folder"), (["check", "binary.csv"], "not TOML"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "message"), BROKEN)
def test_broken_input_is_a_sentence_and_exit_code_2(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, arguments: list[str], message: str
) -> None:
    make_broken(tmp_path)
    monkeypatch.chdir(tmp_path)
    before = {path: path.stat().st_mtime_ns for path in tmp_path.rglob("*")}
    result = run(*arguments)
    assert result.exit_code == 2
    assert result.stdout == ""
    assert result.stderr.startswith("error: ")
    assert message in result.stderr
    assert "fault of Relatum" not in result.stderr
    assert len(result.stderr) < 1_000
    assert {path: path.stat().st_mtime_ns for path in tmp_path.rglob("*")} == before


@pytest.mark.parametrize(
    "arguments", [["pivot"], ["members", "x.toml"], ["nonsense"], ["demo", "--lines", "0"], ["show", "a", "b", "c"]]
)
def test_a_wrong_call_shows_how_to_call(arguments: list[str]) -> None:
    result = run(*arguments)
    assert result.exit_code == 2
    assert "Usage: " in result.stderr
    assert "Traceback" not in result.stderr


def test_a_fault_of_our_own_is_no_traceback_either(hollowmere: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fail(*_: object) -> None:
        raise ZeroDivisionError("boom")

    monkeypatch.setattr(relatum, "open", fail, raising=False)
    result = run("check", hollowmere)
    assert result.exit_code == 2
    assert "bug in Relatum: ZeroDivisionError: boom" in result.stderr
    assert "Traceback" not in result.stderr


@pytest.mark.outside
def test_a_reader_that_goes_away_is_no_error(hollowmere: Path) -> None:
    command = (
        f"{sys.executable} -m relatum pivot {hollowmere} --rows sales.order_no --values quantity --format csv | head -1"
    )
    result = subprocess.run(
        ["bash", "-o", "pipefail", "-c", command], capture_output=True, text=True, env={**os.environ}
    )
    assert result.stdout.startswith("sales.order_no")
    assert "Error" not in result.stderr
