"""Hostile inputs: files made to harm, paths that lead elsewhere, outputs that cannot be written, limits that are met."""

from __future__ import annotations

import base64
import gzip
import json
import os
import sqlite3
import struct
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

import duckdb
import openpyxl
import pyarrow as pa
import pyarrow.ipc as paipc
import pyarrow.parquet as pq

from fault import MODEL, SALES, Break, Fault, add, both, edit, pivot, refreshed_then, source, workbook, write

NOTHING: Break = lambda folder: None  # noqa: E731
TABLE = pa.table({"product_id": ["P1", "P2", "P1"], "quantity": [2, 3, 1]})


def data(name: str, content: bytes | Callable[[], bytes]) -> Break:
    """The table sales in a file of this content."""
    return source(
        f'source = "{name}"',
        lambda folder: (folder / name).write_bytes(content if isinstance(content, bytes) else content()),
    )


def ipc_bytes(table: pa.Table = TABLE, stream: bool = False) -> bytes:
    """A table in Arrow's format."""
    sink = pa.BufferOutputStream()
    with (paipc.new_stream if stream else paipc.new_file)(sink, table.schema) as writer:
        writer.write_table(table)
    return sink.getvalue().to_pybytes()


def parquet_bytes(table: pa.Table = TABLE, **options: object) -> bytes:
    """A table as Parquet."""
    sink = pa.BufferOutputStream()
    pq.write_table(table, sink, **options)
    return sink.getvalue().to_pybytes()


def wild_offsets() -> bytes:
    """A column of texts whose offsets lead anywhere."""
    right, wild = struct.pack("<4i", 0, 2, 4, 6), struct.pack("<4i", 0, 2_000_000_000, 5, -7)
    content = ipc_bytes()
    assert content.count(right) == 1
    return content.replace(right, wild)


def wild_codes() -> bytes:
    """A column of codes for which there are no texts."""
    codes = pa.DictionaryArray.from_arrays(pa.array([0, 99, 1], pa.int32()), pa.array(["P1", "P2"]), safe=False)
    return ipc_bytes(pa.table({"product_id": codes, "quantity": [1, 2, 3]}))


def no_utf8() -> pa.Array:
    """Texts that are not ordinary texts."""
    return pa.Array.from_buffers(
        pa.string(), 1, [None, pa.py_buffer(struct.pack("<2i", 0, 2)), pa.py_buffer(b"\xff\xfe")]
    )


def zipped(**members: bytes) -> bytes:
    """An archive of members."""
    import io  # noqa: PLC0415

    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, content in members.items():
            packed.writestr(name.replace("__", "."), content)
    return out.getvalue()


def book_with(member: str, change: Callable[[bytes], bytes]) -> Break:
    """A workbook of which one part is changed."""

    def done(folder: Path) -> None:
        workbook(("product_id", "quantity"), ("P1", 2), ("P2", 3), ("P1", 1))(folder)
        with zipfile.ZipFile(folder / "sales.xlsx") as packed:
            parts = {name: packed.read(name) for name in packed.namelist()}
        with zipfile.ZipFile(folder / "sales.xlsx", "w", zipfile.ZIP_DEFLATED) as packed:
            for name, content in parts.items():
                packed.writestr(name, change(content) if name == member else content)

    return source('source = "sales.xlsx"', done)


#: A Parquet file whose statistics of one column are damaged: asked for them, the library ends the process.
BAD_STATISTICS = zlib.decompress(
    base64.b85decode(
        "c-obdO>fgc5Qb+r*2=AXNGo==EBTN^V-?8_Nu-t!<-j;f2#^XV0xEhzQ5=OJXk0gG;KqR?M}A+0IP)Xe^~OmNTo}oo_0G)m?ySZ!4jbIzlKXw_U?0E>DFDQc{N3ch_qhl;<7NFY{{#+c+>|tK?Ct4<"
        "or+0ggp{Z*uk%`8XBmogDD03{39ON|*SI@eZgJ8rGNfDN2sr%5ZZ5ZbVC87(0Jx)C#~|6&_}%2=h&#Z&Y9x2lY@RH~i?_3+3Vq*5I#nv&%jM`|F<X2F!IZDU0DSJLV_;=<yM$B0#8)D|k>GLQ{@JVw"
        "%>{94dMInx5}slz0H!qz&ROF&QaS8~h#w@lA;EX@f6e|ScefA|KQ%aT#V-oVmmUs>FU}s>TaaJqJ!AK$sBM7Oo+GX>nqn7mitRjvQG|GE7H!0*`Nr0xT}H1q-={A%^nqS<+MT>8M|W^z1{!@z&brIw"
        "$%p!6P(W6O-?MS6J6J=zdHfAVD|?R4_PkLv+(6goDf&Ph_nuv!_g=qGx)0NH8^2YG2(prnvdiUUaWqcTqfwU4SC#8Yb~T${RGKHXdaa>CJr`y)+IpH|{R8|4ej|qn"
    )
)
SHEET = "xl/worksheets/sheet1.xml"


