"""The star schema benchmark: 13 questions to Relatum, DuckDB and Polars, and five without conditions, in one run.

``python benchmarks/star.py`` makes 6 million order lines (kept in benchmarks/data), checks that every answer equals
DuckDB's to the last unit, and prints the median time of each question side by side. DuckDB and Polars hold their
tables in memory and use their default threads.
"""

from __future__ import annotations

import argparse
import math
import re
import resource
import statistics
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import polars as pl

import relatum
from relatum.engine.memory.blocks import ready
from relatum.model.declaration import EngineChoice
from relatum.model.routes import hops_of
from relatum.runtime.threads import cores, pool
from star_data import write_tables

TABLES = ("lineorder", "dates", "customer", "supplier", "part")
KEYS = {"dates": ("orderdate", "datekey"), "customer": ("custkey", "custkey"), "supplier": ("suppkey", "suppkey"),
        "part": ("partkey", "partkey")}  # fmt: skip


@dataclass(frozen=True)
class Query:
    """One question: what is summed or counted, the columns it is grouped by, and the conditions by table."""

    name: str
    value: str
    by: tuple[str, ...]
    where: dict[str, str] = field(default_factory=dict)
    distinct: bool = False

    @property
    def fold(self) -> str:
        """The aggregate: the same text in both languages."""
        return f"count(distinct {self.value})" if self.distinct else f"sum({self.value})"

    @property
    def lookups(self) -> list[str]:
        """The lookups it needs."""
        mentioned = {column.split(".")[0] for column in self.by} | set(self.where)
        return [table for table in KEYS if table in mentioned]

    @property
    def condition(self) -> str:
        """All conditions in one: the same text in both languages."""
        return " and ".join(self.where.values())

    def sql(self) -> str:
        """The question in SQL."""
        joins = "".join(
            f" join {table} on lineorder.{KEYS[table][0]} = {table}.{KEYS[table][1]}" for table in self.lookups
        )
        where = f" where {self.condition}" if self.where else ""
        group = f" group by {', '.join(self.by)}" if self.by else ""
        return f"select {', '.join([*self.by, self.fold])} from lineorder{joins}{where}{group}"

    def ask(self, model: relatum.Model) -> Any:
        """The question to Relatum."""
        return model.pivot(rows=self.by, values={"value": self.fold}, where=self.condition, totals=False)


_REVENUE, _PROFIT = "lineorder.revenue", "lineorder.revenue - lineorder.supplycost"
_DISCOUNTED = "lineorder.extendedprice * lineorder.discount"
_BY_NATION = ("customer.nation", "supplier.nation", "dates.year")
_BY_CITY = ("customer.city", "supplier.city", "dates.year")
_YEARS = "dates.year between 1992 and 1997"
_CITIES = "in ('UNITED KI1', 'UNITED KI5')"

QUERIES = (
    Query("1.1", _DISCOUNTED, (), {"dates": "dates.year = 1993",
          "lineorder": "lineorder.discount between 1 and 3 and lineorder.quantity < 25"}),
    Query("1.2", _DISCOUNTED, (), {"dates": "dates.yearmonth = '1994-01'",
          "lineorder": "lineorder.discount between 4 and 6 and lineorder.quantity between 26 and 35"}),
    Query("1.3", _DISCOUNTED, (), {"dates": "dates.weeknuminyear = 6 and dates.year = 1994",
          "lineorder": "lineorder.discount between 5 and 7 and lineorder.quantity between 26 and 35"}),
    Query("2.1", _REVENUE, ("dates.year", "part.brand"), {"part": "part.category = 'MFGR#12'",
          "supplier": "supplier.region = 'AMERICA'"}),
    Query("2.2", _REVENUE, ("dates.year", "part.brand"), {"part": "part.brand between 'MFGR#2221' and 'MFGR#2228'",
          "supplier": "supplier.region = 'ASIA'"}),
    Query("2.3", _REVENUE, ("dates.year", "part.brand"), {"part": "part.brand = 'MFGR#2239'",
          "supplier": "supplier.region = 'EUROPE'"}),
    Query("3.1", _REVENUE, _BY_NATION, {"customer": "customer.region = 'ASIA'", "supplier": "supplier.region = 'ASIA'",
          "dates": _YEARS}),
    Query("3.2", _REVENUE, _BY_CITY, {"customer": "customer.nation = 'UNITED STATES'",
          "supplier": "supplier.nation = 'UNITED STATES'", "dates": _YEARS}),
    Query("3.3", _REVENUE, _BY_CITY, {"customer": f"customer.city {_CITIES}", "supplier": f"supplier.city {_CITIES}",
          "dates": _YEARS}),
    Query("3.4", _REVENUE, _BY_CITY, {"customer": f"customer.city {_CITIES}", "supplier": f"supplier.city {_CITIES}",
          "dates": "dates.yearmonth = '1997-12'"}),
    Query("4.1", _PROFIT, ("dates.year", "customer.nation"), {"customer": "customer.region = 'AMERICA'",
          "supplier": "supplier.region = 'AMERICA'", "part": "part.mfgr in ('MFGR#1', 'MFGR#2')"}),
    Query("4.2", _PROFIT, ("dates.year", "supplier.nation", "part.category"), {"dates": "dates.year in (1997, 1998)",
          "customer": "customer.region = 'AMERICA'", "supplier": "supplier.region = 'AMERICA'",
          "part": "part.mfgr in ('MFGR#1', 'MFGR#2')"}),
    Query("4.3", _PROFIT, ("dates.year", "supplier.city", "part.brand"), {"dates": "dates.year in (1997, 1998)",
          "customer": "customer.region = 'AMERICA'", "supplier": "supplier.nation = 'UNITED STATES'",
          "part": "part.category = 'MFGR#14'"}),
)  # fmt: skip


