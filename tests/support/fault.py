"""A fault: a change to a small model or its data, and what the shell must say about it."""

from __future__ import annotations

import re
import sqlite3
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq

from forker import Forker, Outcome
from stall import run

MODEL = """relatum = 1
name = "shop"

[table.sales]
source = "sales.csv"

[table.product]
source = "product.csv"
key = "product_id"

[table.product.derived.dear]
formula = "price > 4"

[[relationship]]
link = "sales.product_id -> product.product_id"

[measure.revenue]
formula = "sum(sales.quantity * product.price)"
format = "¤#,##0"

[measure.share]
formula = "revenue / revenue[ignoring product]"

[[control]]
measure = "revenue"
equals = 36
"""
SALES = "product_id,quantity\nP1,2\nP2,3\nP1,1\n"
PRODUCT = "product_id,plant,price\nP1,Fern,5\nP2,Ivy,7\n"
Break = Callable[[Path], object]
#: A process that may write hardly anything, and one that dies when a file that it has written is moved into place.
FULL = "import resource; resource.setrlimit(resource.RLIMIT_FSIZE, (100, 100))"
KILLED = "import os, pathlib; pathlib.Path.replace = lambda *_: os._exit(137)"


@dataclass(frozen=True)
class Fault:
    """One thing that is wrong: what, how it is done, the command, and a part of what it must say.

    ``code`` is the exit code: 2 where nothing can be read or answered, 1 where a problem is reported. ``prelude`` is what
    happens to the process before the command, ``stdout`` where its output goes. It must end within ``seconds``, and take
    no more than so many megabytes of ``memory``.
    """

    what: str
    done: Break
    says: str
    command: tuple[str, ...] = ("check", "shop.toml")
    code: int = 2
    prelude: str = ""
    stdout: str = ""
    seconds: float = 10.0
    memory: float = 300.0


def make_shop(folder: Path) -> None:
    """A model of two tables that is right."""
    (folder / "shop.toml").write_text(MODEL, encoding="utf-8")
    (folder / "sales.csv").write_text(SALES, encoding="utf-8")
    (folder / "product.csv").write_text(PRODUCT, encoding="utf-8")


def edit(name: str, old: str, new: str) -> Break:
    """A file with a piece of text replaced."""

    def done(folder: Path) -> None:
        text = (folder / name).read_text(encoding="utf-8")
        assert old in text
        (folder / name).write_text(text.replace(old, new), encoding="utf-8")

    return done


def add(text: str) -> Break:
    """The model with more at its end."""

    def done(folder: Path) -> None:
        with (folder / "shop.toml").open("a", encoding="utf-8") as file:
            file.write(text)

    return done


def write(name: str, content: bytes) -> Break:
    """A file with other content."""
    return lambda folder: (folder / name).write_bytes(content)


def source(text: str, then: Break = lambda folder: None) -> Break:
    """The table sales with another source."""

    def done(folder: Path) -> None:
        edit("shop.toml", 'source = "sales.csv"', text)(folder)
        then(folder)

    return done


def workbook(*rows: tuple[object, ...]) -> Break:
    """A workbook of one sheet."""

    def done(folder: Path) -> None:
        book = openpyxl.Workbook()
        for row in rows:
            book.active.append(list(row))
        book.save(folder / "sales.xlsx")

    return done


def both(first: Break, second: Break) -> Break:
    """Two things."""

    def done(folder: Path) -> None:
        first(folder)
        second(folder)

    return done


def refreshed_then(done: Break) -> Break:
    """A refresh first, so that there is a former state; then something breaks."""

    def both(folder: Path) -> None:
        assert run("refresh", folder / "shop.toml").exit_code == 0
        done(folder)

    return both


def parquet_cut_short(folder: Path) -> None:
    pq.write_table(pa.table({"product_id": ["P1"], "quantity": [1]}), folder / "sales.parquet")
    content = (folder / "sales.parquet").read_bytes()
    (folder / "sales.parquet").write_bytes(content[: len(content) // 2])


def sqlite_without_table(folder: Path) -> None:
    with sqlite3.connect(folder / "shop.sqlite") as base:
        base.execute("create table orders (a int)")
    base.close()


def archive(folder: Path) -> None:
    with zipfile.ZipFile(folder / "sales.zip", "w") as packed:
        packed.writestr("a.csv", SALES)
        packed.writestr("b.csv", SALES)


def far_moment(folder: Path) -> None:
    table = pa.table({"product_id": ["P1"], "quantity": [1], "sold_at": pa.array([10**14], pa.timestamp("s"))})
    with pa.ipc.new_file(str(folder / "sales.arrow"), table.schema) as writer:
        writer.write_table(table)


def pivot(*values: str, where: str = "") -> tuple[str, ...]:
    """A pivot of values."""
    return (
        "pivot",
        "shop.toml",
        *(part for value in values for part in ("--values", value)),
        *(("--where", where) if where else ()),
    )


def two_shapes(folder: Path) -> None:
    (folder / "parts").mkdir()
    (folder / "parts" / "a.csv").write_text(SALES)
    (folder / "parts" / "b.csv").write_text("product_id,number\nP1,1\n")


def holdings(folder: Path) -> dict[str, bytes]:
    """All that a person has in a folder; the cache can be made again."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and ".relatum" not in path.parts
    }


def said_of(result: Outcome) -> str:
    """All that a command said; lines broken to fit the terminal are whole again."""
    return result.stderr + re.sub(r" *\n {8,}", " ", result.stdout)


def run_fault(fault: Fault, folder: Path, forker: Forker) -> Outcome:
    """Ask in a folder in which something is wrong."""
    return forker.run(folder, *fault.command, seconds=3 * fault.seconds, prelude=fault.prelude, stdout=fault.stdout)
