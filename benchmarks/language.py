"""Formulas that nest and move, on the star benchmark's tables: Relatum beside DuckDB, each with its best SQL.

``python benchmarks/language.py`` uses the 6 million order lines of star.py and prints medians and their ratios.
"""

from __future__ import annotations

import argparse
import math
import statistics
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import duckdb

import relatum
from star import database, open_duckdb, timed
from star_data import FIRST, LAST, write_tables


@dataclass(frozen=True)
class Request:
    """A grid, and SQL for the same numbers: its columns are the axis members, then the values."""

    name: str
    rows: tuple[str, ...]
    values: dict[str, str]
    sql: str
    where: str = ""


QUESTIONS = (
    Request(
        "back 1 year", ("customer.nation", "calendar.month"), {"r": "revenue", "last": "revenue[back 1 year]"},
        """with days as (select c.nation, l.orderdate, sum(l.revenue) as revenue from lineorder l
          join customer c on l.custkey = c.custkey group by all),
        moved as (select nation, orderdate + interval 1 year as day, revenue from days),
        last as (select max(orderdate) as day from lineorder),
        a as (select nation, strftime(orderdate, '%Y-%m') as month, sum(revenue) as revenue from days group by all),
        b as (select nation, strftime(day, '%Y-%m') as month, sum(revenue) as revenue from moved
          where day <= (select day from last) group by all)
        select coalesce(a.nation, b.nation), coalesce(a.month, b.month), a.revenue, b.revenue
        from a full join b on a.nation = b.nation and a.month = b.month""",
    ),
    Request(
        "year to date", ("customer.nation", "calendar.month"), {"r": "revenue", "ytd": "revenue[year to date]"},
        """with months as (
            select c.nation, d.yearmonth, d.year, sum(l.revenue) as revenue from lineorder l
            join dates d on l.orderdate = d.datekey join customer c on l.custkey = c.custkey group by all),
          -- A nation may have no line in a month, and has a year to date all the same.
          cells as (select * from (select distinct nation from months), (select distinct yearmonth, year from months))
          select nation, yearmonth, revenue, sum(revenue) over (partition by nation, year order by yearmonth) as ytd
          from cells left join months using (nation, yearmonth, year) qualify ytd is not null""",
    ),
    Request(
        "share of total", ("customer.nation", "part.category"),
        {"r": "revenue", "all": "revenue[ignoring part.category]"},
        """with cells as (select c.nation, p.category, sum(l.revenue) as revenue from lineorder l
          join customer c on l.custkey = c.custkey join part p on l.partkey = p.partkey group by all)
          select nation, category, revenue, sum(revenue) over (partition by nation) from cells""",
    ),
    Request(
        "distinct customers", ("calendar.year", "part.category"), {"n": "count(distinct lineorder.custkey)"},
        """select d.year, p.category, count(distinct l.custkey) from lineorder l join dates d on l.orderdate = d.datekey
          join part p on l.partkey = p.partkey group by all""",
    ),
    Request(
        "average per customer", ("calendar.year", "part.category"), {"a": "avg(revenue per customer)"},
        """with cells as (select d.year, p.category, l.custkey, sum(l.revenue) as revenue from lineorder l
          join dates d on l.orderdate = d.datekey join part p on l.partkey = p.partkey group by all)
          select year, category, avg(revenue) from cells group by all""",
    ),
    Request(
        "top 10 brands", ("part.brand",), {"r": "revenue[keep top 10 part.brand by revenue]"},
        """with brands as (select p.brand, sum(l.revenue) as revenue from lineorder l join part p
          on l.partkey = p.partkey group by p.brand)
          select brand, revenue from brands qualify rank() over (order by revenue desc) <= 10""",
    ),
)  # fmt: skip


def open_model(folder: Path, there: bool = False) -> relatum.Model:
    """The star with a calendar that formulas can move along, and revenue as a measure; in memory or in DuckDB."""
    model = relatum.Model("star", engine=database(folder) if there else "memory")
    keys = {"lineorder": (), "supplier": (), "customer": "custkey", "part": "partkey"}
    for table, key in keys.items():
        model.add_table(table, "" if there else folder / f"{table}.parquet", part=table if there else "", key=key)
    model.add_calendar("calendar", FIRST, LAST)
    model.relate("lineorder.custkey -> customer.custkey")
    model.relate("lineorder.partkey -> part.partkey")
    model.relate("lineorder.suppkey -> supplier.suppkey")
    model.relate("lineorder.orderdate -> calendar.date")
    model.measure("revenue", "sum(lineorder.revenue)")
    return model


def ask(model: relatum.Model, question: Request) -> Any:
    """The question to Relatum."""
    return model.pivot(rows=question.rows, values=question.values, where=question.where, totals=False).to_arrow()


def same(question: Request, model: relatum.Model, connection: duckdb.DuckDBPyConnection) -> bool:
    """Whether both give the same rows."""

    def rows(records: Any) -> dict[Any, Any]:
        at = len(question.rows)
        return {
            tuple(map(str, row[:at])): tuple(None if x is None else round(float(x), 2) for x in row[at:])
            for row in records
        }

    ours = rows(tuple(record.values()) for record in ask(model, question).to_pylist())
    return ours == rows(connection.execute(question.sql).fetchall())


def main() -> None:
    """Run the benchmark."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--lines", type=int, default=6_000_000)
    options.add_argument("--runs", type=int, default=5)
    options.add_argument("--data", type=Path, default=Path(__file__).parent / "data")
    options.add_argument("--engine", choices=["memory", "duckdb"], default="memory", help="where relatum's tables live")
    given = options.parse_args()
    folder = given.data / f"star-{given.lines}"
    write_tables(folder, given.lines)
    there = given.engine == "duckdb"
    model, connection = open_model(folder, there), open_duckdb(folder, there)
    print(f"{'question':<24}{'relatum ms':>11}{'duckdb ms':>11}{'ratio':>8}  result")
    ratios = []
    for question in QUESTIONS:
        actions: list[Callable[[], Any]] = [
            lambda question=question: ask(model, question),
            lambda question=question: connection.execute(question.sql).fetchnumpy(),
        ]
        ours, theirs = timed(*actions, runs=given.runs)
        ratios.append(ours / theirs)
        equal = "equal" if same(question, model, connection) else "DIFFERENT"
        print(f"{question.name:<24}{ours:>11.1f}{theirs:>11.1f}{ours / theirs:>8.2f}  {equal}", flush=True)
    print(f"geometric mean {math.exp(statistics.fmean(map(math.log, ratios))):.2f}")


if __name__ == "__main__":
    main()