#: Questions over all lines: sums by few members and by a quarter of a million, and different members.
WHOLE = (
    Query("year, category", _REVENUE, ("dates.year", "part.category")),
    Query("region, year", _REVENUE, ("customer.region", "dates.year")),
    Query("city, brand", _REVENUE, ("customer.city", "part.brand")),
    Query("different customers by year, category", "lineorder.custkey", ("dates.year", "part.category"), distinct=True),
    Query("different orders by year", "lineorder.orderkey", ("dates.year",), distinct=True),
)


def open_relatum(folder: Path) -> relatum.Model:
    """The star as a Relatum model: tables, four relationships, all columns and join indexes in memory."""
    model = relatum.Model("star")
    for table in TABLES:
        model.add_table(table, folder / f"{table}.parquet")
    relate(model)
    for table in TABLES:
        for column in model.session.data[table].types:
            model.session.store.column(table, column)
    return model


def relate(model: relatum.Model) -> None:
    """The star's four relationships."""
    for table, (many, one) in KEYS.items():
        model.relate(f"lineorder.{many} -> {table}.{one}")


def database(folder: Path) -> EngineChoice:
    """A file of DuckDB with the tables, as an engine."""
    path = folder / "star.duckdb"
    if not path.exists():
        made = path.with_suffix(".part")
        with duckdb.connect(str(made)) as connection:
            for table in TABLES:
                connection.execute(f"create table {table} as select * from read_parquet('{folder / table}.parquet')")
        made.rename(path)
    return EngineChoice("duckdb", str(path))


def open_there(folder: Path) -> relatum.Model:
    """The star as a model whose tables live in a file of DuckDB."""
    model = relatum.Model("star", engine=database(folder))
    for table in TABLES:
        model.add_table(table, "", part=table)
    relate(model)
    return model


def open_duckdb(folder: Path, there: bool = False) -> duckdb.DuckDBPyConnection:
    """The tables in DuckDB's memory, or in its file."""
    if there:
        return duckdb.connect(database(folder).address, read_only=True)
    connection = duckdb.connect()
    for table in TABLES:
        connection.execute(f"create table {table} as select * from read_parquet('{folder / table}.parquet')")
    return connection


def open_polars(folder: Path) -> dict[str, pl.DataFrame]:
    """The tables as Polars frames, text as categories."""
    frames = {table: pl.read_parquet(folder / f"{table}.parquet") for table in TABLES}
    return {table: frame.rename({name: f"{table}.{name}" for name in frame.columns}) for table, frame in frames.items()}


def polars_query(query: Query, frames: dict[str, pl.DataFrame]) -> pl.DataFrame:
    """The question as a lazy Polars query, lookups filtered before they are joined."""
    lines = frames["lineorder"].lazy()
    if "lineorder" in query.where:
        lines = lines.filter(pl.sql_expr(_polars_names(query.where["lineorder"])))
    for table in query.lookups:
        many, one = KEYS[table]
        lookup = frames[table].lazy()
        if table in query.where:
            lookup = lookup.filter(pl.sql_expr(_polars_names(query.where[table])))
        wanted = [column for column in query.by if column.startswith(f"{table}.")]
        lookup = lookup.select(f"{table}.{one}", *wanted)
        lines = lines.join(lookup, left_on=f"lineorder.{many}", right_on=f"{table}.{one}")
    if query.distinct:
        return lines.group_by(query.by).agg(pl.col(query.value).n_unique().alias("value")).collect()
    value = pl.sql_expr(_polars_names(query.value)).cast(pl.Int64) if "*" not in query.value else (
        pl.col("lineorder.extendedprice").cast(pl.Int64) * pl.col("lineorder.discount")
    )  # fmt: skip
    if not query.by:
        return lines.select(value.sum()).collect()
    return lines.group_by(query.by).agg(value.sum().alias("value")).collect()


def _polars_names(text: str) -> str:
    words = [f'"{word}"' if word.split(".")[0] in TABLES and "." in word else word for word in text.split()]
    return " ".join(words)


