"""Files damaged at random, read by each reader: never a dead process, a hang, or an error that is not ours.

``python tests/support/fuzz.py SECONDS [READER…]`` looks for more than the tests do, and says what it found and in which file.
"""

from __future__ import annotations

import gzip
import importlib
import os
import select
import signal
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st

import relatum
from fault import MODEL, edit, make_shop, workbook
from faults_hostile import duck, ipc_bytes, lite, package, parquet_bytes, zipped
from forker import LOADED
from relatum.errors import RelatumError

#: A reader that says nothing for so long hangs; one that takes more memory than that takes too much.
PATIENCE, MEMORY = 60.0, 1500.0
LINES = b'{"product_id": "P1", "quantity": 2, "at": "2024-01-02T10:00:00", "tags": null}\n{"product_id": "P2", "quantity": 3.5}\n'


def _file(name: str, made: Callable[[Path], bytes] | bytes, part: str = "") -> tuple[str, Callable[[Path], bytes]]:
    stated = f'source = "{name}"' + (f'\npart = "{part}"' if part else "")
    return stated, made if callable(made) else lambda _: made


def _after(done: Callable[[Path], object], name: str) -> Callable[[Path], bytes]:
    def made(folder: Path) -> bytes:
        done(folder)
        return (folder / name).read_bytes()

    return made


TYPED = b'product_id,quantity,price,sold,paid\nP1,2,1.25,2024-01-02,true\nP2,,7.5,2024-02-29,false\n"P,1",1,-3e5,,\n'
#: What is damaged: how the model names it, and its content as it was.
READERS: dict[str, tuple[str, Callable[[Path], bytes]]] = {
    "csv": _file("sales.csv", TYPED),
    "packed csv": _file("sales.csv.gz", lambda _: gzip.compress(TYPED)),
    "zipped csv": _file("sales.zip", lambda _: zipped(sales__csv=TYPED)),
    "json lines": _file("sales.jsonl", LINES),
    "arrow": _file("sales.arrow", lambda _: ipc_bytes()),
    "arrow stream": _file("sales.arrow", lambda _: ipc_bytes(stream=True)),
    "parquet": _file("sales.parquet", lambda _: parquet_bytes()),
    "plain parquet": _file("sales.parquet", lambda _: parquet_bytes(compression="none", use_dictionary=False)),
    "workbook": _file("sales.xlsx", _after(workbook(("product_id", "quantity", "at"), ("P1", 2, "=1+1"), ("P2", 3.5, None)), "sales.xlsx")),
    "sqlite": _file("shop.sqlite", _after(lite(), "shop.sqlite"), "sales"),
    "duckdb": _file("shop.duckdb", _after(duck(), "shop.duckdb"), "sales"),
    "model": ("", lambda _: MODEL.encode()),
    "sheet": ("", lambda _: b""),
    "package": ("", _after(package(primaryKey="product_id"), "datapackage.json")),
    "formula": ("", lambda _: b"sum(sales.quantity * product.price where product.plant in ('Fern', 'Ivy'))[ignoring product, keep top 3 product by revenue] / let x = 1.5e3 then case when x > 2 then null else x end"),
}  # fmt: skip
POINT = st.floats(0, 1, exclude_max=True)
WORDS = st.sampled_from(
    [
        b"\0",
        b"\xff",
        b"\xff\xff\xff\xff",
        b"\x7f\xff\xff\xff",
        b"\x80\0\0\0",
        b'"',
        b"\n",
        b"\r\n",
        b",",
        b"[",
        b"{",
        b"(" * 200,
        b"-",
        b"=",
        b".",
        b"'",
        b"<",
        b"&a;",
        b"\xed\xa0\x80",
        b"9" * 400,
        b"1e999",
        b"\xef\xbb\xbf",
        b"PK",
        b"\0" * 64,
    ]
)
CHANGE = st.one_of(
    st.tuples(st.just("put"), POINT, WORDS), st.tuples(st.just("over"), POINT, WORDS), st.tuples(st.just("over"), POINT, st.binary(min_size=1, max_size=8)),
    st.tuples(st.just("cut"), POINT, POINT), st.tuples(st.just("twice"), POINT, POINT), st.tuples(st.just("end"), POINT, st.just(b"")), st.tuples(st.just("bit"), POINT, st.integers(0, 7)),
)  # fmt: skip
CHANGES = st.lists(CHANGE, min_size=1, max_size=6)


def changed(content: bytes, changes: list[tuple[str, float, Any]]) -> bytes:
    """Content after some changes."""
    for kind, at, what in changes:
        place = int(at * len(content))
        match kind:
            case "put":
                content = content[:place] + what + content[place:]
            case "over":
                content = content[:place] + what + content[place + len(what) :]
            case "cut":
                content = content[:place] + content[place + int(what * (len(content) - place)) :]
            case "twice":
                stop = place + int(what * (len(content) - place))
                content = content[:stop] + content[place:]
            case "end":
                content = content[:place]
            case "bit":
                content = (
                    content[:place] + bytes([content[place] ^ 1 << what]) + content[place + 1 :] if content else b""
                )
    return content


