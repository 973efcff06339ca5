"""Questions whose cost used to jump, each beside the best SQL for the same numbers in DuckDB, and Polars, in one run.

``python benchmarks/jumps.py`` makes 6 million lines over 1.5 million orders, 30,000 customers and 4,000 parts, checks
that all three answers are equal, and prints medians, ratios and how far the memory of this process has grown.
"""

from __future__ import annotations

import argparse
import resource
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa

import relatum
from jumps_polars import JUMPS as IN_POLARS
from jumps_polars import Tables, open_polars
from relatum.engine.memory.blocks import ready
from star import timed

PARTS, CUSTOMERS, DAYS = 4_000, 30_000, 2_400


@dataclass(frozen=True)
class Jump:
    """A grid, and SQL for the same numbers: its columns are the axis members, then the values."""

    name: str
    rows: tuple[str, ...]
    values: dict[str, str]
    sql: str
    where: str = ""


JUMPS = (
    Jump(
        "keep by the fact's own key", ("line.part_id",), {"r": "revenue[keep part where revenue > 300000]"},
        "select part_id, sum(amount) from line group by part_id having sum(amount) > 300000",
    ),
    Jump(
        "an order and its attributes", ("orders.order_no", "orders.ordered_on", "orders.customer_id", "customer.name"),
        {"r": "revenue"},
        """select l.order_no, any_value(o.ordered_on), any_value(o.customer_id), any_value(c.name), sum(amount)
        from line l join orders o using (order_no) join customer c using (customer_id) group by l.order_no""",
    ),
    Jump(
        "the same, best 1,000 orders", ("orders.order_no", "orders.ordered_on", "orders.customer_id", "customer.name"),
        {"r": "revenue[keep top 1000 orders.order_no by revenue]"},
        """select s.order_no, o.ordered_on, o.customer_id, c.name, s.amount from (select order_no, sum(amount) as amount
        from line group by order_no qualify rank() over (order by sum(amount) desc) <= 1000) s
        join orders o using (order_no) join customer c using (customer_id)""",
    ),
    Jump(
        "one let and keep, two values", ("part.kind",),
        {name: "let x = revenue[ignoring axes] / 100000 then "
               f"{value}[keep customer where revenue > x]" for name, value in (("r", "revenue"), ("n", "count(line)"))},
        """with bar as (select sum(amount) / 100000 as x from line),
        kept as (select p.kind, o.customer_id, sum(amount) as amount, count(*) as n from line l
          join part p using (part_id) join orders o using (order_no) group by all
          having sum(amount) > (select x from bar))
        select kind, sum(amount), sum(n) from kept group by kind""",
    ),
    Jump(
        "the same keep in another order", ("part.kind",),
        {"a": "avg(line.amount)[keep customer where revenue > 5000, where orders.ordered_on > date '2020-01-01']",
         "b": "avg(line.amount)[where orders.ordered_on > date '2020-01-01', keep customer where revenue > 5000]"},
        """with a as (select p.kind, o.customer_id, avg(amount) filter (ordered_on > '2020-01-01') as a,
          sum(amount) as whole, sum(amount) filter (ordered_on > '2020-01-01') as later,
          count(*) filter (ordered_on > '2020-01-01') as n
          from line l join part p using (part_id) join orders o using (order_no) group by all)
        select kind, sum(later) filter (whole > 5000) / sum(n) filter (whole > 5000),
          sum(later) filter (later > 5000) / sum(n) filter (later > 5000) as b from a group by kind
        having b is not null""",
    ),
    Jump(
        "different comments", ("part.kind",), {"n": "count(distinct line.comment)"},
        "select kind, count(distinct comment) from line join part using (part_id) group by kind",
    ),
    Jump(
        "20,000 numbers in a list", ("part.kind",), {"r": "revenue"},
        f"""select kind, sum(amount) from line join part using (part_id)
        where order_no in ({','.join(map(str, range(20_000)))}) group by kind""",
        f"line.order_no in ({','.join(map(str, range(20_000)))})",
    ),
    Jump(
        "to date, by date", ("calendar.date",), {"r": "revenue[to date]"},
        """with days as (select ordered_on, sum(amount) as r from line join orders using (order_no) group by all)
        select date, sum(r) over (order by date) from calendar left join days on date = ordered_on
        where date <= (select max(ordered_on) from orders) and date >= (select min(ordered_on) from orders)""",
    ),
    Jump(
        "many to many, 20,000 equal keys", ("tag.name",), {"n": "count(note)"},
        "select name, count(*) from (select distinct topic, name from tag) join note using (topic) group by name",
    ),
)  # fmt: skip