def far_cell(folder: Path) -> None:
    book = openpyxl.Workbook()
    for row in (("product_id", "quantity"), ("P1", 2), ("P2", 3), ("P1", 1)):
        book.active.append(row)
    book.active["XFD1048576"] = 5
    book.save(folder / "sales.xlsx")


def lite(*statements: str) -> Break:
    """A file of SQLite."""

    def done(folder: Path) -> None:
        base = sqlite3.connect(folder / "shop.sqlite")
        base.executescript(
            "".join(
                f"{each};"
                for each in (
                    "create table sales (product_id text, quantity int)",
                    "insert into sales values ('P1', 2), ('P2', 3), ('P1', 1)",
                    *statements,
                )
            )
        )
        base.close()

    return done


def duck(*statements: str) -> Break:
    """A file of DuckDB."""

    def done(folder: Path) -> None:
        with duckdb.connect(str(folder / "shop.duckdb")) as base:
            for each in ("create table sales as select 'P1' as product_id, 2 as quantity", *statements):
                base.execute(each)

    return done


def asked(kind: str, query: str) -> str:
    """A source that is a query."""
    return f'source = "shop.{kind}"\nquery = """{query}"""'


def package(**said: object) -> Break:
    """A Data Package of the sales, with other words for its resource."""
    resource = {
        "name": "sales",
        "path": "sales.csv",
        "schema": {"fields": [{"name": "product_id"}, {"name": "quantity", "type": "integer"}]},
    } | said
    return lambda folder: (folder / "datapackage.json").write_text(json.dumps({"resources": [resource]}))


def link(name: str, target: str) -> Break:
    """A link."""
    return lambda folder: (folder / name).unlink(missing_ok=True) or (folder / name).symlink_to(target)


def pipe(name: str) -> Break:
    """A pipe that nobody writes to."""
    return lambda folder: (folder / name).unlink(missing_ok=True) or os.mkfifo(folder / name)


def damaged(content: bytes, start: float, stop: float) -> bytes:
    """Content with a part of it, given as fractions of the whole, reversed."""
    first, last = int(len(content) * start), int(len(content) * stop)
    return content[:first] + bytes(255 - each for each in content[first:last]) + content[last:]


def draft(*what: str) -> tuple[str, ...]:
    return ("draft", *what, "-o", "new.toml")