def read(reader: str, folder: Path, content: bytes) -> None:
    """Read damaged content, all of it; an error that is ours is right."""
    stated, _ = READERS[reader]
    model = folder / "shop.toml"
    try:
        match reader:
            case "model":
                model.write_bytes(content)
                relatum.open(model, cache=False).check()
            case "package":
                (folder / "datapackage.json").write_bytes(content)
                relatum.draft(folder / "datapackage.json")
            case "sheet":
                _write_sheet(folder, content)
                _all_of(relatum.open(model, cache=False))
            case "formula":
                relatum.open(model, cache=False).pivot("product.plant", values=content.decode("utf-8", "replace"))
            case _:
                (folder / stated.split('"')[1]).write_bytes(content)
                _all_of(relatum.open(model, cache=False))
    except RelatumError as error:
        str(error)


def _all_of(model: relatum.Model) -> None:
    for name, data in model.session.data.items():
        for column in data.types:
            try:
                model.members(f'{name}."{column.replace(chr(34), chr(34) * 2)}"')
            except RelatumError:
                continue
    model.check()


def _write_sheet(folder: Path, content: bytes) -> None:
    import zipfile  # noqa: PLC0415

    workbook(("product_id", "quantity"), ("P1", 2), ("P2", 3))(folder)
    with zipfile.ZipFile(folder / "sales.xlsx") as packed:
        parts = {name: packed.read(name) for name in packed.namelist()}
    sheet = "xl/worksheets/sheet1.xml"
    with zipfile.ZipFile(folder / "sales.xlsx", "w") as packed:
        for name, part in parts.items():
            packed.writestr(name, content if name == sheet else part)


def begin(reader: str, folder: Path) -> bytes:
    """A model over the file to be damaged, and the file's original content."""
    make_shop(folder)
    stated, made = READERS[reader]
    content = made(folder)
    if reader == "sheet":
        stated = 'source = "sales.xlsx"'
        import zipfile  # noqa: PLC0415

        workbook(("product_id", "quantity", "at"), ("P1", 2, "=1+1"), ("P2", 3.5, None))(folder)
        with zipfile.ZipFile(folder / "sales.xlsx") as packed:
            content = packed.read("xl/worksheets/sheet1.xml")
    if stated:
        edit("shop.toml", 'source = "sales.csv"', stated)(folder)
        edit("shop.toml", MODEL[MODEL.index("[measure.revenue]") :], "")(folder)
        edit("shop.toml", MODEL[MODEL.index("[table.product.derived") : MODEL.index("[measure.revenue]")], "")(folder)
    return content


def examples(reader: str, number: int, count: int, told: int = -1) -> None:
    """Read a number of damaged files; each is announced before it is read, and is beside the model meanwhile."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        content = begin(reader, folder)
        last = Path(f"/tmp/relatum-fuzz-{reader.replace(' ', '-')}-{number}.bin")

        @seed(number)
        @settings(
            max_examples=count,
            deadline=None,
            database=None,
            phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )
        @given(CHANGES)
        def one(changes: list[tuple[str, float, Any]]) -> None:
            damaged = changed(content, changes)
            if told >= 0:
                last.write_bytes(damaged)
                os.write(told, b".")
            read(reader, folder, damaged)

        one()
        last.unlink(missing_ok=True)


def guarded(reader: str, number: int, count: int) -> tuple[str, int]:
    """Read a number of them in a separate process; returns what went wrong, if anything, and how many were read."""
    heard, told = os.pipe()
    child = os.fork()
    if not child:
        try:
            os.close(heard)
            examples(reader, number, count, told)
            os._exit(0)
        except BaseException:
            Path(f"/tmp/relatum-fuzz-{reader.replace(' ', '-')}-{number}.txt").write_text(
                traceback.format_exc()[-3000:]
            )
            os._exit(1)
    os.close(told)
    done, said = 0, ""
    while True:
        if not select.select([heard], [], [], PATIENCE)[0]:
            os.kill(child, signal.SIGKILL)
            said = "hangs"
            break
        part = os.read(heard, 4096)
        if not part:
            break
        done += len(part)
    os.close(heard)
    _, status, used = os.wait4(child, 0)
    if not said and os.WIFSIGNALED(status):
        said = f"dead by signal {os.WTERMSIG(status)}"
    elif not said and os.WEXITSTATUS(status):
        said = "an error that is none of ours"
    elif not said and used.ru_maxrss / 1024 > MEMORY:
        said = f"{used.ru_maxrss / 1024:,.0f} MB"
    return said, done


def main() -> None:
    """Look until the time is over; with 0 seconds once, at a few files of each."""
    end = time.monotonic() + float(sys.argv[1])
    readers = sys.argv[2:] or list(READERS)
    for name in LOADED:
        importlib.import_module(name)  # once, and not in each process that is forked
    short = float(sys.argv[1]) == 0
    counts, number = dict.fromkeys(readers, 0), 0 if short else int(time.time()) % 100_000 * 1000
    while (short and number == 0) or time.monotonic() < end:
        for reader in readers:
            number += 1
            said, done = guarded(reader, number, 3 if short else 100)
            counts[reader] += done
            if said:
                print(f"{reader}: {said}: /tmp/relatum-fuzz-{reader.replace(' ', '-')}-{number}.bin", flush=True)
    print(f"{sum(counts.values()):,} files read:", ", ".join(f"{reader} {count:,}" for reader, count in counts.items()))


if __name__ == "__main__":
    main()