def tables(lines: int) -> dict[str, pa.Table]:
    """Random tables, the same for the same number of lines."""
    rnd = np.random.default_rng(7)
    orders = max(lines // 4, 10)
    first = np.datetime64("2018-01-01")
    order_no = np.arange(orders)
    names = pa.array([f"Customer {number:05}" for number in range(CUSTOMERS)])
    comment = rnd.integers(0, max(lines // 4, 1), lines)
    words = np.array(
        [f"{a} {b} {c}" for a in ("calls", "asked", "sent") for b in ("about", "for") for c in ("soil", "pots")]
    )
    texts = [
        f"{words[number % len(words)]} {number * 7919 % 1_000_003:07} {number}" for number in range(max(lines // 4, 1))
    ]
    return {
        "line": pa.table(
            {
                "order_no": rnd.integers(0, orders, lines),
                "part_id": rnd.integers(0, PARTS, lines),
                "amount": rnd.integers(1, 400, lines),
                "comment": pa.DictionaryArray.from_arrays(pa.array(comment, pa.int32()), pa.array(texts)).cast(
                    pa.string()
                ),
            }
        ),
        "orders": pa.table(
            {
                "order_no": order_no,
                "ordered_on": pa.array((first + rnd.integers(0, DAYS, orders)).astype("datetime64[D]")),
                "customer_id": rnd.integers(0, CUSTOMERS, orders),
            }
        ),
        "customer": pa.table({"customer_id": np.arange(CUSTOMERS), "name": names}),
        "part": pa.table(
            {"part_id": np.arange(PARTS), "kind": pa.array([f"kind {number % 57:02}" for number in range(PARTS)])}
        ),
        "tag": pa.table(
            {"topic": np.ones(20_000, np.int64), "name": pa.array([f"tag {number % 9}" for number in range(20_000)])}
        ),
        "note": pa.table({"topic": np.ones(20_000, np.int64), "id": np.arange(20_000)}),
    }


def open_model(frames: dict[str, pa.Table]) -> relatum.Model:
    """The model of the tables."""
    keys = {"orders": "order_no", "customer": "customer_id", "part": "part_id"}
    model = relatum.Model("jumps")
    with model.edits():
        for name, frame in frames.items():
            model.add_table(name, frame, key=keys.get(name, ()))
        model.add_calendar("calendar", date(2010, 1, 1), date(2029, 12, 31))
        model.relate("line.order_no -> orders.order_no")
        model.relate("line.part_id -> part.part_id")
        model.relate("orders.customer_id -> customer.customer_id")
        model.relate("orders.ordered_on -> calendar.date")
        model.relate("note.topic >-< tag.topic", direction="left")
        model.measure("revenue", "sum(line.amount)")
    return model


def ask(model: relatum.Model, jump: Jump) -> Any:
    """The question to Relatum."""
    return model.pivot(
        rows=jump.rows, values=jump.values, where=jump.where, totals=False, cell_limit=10_000_000
    ).to_arrow()


def same(jump: Jump, model: relatum.Model, connection: duckdb.DuckDBPyConnection, held: Tables) -> bool:
    """Whether all three give the same rows."""

    def plain(value: Any) -> Any:
        if isinstance(value, int | float | Decimal):
            return round(float(value), 4)
        return None if value is None else str(value)

    def rows(table: Any) -> list[tuple[Any, ...]]:
        columns = [column.to_pylist() for column in table.columns]
        return sorted(tuple(map(plain, row)) for row in zip(*columns, strict=True))

    found = rows(connection.execute(jump.sql).to_arrow_table())
    return rows(ask(model, jump)) == found == rows(IN_POLARS[jump.name](held).collect().to_arrow())


def edits(model: relatum.Model) -> None:
    """What edits cost, and what the next question does after them."""
    ask(model, JUMPS[0])

    def took(action: Callable[[], Any]) -> float:
        start = time.perf_counter()
        action()
        return (time.perf_counter() - start) * 1000

    print(f"question {took(lambda: ask(model, JUMPS[0])):.0f} ms", end="; ")
    print(f"derive {took(lambda: model.derive('part', 'big', 'part_id * 2')):.0f} ms", end="; ")
    print(f"the same question {took(lambda: ask(model, JUMPS[0])):.0f} ms")
    print(
        f"500 measures {took(lambda: [model.measure(f'm{n}', f'revenue * {n}') for n in range(500)]):.0f} ms", end="; "
    )
    grid = model.pivot(rows="part.kind", values="revenue, max(line.comment)")
    print(f"57 rows printed {took(lambda: str(grid)):.0f} ms, to_pandas {took(grid.to_pandas):.0f} ms")


def loaded(about: str) -> tuple[argparse.Namespace, dict[str, pa.Table], duckdb.DuckDBPyConnection]:
    """The options given, the tables, and a database that holds them."""
    options = argparse.ArgumentParser(description=about)
    options.add_argument("--lines", type=int, default=6_000_000)
    options.add_argument("--runs", type=int, default=3)
    options.add_argument("--without-fast", action="store_true", help="scan with NumPy alone")
    given = options.parse_args()
    if given.without_fast:
        ready.begin_at(sys.maxsize)
    else:
        ready.prepare().join()
    frames = tables(given.lines)
    connection = duckdb.connect()
    for name, frame in frames.items():
        connection.register(f"frame_{name}", frame)
        connection.execute(f"create table {name} as select * from frame_{name}")
        connection.unregister(f"frame_{name}")
    return given, frames, connection


def main() -> None:
    """Run the benchmark."""
    given, frames, connection = loaded(__doc__.splitlines()[0])
    connection.execute(
        "create table calendar as "
        "select unnest(range(date '2010-01-01', date '2030-01-01', interval 1 day))::date as date"
    )
    model, held = open_model(frames), open_polars(frames)
    del frames
    heads = ("first ms", "relatum ms", "duckdb ms", "polars ms", "to duckdb", "to polars", "peak GB")
    print(f"{'question':<34}{''.join(f'{head:>11}' for head in heads)}  result")
    for jump in JUMPS:
        start = time.perf_counter()
        ask(model, jump)
        first = (time.perf_counter() - start) * 1000
        ours, theirs, polars = timed(
            lambda jump=jump: ask(model, jump),
            lambda jump=jump: connection.execute(jump.sql).to_arrow_table(),
            lambda jump=jump: IN_POLARS[jump.name](held).collect(),
            runs=given.runs,
        )
        equal = "equal" if same(jump, model, connection, held) else "DIFFERENT"
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
        figures = (
            f"{first:>11.0f}{ours:>11.1f}{theirs:>11.1f}{polars:>11.1f}{ours / theirs:>11.2f}{ours / polars:>11.2f}"
        )
        print(f"{jump.name:<34}{figures}{peak:>11.2f}  {equal}", flush=True)
    edits(model)


if __name__ == "__main__":
    main()