def bytes_read(query: Query, model: relatum.Model) -> int:
    """The bytes of the order lines that a question needs: its own columns, and each line's row of each lookup."""
    store = model.session.store
    own = set(re.findall(r"lineorder\.(\w+)", f"{query.value} {query.where.get('lineorder', '')}"))
    found = [store.column("lineorder", name).values for name in own]
    found += [
        store.index(hops_of(each)[0]).positions
        for each in model.declaration.relationships
        if each.one.table in query.lookups
    ]
    return sum(each.nbytes for each in found)


def bandwidth() -> float:
    """How many bytes of memory all cores together read in a second, at best of ten times."""
    parts = np.array_split(np.ones(1 << 26, np.int64), cores())
    took = []
    for _ in range(10):
        start = time.perf_counter()
        list(pool().map(np.sum, parts))
        took.append(time.perf_counter() - start)
    return sum(part.nbytes for part in parts) / min(took)


def timed(*actions: Callable[[], Any], runs: int) -> list[float]:
    """The median time of each action in milliseconds, after one run to warm up; they take turns, so that what slows
    the machine for a while slows them all.
    """
    times: list[list[float]] = [[] for _ in actions]
    for run in range(runs + 1):
        for action, taken in zip(actions, times, strict=True):
            start = time.perf_counter()
            action()
            if run:
                taken.append(time.perf_counter() - start)
    return [1000 * statistics.median(taken) for taken in times]


def same(
    query: Query, model: relatum.Model, connection: duckdb.DuckDBPyConnection, frames: dict[str, pl.DataFrame]
) -> bool:
    """Whether all three give the same rows."""
    ours = {tuple(row.values())[:-1]: int(row["value"] or 0) for row in query.ask(model).to_arrow().to_pylist()}
    theirs, others = (
        {tuple(row[:-1]): int(row[-1] or 0) for row in rows}
        for rows in (connection.execute(query.sql()).fetchall(), polars_query(query, frames).rows())
    )
    return ours == theirs == others


def main() -> None:
    """Run the benchmark."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--lines", type=int, default=6_000_000)
    options.add_argument("--runs", type=int, default=7)
    options.add_argument("--data", type=Path, default=Path(__file__).parent / "data")
    options.add_argument("--engine", choices=["memory", "duckdb"], default="memory", help="where relatum's tables live")
    options.add_argument("--without-fast", action="store_true", help="scan with NumPy alone")
    given = options.parse_args()
    if given.without_fast:
        ready.begin_at(sys.maxsize)
    else:
        ready.prepare().join()
    folder = given.data / f"star-{given.lines}"
    write_tables(folder, given.lines)
    before = peak_memory()
    start = time.perf_counter()
    there = given.engine == "duckdb"
    model = open_there(folder) if there else open_relatum(folder)
    loaded = time.perf_counter() - start
    after = peak_memory()
    start = time.perf_counter()
    connection = open_duckdb(folder, there)
    duckdb_loaded = time.perf_counter() - start
    frames = open_polars(folder)
    fact = model.session.data["lineorder"]
    size = 0 if there else sum(column.nbytes for column in fact.loaded().values())
    print(f"{given.lines:,} order lines")
    print(f"load: relatum {loaded:.2f} s, duckdb {duckdb_loaded:.2f} s")
    print(f"relatum: {size / fact.rows:.1f} bytes a line in columns")
    print(f"peak memory {before:,.0f} MB before, {after:,.0f} MB after relatum's load")
    speed = bandwidth()
    print(f"memory is read at {speed / 1e9:.1f} GB a second: the floor is how long that takes for what is needed")
    heads = ("relatum ms", "floor ms", "duckdb ms", "polars ms", "to duckdb", "to polars")
    print(f"{'query':<38}{''.join(f'{head:>11}' for head in heads)}  result")
    ratios: list[tuple[float, float]] = []
    for query in (*QUERIES, *WHOLE):
        ours, theirs, polars = timed(
            lambda query=query: query.ask(model).to_arrow(),
            lambda query=query: connection.execute(query.sql()).fetchnumpy(),
            lambda query=query: polars_query(query, frames),
            runs=given.runs,
        )
        ratios += [(ours / theirs, ours / polars)] if query in QUERIES else []
        equal = "equal" if same(query, model, connection, frames) else "DIFFERENT"
        floor = "" if there else f"{1000 * bytes_read(query, model) / speed:.1f}"
        figures = f"{ours:>11.1f}{floor:>11}{theirs:>11.1f}{polars:>11.1f}{ours / theirs:>11.2f}{ours / polars:>11.2f}"
        print(f"{query.name:<38}{figures}  {equal}")
    means = [math.exp(statistics.fmean(math.log(ratio[at]) for ratio in ratios)) for at in (0, 1)]
    print(f"geometric mean of the 13 ratios: {means[0]:.2f} of duckdb's time, {means[1]:.2f} of polars'")
    print(f"peak memory of the whole run {peak_memory():,.0f} MB")


def peak_memory() -> float:
    """The most memory that this process has held, in megabytes."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000


if __name__ == "__main__":
    main()