ASK = pivot("revenue")
BY_PLANT = ("pivot", "shop.toml", "--rows", "product.plant", "--values", "revenue")
DEEP = "(" * 5000 + "1" + ")" * 5000
HOSTILE = [
    # paths
    Fault("a source is a pipe", pipe("sales.csv"), "This is a pipe, not a file"),
    Fault("a model is a pipe", pipe("shop.toml"), "This is a pipe, not a model file"),
    Fault("a model is a device", NOTHING, "This is a device, not a model file", ("check", "/dev/zero")),
    Fault("a source is a device", source('source = "/dev/zero"'), "lies outside the model's folder"),
    Fault("links lead in a circle", both(link("sales.csv", "again.csv"), link("again.csv", "sales.csv")), "Too many levels of symbolic links"),
    Fault("a model is a link in a circle", link("shop.toml", "shop.toml"), "cannot be followed", ("check", "shop.toml")),
    Fault("a link leads out of the folder", link("sales.csv", "/etc/hostname"), "lies outside the model's folder"),
    Fault("a link to nothing", link("sales.csv", "gone.csv"), "no such file"),
    Fault("a member of a folder leads out of it", source('source = "parts"', lambda folder: ((folder / "parts").mkdir(), (folder / "parts" / "a.csv").symlink_to("/etc/hostname"))), "leads outside the model's folder"),
    Fault("a match of a pattern leads out of it", source('source = "s*s.csv"', link("sales.csv", "/etc/hostname")), "leads outside the model's folder"),
    Fault("a folder is a link out of it", source('source = "parts"', link("parts", "/etc")), "lies outside the model's folder"),
    Fault("a path holds a NUL", source('source = "a\\u0000b.csv"'), "a character that paths cannot have"),
    Fault("a name of 300 characters", source(f'source = "{"s" * 300}.csv"'), "File name too long"),
    Fault("a path of 10,000 characters", source(f'source = "{"s/" * 5000}a.csv"'), "File name too long"),
    Fault("a pattern of all folders", source('source = "**"'), "A pattern can match only the files of one folder"),
    Fault("a pattern of folders", source('source = "*/sales.csv"'), "A pattern can match only the files of one folder"),
    Fault("a pattern that nothing matches", source('source = "x*.csv"'), "No data files found here"),
    Fault("a source below a file", source('source = "product.csv/sales.csv"'), "no such file"),
    Fault("a theme lies outside", edit("shop.toml", 'name = "shop"', 'theme = "../theme.toml"'), "lies outside the model's folder"),
    Fault("a theme is a pipe", both(edit("shop.toml", 'name = "shop"', 'theme = "look.toml"'), pipe("look.toml")), "This is a pipe"),
    Fault("an address of no form", source('source = "postgresql://[::1/x"\npart = "a"'), "A file of this kind has no part 'a'"),
    Fault("an address names a file", source('source = "postgresql://127.0.0.1:1/x?passfile=/etc/passwd"\npart = "a"'), "sets passfile, which a model file may not"),
    Fault("an address sets options", source('source = "postgresql://127.0.0.1:1/x?options=-c%20a=b"\npart = "a"'), "sets options, which a model file may not"),
    # Arrow and Parquet
    Fault("an Arrow file with wild offsets", data("sales.arrow", wild_offsets), "the file is damaged"),
    Fault("an Arrow file with codes of nothing", data("sales.arrow", wild_codes), "the file is damaged"),
    Fault("an Arrow file cut short", data("sales.arrow", lambda: ipc_bytes()[:400]), "not a file of the expected kind"),
    Fault("an Arrow file without its end", data("sales.arrow", lambda: ipc_bytes()[:-10]), "not a file of the expected kind"),
    Fault("an Arrow file damaged in the middle", data("sales.arrow", lambda: damaged(ipc_bytes(), 0.3, 0.5)), "damaged"),
    Fault("an Arrow file damaged in its footer", data("sales.arrow", lambda: damaged(ipc_bytes(), 0.8, 0.95)), "damaged"),
    Fault("an Arrow stream cut short", data("sales.arrow", lambda: ipc_bytes(stream=True)[:300]), "damaged"),
    Fault("an Arrow stream of noise", data("sales.arrow", bytes(range(256)) * 20), "not a file of the expected kind"),
    Fault("an Arrow file whose texts are invalid", data("sales.arrow", lambda: ipc_bytes(pa.table({"product_id": no_utf8(), "quantity": [1]}))), "the file is damaged"),
    Fault("an Arrow file without columns", data("sales.arrow", lambda: ipc_bytes(pa.table({}))), "no column product_id"),
    Fault("an Arrow file with a column twice", data("sales.arrow", lambda: ipc_bytes(pa.table([[1], [2]], names=["a", "a"]))), "appears more than once"),
    Fault("an Arrow file of lists", data("sales.arrow", lambda: ipc_bytes(TABLE.append_column("tags", pa.array([["a"]] * 3)))), "sales.tags cannot be used, since values of type list", pivot("count(distinct sales.tags)")),
    Fault("an Arrow file of bytes", data("sales.arrow", lambda: ipc_bytes(TABLE.append_column("raw", pa.array([b"a"] * 3)))), "values of type binary cannot be read", pivot("max(sales.raw)")),
    Fault("an Arrow file of decimals too fine", data("sales.arrow", lambda: ipc_bytes(TABLE.append_column("fine", pa.array([None] * 3, pa.decimal128(30, 25))))), "values of type decimal128(30, 25) cannot be read", pivot("max(sales.fine)")),
    Fault("an Arrow file of decimals too wide", data("sales.arrow", lambda: ipc_bytes(TABLE.append_column("wide", pa.array([10**30] * 3, pa.decimal128(38, 0))))), "does not fit in 64 bits", pivot("max(sales.wide)")),
    Fault("a Parquet file with a wild footer", data("sales.parquet", lambda: parquet_bytes()[:-8] + struct.pack("<I", 2_000_000_000) + b"PAR1"), "not a file of the expected kind"),
    Fault("a Parquet file damaged in its rows", data("sales.parquet", lambda: damaged(parquet_bytes(), 0.01, 0.2)), "the file is damaged"),
    Fault("a Parquet file damaged in its footer", data("sales.parquet", lambda: damaged(parquet_bytes(), 0.6, 0.9)), "not a file of the expected kind"),
    Fault("a Parquet file whose texts are invalid", data("sales.parquet", lambda: parquet_bytes(pa.table({"product_id": no_utf8(), "quantity": [1]}))), "the file is damaged"),
    Fault("a Parquet file with damaged statistics", data("sales.parquet", BAD_STATISTICS), "the file is damaged"),
    Fault("a Parquet file without rows", data("sales.parquet", lambda: parquet_bytes(TABLE.slice(0, 0))), "sales has no rows", code=1),
    Fault("a Parquet file that is locked", data("sales.parquet", b"PARE" + b"\0" * 100 + b"PARE"), "not a file of the expected kind"),
    Fault("a Parquet file of lists", data("sales.parquet", lambda: parquet_bytes(TABLE.append_column("tags", pa.array([["a"]] * 3)))), "sales.tags cannot be used", pivot("count(distinct sales.tags)")),
    # workbooks
    Fault("a cell in the last corner of a sheet", source('source = "sales.xlsx"', far_cell), "1 row below a blank row left out", code=0),
    Fault("a sheet cut short", book_with(SHEET, lambda xml: xml[: len(xml) // 2]), "not a workbook, or it is damaged"),
    Fault("styles cut short", book_with("xl/styles.xml", lambda xml: xml[: len(xml) // 2]), "not a workbook, or it is damaged"),
    Fault("a list of sheets cut short", book_with("xl/workbook.xml", lambda xml: xml[: len(xml) // 2]), "not a workbook, or it is damaged"),
    Fault("a sheet of noise", book_with(SHEET, lambda xml: bytes(range(256))), "not a workbook, or it is damaged"),
    Fault("entities within entities", book_with(SHEET, lambda xml: b'<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a "aaaaaaaaaa">' + b"".join(b'<!ENTITY a%d "%s">' % (at, (b"&a%d;" % (at - 1) if at else b"&a;") * 10) for at in range(12)) + b"]>" + xml.replace(b"<v>2</v>", b"<v>&a11;</v>").split(b"?>", 1)[-1]), "not a workbook, or it is damaged"),
    Fault("an entity that reads a file", book_with(SHEET, lambda xml: b'<?xml version="1.0"?><!DOCTYPE l [<!ENTITY a SYSTEM "file:///etc/hostname">]>' + xml.replace(b"<v>2</v>", b"<v>&a;</v>").split(b"?>", 1)[-1]), "not a workbook, or it is damaged"),
    Fault("a row numbered beyond all rows", book_with(SHEET, lambda xml: xml.replace(b'<row r="2"', b'<row r="99999999999999999999"').replace(b'r="A2"', b'r="ZZZZ999999999999"')), "not a workbook, or it is damaged"),
    Fault("a workbook without a list of its parts", data("sales.xlsx", lambda: zipped(a__xml=b"<a/>")), "not a workbook, or it is damaged"),
    Fault("a workbook behind a password", data("sales.xlsx", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + b"\0" * 600), "not a workbook, or it is damaged"),
    Fault("a workbook that unpacks to very much", book_with(SHEET, lambda xml: xml.replace(b"</sheetData>", b" " * 50_000_000 + b"</sheetData>")), "unpacked; the limit is 20 MB", ("check", "shop.toml", "--limit-file", "20 MB")),
    Fault("formulas never worked out", source('source = "sales.xlsx"', workbook(("product_id", "quantity", "n"), ("P1", 36, "=1+1"), ("P2", None, "=A1"))), "2 formulas never calculated", code=1),
    Fault("whole numbers beyond all floats", source('source = "sales.xlsx"', workbook(("product_id", "quantity", "big"), ("P1", 2, 10**300), ("P2", 3, 1.5), ("P1", 1, 2))), "big: whole numbers of more than 64 bits", code=0),
    # JSON lines, CSV, packed files
    Fault("a line nested 8,000 deep", data("sales.jsonl", b'{"a":' + b"[" * 8000 + b"]" * 8000 + b"}\n"), "nests 8001 brackets"),
    Fault("objects nested 3,000 deep", data("sales.jsonl", b'{"a":' * 3000 + b"1" + b"}" * 3000), "nests 3000 brackets"),
    Fault("JSON lines that are no UTF-8", data("sales.jsonl", b'{"product_id": "\xff", "quantity": 1}\n'), "JSON lines"),
    Fault("one list in place of lines", data("sales.jsonl", b'[{"product_id": "P1"}]\n'), "JSON lines"),
    Fault("values of two types in one column", data("sales.jsonl", b'{"product_id": "P1"}\n{"product_id": 1}\n'), "JSON lines"),
    Fault("lines without a value", data("sales.jsonl", b"{}\n{}\n"), "no column product_id"),
    Fault("a number beyond all numbers", data("sales.jsonl", b'{"product_id": "P1", "quantity": 1e999}\n'), "Number too big", ASK),
    Fault("a quote that is never closed", write("sales.csv", b'product_id,quantity\n"P1,2\nP2,3\n'), "This row has 1 field, and the heading has 2"),
    Fault("a heading of 200,000 characters", write("sales.csv", b"x" * 200_000 + b",b\n1,2\n"), "The heading row cannot be read"),
    Fault("a cell of 200,000 characters and a field too many", write("sales.csv", b"product_id,quantity\n" + b"x" * 200_000 + b",1\nP1,2,3\n"), "cannot be separated"),
    Fault("20,001 columns", write("sales.csv", ",".join(f"c{at}" for at in range(20_001)).encode() + b"\n"), "has 20,001 columns; the limit is 20,000 (columns of a table"),
    Fault("a NUL among rows", write("sales.csv", b"product_id,quantity\nP\0,2\n"), "has no match in product", code=1),
    Fault("a file in UTF-16", write("sales.csv", SALES.encode("utf-16")), "UTF-8"),
    Fault("lines that end in CR alone", write("sales.csv", SALES.replace("\n", "\r").encode()), "No problem", code=0),
    Fault("a packed file cut short", data("sales.csv.gz", lambda: gzip.compress(SALES.encode() * 500)[:60]), "cannot be unpacked"),
    Fault("a packed file that holds very much", data("sales.csv.gz", lambda: gzip.compress(b"a\n" + b"1" * 50_000_000)), "is larger, unpacked; the limit is 20 MB", ("check", "shop.toml", "--limit-file", "20 MB")),
    Fault("an archive behind a password", data("sales.zip", lambda: zipped(sales__csv=SALES.encode()).replace(b"PK\x03\x04\x14\0\0\0", b"PK\x03\x04\x14\0\1\0").replace(b"PK\x01\x02\x14\x03\x14\0\0\0", b"PK\x01\x02\x14\x03\x14\0\1\0")), "cannot be unpacked"),
    Fault("an archive whose content is damaged", data("sales.zip", lambda: damaged(zipped(sales__csv=SALES.encode() * 50), 0.2, 0.5)), "cannot be unpacked"),
    Fault("an archive of nothing", data("sales.zip", lambda: zipped()), "The archive holds 0 files"),
    Fault("a file that changes while it is read", NOTHING, "has changed since", ASK, prelude="import relatum.session.reading as r, pathlib\nread = r.read_source\ndef late(*a):\n    found = read(*a)\n    pathlib.Path('sales.csv').write_bytes(pathlib.Path('sales.csv').read_bytes())\n    return found\nr.read_source = late"),
    # the model file
    Fault("a number of 100,000 digits", edit("shop.toml", "equals = 36", "equals = " + "9" * 100_000), "This is not TOML that can be read"),
    Fault("a name of 20,000 parts", add(".".join(["a"] * 20_000) + " = 1\n"), "A name has more than 100 parts"),
    Fault("a heading of 20,000 parts", add("[" + ".".join(['"a"'] * 20_000) + "]\n"), "A name has more than 100 parts"),
    Fault("brackets 20,000 deep", add("x = " + "[" * 20_000 + "]" * 20_000 + "\n"), "brackets are nested too deeply"),
    Fault("a date that is invalid", add('[table.calendar]\ncalendar = { from = 2024-13-45, to = 2024-01-01 }\n'), "This is not TOML"),
    Fault("a key stated twice", edit("shop.toml", 'name = "shop"', 'name = "shop"\nname = "other"'), "This is not TOML"),
    Fault("50,000 tables of nothing", add("".join(f"[x{at}]\n" for at in range(50_000))), "Unknown key x0"),
    Fault("a model of 20 MB", add("# " + "x" * 20_000_000 + "\n"), "the limit is 16 MB (for a model file"),
    Fault("a model in UTF-16", write("shop.toml", MODEL.encode("utf-16")), "not a UTF-8 text file"),
    Fault("a limit that does not exist", add("[limits]\nspeed = 3\n"), "Unknown limit speed"),
    Fault("a limit below nothing", add("[limits]\ncells = -1\n"), "The limit cells is -1"),
    Fault("a limit in a unit that is invalid", add('[limits]\nmemory = "8 XB"\n'), "The limit memory is '8 XB'"),
    Fault("a calendar of all years", add("[table.calendar]\ncalendar = { from = 0001-01-01, to = 9999-12-31 }\n"), "is not related to any other table", code=1, memory=800),
    # Data Packages
    Fault("a package with a path twice", package(path=["sales.csv", "sales.csv"]), "names the same path twice", draft("datapackage.json")),
    Fault("a package whose key is not a field", package(schema={"fields": [{"name": "product_id"}], "primaryKey": "nothing"}), "names nothing, which is not a field", draft("datapackage.json")),
    Fault("a package whose foreign key is not a field", package(schema={"fields": [{"name": "product_id"}], "foreignKeys": [{"fields": "a", "reference": {"resource": "sales", "fields": "product_id"}}]}), "names a, which is not a field", draft("datapackage.json")),
    Fault("a package with a NUL in a path", package(path="a\0.csv"), "a character that paths cannot have", draft("datapackage.json")),
    Fault("a package that leads elsewhere", package(path="../../etc/passwd"), "lies outside the folder of the descriptor", draft("datapackage.json")),
    Fault("a package with a path from the root", package(path="/etc/hostname"), "lies outside the folder of the descriptor", draft("datapackage.json")),
    Fault("a package on another machine", package(path="https://127.0.0.1/a.csv"), "lies elsewhere", draft("datapackage.json")),
    Fault("a package with a resource twice", lambda folder: (folder / "datapackage.json").write_text('{"resources": [{"name": "a", "path": "sales.csv"}, {"name": "a", "path": "product.csv"}]}'), "Two resources have the name a", draft("datapackage.json")),
    Fault("a package nested 100,000 deep", lambda folder: (folder / "datapackage.json").write_text("[" * 100_000), "not a Data Package descriptor", draft("datapackage.json")),
    Fault("a package that is a pipe", pipe("datapackage.json"), "This is a pipe, not a file", draft("datapackage.json")),
    # databases
    Fault("two statements in a query", source(asked("sqlite", "select 1; drop table sales"), lite()), "The query is 2 statements"),
    Fault("a query that closes a bracket early", source(asked("duckdb", "select 1) as x; copy sales to 'out.csv'; select * from (select 1"), duck()), "not a valid SELECT"),
    Fault("a query that attaches a file", source(asked("sqlite", "attach 'other.db' as o"), lite()), "not a SELECT but ATTACH"),
    Fault("a query that loads code", source(asked("sqlite", "select load_extension('x') from sales"), lite()), "not authorized"),
    Fault("a query that reads any file", source(asked("duckdb", "select * from read_text('/etc/hostname')"), duck()), "file system operations are disabled"),
    Fault("a query that reads any file by its name", source(asked("duckdb", "select * from '/etc/hostname'"), duck()), "rejected the query"),
    Fault("a query that writes", source(asked("duckdb", "create table x as select 1"), duck()), "not a SELECT but CREATE"),
    Fault("a query that fetches code", source(asked("duckdb", "install httpfs"), duck()), "not a SELECT"),
    Fault("a query that changes settings", source(asked("duckdb", "set enable_external_access = true"), duck()), "not a SELECT but SET"),
    Fault("a query of nothing", source(asked("sqlite", "-- nothing"), lite()), "The query is empty"),
    Fault("a query of 300,000 characters", source(asked("sqlite", "select " + "1 + " * 75_000 + "1"), lite()), "The query is not SQL"),
    Fault("a query nested 5,000 deep", source(asked("sqlite", "select " + "(" * 5000 + "1" + ")" * 5000), lite()), "not a valid SELECT"),
    Fault("a view that reads any file", source('source = "shop.duckdb"\npart = "reach"', lambda folder: duck(f"create view reach as select * from read_csv('{folder}/product.csv')")(folder)), "file system operations are disabled"),
    Fault("a view that never closed", source('source = "shop.sqlite"\npart = "endless"', lite("create view endless as with recursive x(n) as (select 1 union all select n + 1 from x) select count(*) as n from x")), "the database takes longer than 1 second", ("check", "shop.toml", "--limit-time", "1 s")),
    Fault("a view that never closed, in another database", source('source = "shop.duckdb"\npart = "endless"', duck("create view endless as select count(*) as n from range(100000000000) a, range(100000) b")), "the database takes longer than 1 second", ("check", "shop.toml", "--limit-time", "1 s")),
    Fault("a view that is broken", source('source = "shop.sqlite"\npart = "broken"', lite("create view broken as select nope from sales")), "broken cannot be read"),
    Fault("a table beside a broken view", source('source = "shop.sqlite"\npart = "sales"', lite("create view broken as select nope from sales")), "No problem", code=0),
    Fault("a column of several kinds", source('source = "shop.sqlite"\npart = "sales"', lite("insert into sales values ('P1', 'two')")), 'sales.quantity holds "two" among numbers'),
    Fault("a database cut short", source('source = "shop.sqlite"\npart = "sales"', both(lite(), lambda folder: (folder / "shop.sqlite").write_bytes((folder / "shop.sqlite").read_bytes()[:5000]))), "The database is cut short"),
    Fault("a database with a damaged page", source('source = "shop.sqlite"\npart = "sales"', both(lite(), lambda folder: (folder / "shop.sqlite").write_bytes(damaged((folder / "shop.sqlite").read_bytes(), 0.5, 1)))), "malformed"),
    Fault("a database of another kind", source('source = "shop.duckdb"\npart = "sales"', write("shop.duckdb", b"\0" * 20_000)), "This database cannot be read"),
    Fault("a database that is a pipe", source('source = "shop.duckdb"\npart = "sales"', pipe("shop.duckdb")), "This is a pipe, not a file"),
    Fault("a name of a table with quotes", source('source = "shop.sqlite"\npart = "x\\"; drop table sales; --"', lite()), "There is no table x"),
    # limits
    Fault("more rows than the limit", NOTHING, "has 3 rows; the limit is 2 (rows of a table", ("check", "shop.toml", "--limit-rows", "2")),
    Fault("more columns than the limit", NOTHING, "has 3 columns; the limit is 2 (columns of a table", ("check", "shop.toml", "--limit-columns", "2")),
    Fault("more cells than the limit", NOTHING, "would have 2 combinations; the limit is 1", (*BY_PLANT, "--limit-cells", "1")),
    Fault("more cells than the model allows", add("[limits]\ncells = 1\n"), "raise the limit: cells under [limits], --limit-cells", BY_PLANT),
    Fault("more members than the limit", NOTHING, "evaluated for 2 members; the limit is 1", ("pivot", "shop.toml", "--values", "sum(revenue + 1 per product)", "--limit-members", "1")),
    Fault("more dates than the limit", both(write("sales.csv", b"product_id,quantity,sold\nP1,2,2024-01-01\nP2,3,2024-02-01\nP1,1,2024-03-01\n"), add('[table.calendar]\ncalendar = { from = 2024-01-01, to = 2024-12-31 }\n[[relationship]]\nlink = "sales.sold -> calendar.date"\n')), "sets of dates out of the 366 dates of calendar; the limit is 99", ("pivot", "shop.toml", "--rows", "calendar.month", "--values", "revenue[to date]", "--limit-dates", "99")),
    Fault("a file larger than the limit", NOTHING, "bytes; the limit is 10 bytes (for a file", ("check", "shop.toml", "--limit-file", "10")),
    Fault("a model larger than the limit", NOTHING, "the limit is 100 bytes (for a model file", ("check", "shop.toml", "--limit-model", "100 B")),
    Fault("more memory than the limit", write("sales.csv", SALES.encode() + b"P1,1\n" * 3_000_000), "the limit is 5 MB", ("check", "shop.toml", "--limit-memory", "5 MB")),
    Fault("more time than the limit", NOTHING, "This takes longer than 1 second", (*ASK, "--limit-time", "1 s"), prelude="import relatum.pivot.answer as a, time\nask = a.resolve_request\ndef slow(*given):\n    time.sleep(1.2)\n    return ask(*given)\na.resolve_request = slow"),
    Fault("a limit on the command line that is invalid", NOTHING, "The limit cells is 'many'", (*ASK, "--limit-cells", "many")),
    # requests
    Fault("a formula of 5,000 brackets", NOTHING, "nested more than 100 levels deep", pivot(DEEP)),
    Fault("a condition of 5,000 brackets", NOTHING, "nested more than 100 levels deep", pivot("revenue", where=f"{DEEP} = 1")),
    Fault("a formula of 5,000 sums", NOTHING, "chains more than 200 operations", pivot("1" + " + 1" * 5000)),
    Fault("a number of 400 digits", NOTHING, "64 bits", pivot("9" * 400)),
    Fault("a number of 5,000 digits", NOTHING, "64 bits", pivot("9" * 5000)),
    Fault("a float beyond all floats", NOTHING, "larger than any float", pivot("1e999")),
    Fault("a top of a number beyond all numbers", NOTHING, "top", ("pivot", "shop.toml", "--rows", f"product.plant top {'9' * 30}", "--values", "revenue"), 2),
    Fault("a month moved beyond all years", NOTHING, "Expected a whole number above 0", pivot("revenue[back 99999999999999999999 year]")),
    Fault("an escape in a request", NOTHING, "␛[31m", pivot("revenue\x1b[31m")),
    Fault("text turned around in a request", NOTHING, "�", pivot("revenue\u202e")),
    Fault("100,000 labels", NOTHING, "There is no measure", pivot(",".join(f"a{at}" for at in range(2000)))),
    # output
    Fault("no room for a table on standard output", NOTHING, "No space left on device", BY_PLANT, stdout="/dev/full"),
    Fault("no room for JSON on standard output", NOTHING, "No space left on device", (*BY_PLANT, "--format", "json"), stdout="/dev/full"),
    Fault("no room for CSV on standard output", NOTHING, "No space left on device", (*BY_PLANT, "--format", "csv"), stdout="/dev/full"),
    Fault("no room for help on standard output", NOTHING, "No space left on device", ("--help",), stdout="/dev/full"),
    Fault("no room for what a check says", NOTHING, "No space left on device", stdout="/dev/full"),
    Fault("no room for a drawing", NOTHING, "No space left on device", ("diagram", "shop.toml"), stdout="/dev/full"),
    Fault("standard output is closed", NOTHING, "", BY_PLANT, 0, stdout="closed"),
    Fault("a file on a full device", NOTHING, "No space left on device", ("export", "shop.toml", "-o", "full.sql"), prelude="import os; os.symlink('/dev/full', 'full.sql')"),
    Fault("a result would be written over the model", NOTHING, "This is the model itself", ("export", "shop.toml", "-o", "shop.toml")),
    Fault("a grid would be written over its source", NOTHING, "This is the source of the table sales", (*BY_PLANT, "--out", "sales.csv")),
    Fault("a grid would be written over its source by a link", link("out.csv", "product.csv"), "This is the source of the table product", (*BY_PLANT, "--out", "out.csv")),
    Fault("a grid would be written over its source by another name", lambda folder: os.link(folder / "product.csv", folder / "out.csv"), "This is the source of the table product", (*BY_PLANT, "--out", "out.csv")),
    Fault("a grid would be written into a source", source('source = "parts"', lambda folder: ((folder / "parts").mkdir(), (folder / "parts" / "a.csv").write_text(SALES))), "the source of the table sales, or inside it", (*BY_PLANT, "--out", "parts/b.csv")),
    Fault("a grid would become a part of a source", source('source = "sa*.csv"'), "the source of the table sales, or inside it", (*BY_PLANT, "--out", "sa2.csv")),
    Fault("a drawing would be written over a source", NOTHING, "This is the source of the table sales", ("diagram", "shop.toml", "-o", "sales.csv")),
    Fault("a model would be drafted over its data", NOTHING, "This is a data file", ("draft", "sales.csv", "-o", "sales.csv", "--replace")),
    Fault("a demo among other files", NOTHING, "The folder holds other files", ("demo", ".")),
    Fault("a demo over a changed demo", lambda folder: (write("nursery.toml", b"relatum = 1\n")(folder),), "that was changed", ("demo", ".")),
    Fault("a result into a folder that is a file", NOTHING, "cannot be written", ("export", "shop.toml", "-o", "sales.csv/new.sql")),
    # the cache
    Fault("the cache folder is a link", lambda folder: ((folder / "mine").mkdir(), (folder / "mine" / "a.kept").write_text("mine"), (folder / ".relatum").symlink_to("mine")), "cannot be recorded", ("refresh", "shop.toml")),
    Fault("the cache folder is a pipe", pipe(".relatum"), "cannot be recorded", ("refresh", "shop.toml")),
    Fault("the record is another's", refreshed_then(lambda folder: [path.write_bytes(b"x" * 32 + path.read_bytes()[32:]) for path in (folder / ".relatum").glob("*.kept")]), "nothing to compare yet", ("refresh", "shop.toml"), 0),
    Fault("the record is a pipe", refreshed_then(lambda folder: [(path.unlink(), os.mkfifo(path)) for path in (folder / ".relatum").glob("state*.kept")]), "nothing to compare yet", ("refresh", "shop.toml"), 0),
]  # fmt: skip
