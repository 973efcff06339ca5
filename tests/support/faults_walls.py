"""What a stranger's model, file or engine must not do: act on a server, leave the folder, take all there is."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from fault import SALES, Break, Fault, add, both, edit, source, write
from faults_hostile import BY_PLANT, NOTHING, duck, lite, parquet_bytes

SHOP = 'source = "shop.sqlite"\n'


def asks(query: str, kind: str = "sqlite", limits: str = "") -> Break:
    """The table sales is a query of a database in a file."""
    made = lite() if kind == "sqlite" else duck()
    return both(source(f'source = "shop.{kind}"\nquery = "{query}"', made), add(limits))


def on_engine(settings: str, sales: str = 'part = "sales"') -> Break:
    """The model lives on an engine."""
    return both(source(sales), edit("shop.toml", 'name = "shop"\n', f'name = "shop"\nengine = {{ {settings} }}\n'))


def journal(folder: Path) -> None:
    """A database whose writer died in the middle."""
    code = (
        "import os, sqlite3, sys\nbase = sqlite3.connect('shop.sqlite')\nbase.execute('create table sales (product_id text, quantity integer, b text)')\n"
        "base.executemany('insert into sales values (1, 5, ?)', [('x' * 500,)] * 4000)\nbase.commit()\nbase.execute('pragma cache_size = 5'); base.execute('begin'); base.execute('update sales set quantity = 5000')\nos.kill(os.getpid(), 9)\n"
    )
    subprocess.run([sys.executable, "-c", code], cwd=folder, check=False)


def busy(folder: Path) -> None:
    """A database that another process writes to for as long as the test goes on."""
    lite()(folder)
    code = "import sqlite3, sys, time\nbase = sqlite3.connect('shop.sqlite', isolation_level=None)\nbase.execute('begin exclusive')\nprint(flush=True)\ntime.sleep(9)\n"
    holder = subprocess.Popen(
        [sys.executable, "-c", code], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    )
    assert holder.stdout is not None
    holder.stdout.readline()
    holder.stdout.close()
    HOLDERS.append(holder)


#: Processes that end by themselves.
HOLDERS: list[subprocess.Popen[bytes]] = []


def lying(folder: Path) -> None:
    """A Parquet file whose footer says one row fewer than its rows are."""
    data = bytearray(parquet_bytes(pa.table({"product_id": ["P1"] * 1000, "quantity": list(range(1000))})))
    data[data.rindex(b"\xd0\x0f")] = 0xCE
    (folder / "sales.parquet").write_bytes(data)


def parts(first: pa.Table, second: pa.Table) -> Callable[[Path], None]:
    """Two Parquet files of one folder."""

    def done(folder: Path) -> None:
        (folder / "parts").mkdir()
        pq.write_table(first, folder / "parts" / "1.parquet")
        pq.write_table(second, folder / "parts" / "2.parquet")

    return done


SERVER = "postgresql://127.0.0.1:1/shop"
TWO = pa.table({"product_id": ["P1"], "quantity": [1]})
ENDLESS = "with recursive x(n) as (select 1 union all select n + 1 from x) select count(*) as quantity, 'P1' as product_id from x"
DUCK = 'kind = \\"duckdb\\"'.replace('\\"', '"')

WALLS = [
    # addresses
    *(Fault(f"an address with {what}", source(f'source = "{SERVER}{said}"\npart = "sales"'), says) for what, said, says in [
        ("a mark behind which the driver reads on", "#&sslkeylogfile=/tmp/k", "Invalid address"), ("such a mark behind a setting", "?sslmode=disable#&passfile=/x", "Invalid address"),
        ("a file for keys", "?sslkeylogfile=/tmp/k", "sets sslkeylogfile, which a model file may not"), ("a file of passwords", "?passfile=/etc/x", "sets passfile, which a model file may not"),
        ("a user", "?user=me", "must not contain them"), ("a user in other signs", "?%75ser=me", "must not contain them"), ("a service", "?service=x", "sets service, which a model file may not"),
        ("a value with quotes", "?application_name=a'b", "Invalid address"), ("a setting within a setting", "?sslmode=x%26passfile=/x", "Invalid address"), ("options", "?options=-c", "sets options, which a model file may not"),
        ("an equals sign in its database", "=x", "Invalid address"),
    ]),
    Fault("an engine's address with a file of passwords", on_engine(f'kind = "postgresql", address = "{SERVER}?passfile=/x"'), "sets passfile, which a model file may not"),
    Fault("an engine without an address", on_engine('kind = "postgresql"'), "has no address"),
    # engines
    Fault("an engine outside the folder", on_engine('kind = "duckdb", address = "../out.duckdb"'), "lies outside the model's folder"),
    Fault("an engine by a path from the root", on_engine('kind = "duckdb", address = "/tmp/out.duckdb"'), "lies outside the model's folder"),
    Fault("an engine by a link", both(on_engine('kind = "duckdb", address = "in.duckdb"'), lambda folder: (folder / "in.duckdb").symlink_to("/tmp/out.duckdb")), "lies outside the model's folder"),
    Fault("a source of an engine outside the folder", both(on_engine(DUCK, 'source = "../out.duckdb"\npart = "sales"'), NOTHING), "lies outside the model's folder"),
    Fault("a Spark elsewhere", on_engine('kind = "spark", address = "spark://there:7077"'), "names its own Spark server"),
    Fault("a Spark on a cluster", on_engine('kind = "spark", address = "yarn"'), "names its own Spark server"),
    Fault("an engine that is not a database", both(on_engine('kind = "duckdb", address = "in.duckdb"'), write("in.duckdb", b"nothing" * 99)), "This database cannot be read"),
    Fault("an engine that is a folder", both(on_engine('kind = "duckdb", address = "in.duckdb"'), lambda folder: (folder / "in.duckdb").mkdir()), "This is a folder, not a file"),
    # queries
    *(Fault(f"a query that {what}", asks(query, kind), says) for what, query, kind, says in [
        ("inserts rows", "insert into sales values (1, 2)", "sqlite", "not a SELECT but INSERT"), ("ends in another statement", "select 1 as a; drop table sales", "sqlite", "2 statements"), ("attaches another file", "attach 'x' as y", "sqlite", "not a SELECT but ATTACH"),
        ("copies to a file", "copy sales to 'x'", "duckdb", "not a SELECT but COPY"), ("sets something", "set threads = 1", "duckdb", "not a SELECT but SET"), ("reads a file", "select * from read_csv('/etc/passwd')", "duckdb", "rejected the query"),
        ("reads a file by its name", "select * from '/etc/passwd'", "duckdb", "rejected the query"), ("reads the environment", "select getenv('HOME') as a", "duckdb", "rejected the query"), ("runs a command", "select transform(a) using 'cat' from sales", "duckdb", "not a valid SELECT"),
        ("loads an extension", "select load_extension('x') as a", "sqlite", "rejected the query"), ("writes a file", "select writefile('x', 'y') as a", "sqlite", "rejected the query"), ("locks rows", "select * from sales for update", "duckdb", "contains LOCK"),
        ("asks for what is the database's own", "pragma table_info(sales)", "sqlite", "not a SELECT but PRAGMA"), ("names two columns alike", "select 1 as a, 2 as a", "sqlite", "more than once"), ("is a comment", "-- nothing", "sqlite", "The query is empty"),
    ]),
    Fault("a query that ends in a comment", asks("select product_id, quantity from sales -- all of them"), "No problem", code=0),
    # limits
    *(Fault(f"{what} longer than it may", asks(query, kind, "[limits]\ntime = 1\n"), "takes longer than 1 second", (command, "shop.toml"), memory=600) for what, query, kind, command in [
        ("a query that is shown takes", ENDLESS, "sqlite", "show"), ("a query that is checked takes", ENDLESS, "duckdb", "check"), ("one function takes", "select instr(hex(zeroblob(50000000)), hex(zeroblob(20000000)) || '1') as quantity, 'P1' as product_id", "sqlite", "check"),
        ("one function of another database takes", "select levenshtein(repeat('a', 400000), repeat('b', 400000)) as quantity, 'P1' as product_id", "duckdb", "show"),
    ]),
    *(Fault(f"a query that makes {what}", asks(query, "duckdb", '[limits]\nmemory = "300 MB"\n'), "memory", memory=900) for what, query in [
        ("300 million numbers", "select len(range(300000000)) as quantity, 'P1' as product_id"), ("30 million rows", "select unnest(range(30000000)) as quantity, 'P1' as product_id"), ("a text of 3 GB", "select length(repeat('abc', 900000000)) as quantity, 'P1' as product_id"),
    ]),
    Fault("a pattern of many stars", both(source(f'source = "{"*a" * 30}*.csv"'), lambda folder: (folder / f"{'a' * 200}.txt").write_text(SALES)), "No data files found here"),
    Fault("a time limit beyond all times", NOTHING, "P1", ("pivot", "shop.toml", "--rows", "sales.product_id", "--values", "revenue", "--limit-time", "999999999 h"), 0),
    # SQLite beside others
    Fault("a database that another program writes to", source(f'{SHOP}part = "sales"', busy), "Another program is writing to the database", seconds=20),
    Fault("a database left half written", source(f'{SHOP}part = "sales"', journal), "was interrupted while writing"),
    # files
    Fault("a footer that lies about rows", source('source = "sales.parquet"', lying), "rows"),
    Fault("parts that differ, on an engine", both(on_engine(DUCK, 'source = "parts"'), parts(TWO, TWO.append_column("more", pa.array([1])))), "also has more"),
    Fault("columns that differ by capitals, on an engine", both(on_engine(DUCK, 'source = "sales.parquet"'), lambda folder: pq.write_table(TWO.append_column("Quantity", pa.array([2])), folder / "sales.parquet")), "because it ignores case"),
    # numbers, texts, pictures
    *(Fault(f"a control that expects {what}", add(f'[[control]]\nmeasure = "revenue"\nequals = {said}\n'), says) for what, said, says in [
        ("no number", "nan", "expects nan"), ("no end", "inf", "expects inf"), ("a number within no number", "1\ntolerance = nan", "tolerance"), ("a number within everything", "1\ntolerance = inf", "tolerance"), ("a number within less than nothing", "1\ntolerance = -1", "tolerance"),
    ]),
    Fault("a format of 1,000 digits", edit("shop.toml", '"¤#,##0"', f'"0.{"0" * 1000}"'), "more than 40 digits"),
    Fault("a text that mathematics could be taken for", both(edit("product.csv", "Fern", "$$"), edit("product.csv", "Ivy", "$x_$ and $\\\\frac$".replace("\\\\", "\\"))), "", (*BY_PLANT, "--out", ".out.svg"), 0),
    Fault("a name of 1 MB in a chart", edit("product.csv", "Fern", "F" * 1_000_000), "", (*BY_PLANT, "--out", ".out.png"), 0, memory=600),
    Fault("a calendar that begins at no date", NOTHING, "which is not a date", ("edit", "shop.toml", "calendar", "days", "--from", "soon", "--to", "2024-12-31")),
    Fault("a heading of two lines that is used by its first", edit("product.csv", "plant", '"Plant\nname"'), "Plant␊name", ("pivot", "shop.toml", "--rows", "product.Plant", "--values", "revenue")),
]  # fmt: skip
