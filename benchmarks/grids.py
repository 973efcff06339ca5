"""Grids, the best with others, members and an explanation, beside hand-written SQL in DuckDB and Polars, in one run.

``python benchmarks/grids.py`` makes 6 million lines (those of ``jumps.py``), checks that every answer equals theirs,
and prints medians and ratios.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import duckdb

import relatum
from jumps import loaded, open_model
from jumps_polars import GRIDS as IN_POLARS
from jumps_polars import Tables, open_polars
from star import timed

FIRST, LAST = "2018-01-01", "2022-12-31"
WHERE = f"orders.ordered_on between date '{FIRST}' and date '{LAST}'"
VALUES = "revenue, n: count(line), mean: avg(line.amount), least: min(line.amount), most: max(line.amount)"
SOLD = f"line join part using (part_id) join orders using (order_no) where ordered_on between '{FIRST}' and '{LAST}'"
FOLDED = "sum(amount), count(*), avg(amount), min(amount), max(amount)"


@dataclass(frozen=True)
class Question:
    """A question to a model, and SQL for the same numbers."""

    name: str
    ask: Callable[[relatum.Model], Any]
    sql: str


def grid(model: relatum.Model) -> Any:
    """200 by 60 members, five values, all subtotals."""
    return model.pivot("part.part_id % 200", "calendar.month", VALUES, WHERE).to_arrow(totals=True)


def best(model: relatum.Model) -> Any:
    """The best 20 of 30,000 members, the rest as one more."""
    return model.pivot("customer.name top 20 with others", values="revenue, n: count(line)").to_arrow(totals=True)


def nested(model: relatum.Model) -> Any:
    """Best members within closed and ordered parents."""
    return model.pivot(
        "part.kind by revenue desc, customer.name top 3 with others", values="revenue, share: share(revenue of parent)"
    ).to_arrow(totals=True)


QUESTIONS = (
    Question(
        "200 x 60, 5 values, all subtotals", grid,
        f"""select part_id % 200 as g, strftime(ordered_on, '%Y-%m') as m, {FOLDED} from {SOLD}
        group by grouping sets ((g, m), (g), (m), ())""",
    ),
    Question(
        "top 20 of 30,000, with others", best,
        """with sold as (select name, sum(amount) as r, count(*) as n from line join orders using (order_no)
          join customer using (customer_id) group by name),
        ranked as (select *, rank() over (order by r desc) <= 20 as best from sold)
        select name, r, n from ranked where best union all
        select 'others', sum(r), sum(n) from ranked where not best union all
        select 'total', sum(r), sum(n) from sold""",
    ),
    Question(
        "top 3 of 30,000 within 57, others", nested,
        """with sold as (select kind, name, sum(amount) as r from line join orders using (order_no)
          join part using (part_id) join customer using (customer_id) group by all),
        ranked as (select *, rank() over (partition by kind order by r desc) <= 3 as best from sold),
        lines as (select kind, name, r from ranked where best union all
          select kind, 'others', sum(r) from ranked where not best group by kind)
        select kind, name, r, r / sum(r) over (partition by kind) from lines""",
    ),
    Question(
        "members of 1.5 million orders", lambda model: model.members("orders.order_no").to_arrow(),
        """select o.order_no, count(l.order_no) from orders o left join line l using (order_no)
        group by all order by all""",
    ),
    Question(
        "a cell explained, its rows listed",
        lambda model: model.explain("revenue", {"part.kind": "kind 05", "calendar.month": "2020-05"}),
        """select l.* from line l join part using (part_id) join orders using (order_no)
        where kind = 'kind 05' and strftime(ordered_on, '%Y-%m') = '2020-05'""",
    ),
)  # fmt: skip


def summed(values: Any) -> int:
    """The sum of a column, without what is missing."""
    return int(sum(each for each in values.to_pylist() if each is not None))


def equal(question: Question, model: relatum.Model, connection: duckdb.DuckDBPyConnection, held: Tables) -> bool:
    """Whether the sum of what all three give is the same, and how many lines there are."""
    got, expected = question.ask(model), connection.sql(question.sql).to_arrow_table()
    other = IN_POLARS[question.name](held).collect().to_arrow()
    at = 1 if question.ask is best or question.name.startswith("members") else 2
    theirs = summed(expected[at])
    if (other.num_rows, summed(other[at])) != (expected.num_rows, theirs):
        return False
    if isinstance(got, relatum.Explanation):
        return got.evidence[0].count == expected.num_rows and got.value == theirs
    totals = got.num_rows - expected.num_rows
    mine = summed(got["revenue" if "revenue" in got.column_names else got.column_names[1]])
    if question.ask is nested:
        # Ours has a total for each kind and one of all, which say the same once more.
        return totals == 58 and mine == 3 * theirs
    return totals == 0 and mine == theirs


def main() -> None:
    """Run the benchmark."""
    given, frames, connection = loaded(__doc__.splitlines()[0])
    model, held = open_model(frames), open_polars(frames)
    del frames
    heads = ("relatum ms", "duckdb ms", "polars ms", "to duckdb", "to polars")
    print(f"{'question':<36}{''.join(f'{head:>11}' for head in heads)}  result")
    for question in QUESTIONS:
        question.ask(model)
        ours, theirs, polars = timed(
            lambda question=question: question.ask(model),
            lambda question=question: connection.sql(question.sql).to_arrow_table(),
            lambda question=question: IN_POLARS[question.name](held).collect(),
            runs=given.runs,
        )
        result = "equal" if equal(question, model, connection, held) else "DIFFERENT"
        figures = f"{ours:>11.1f}{theirs:>11.1f}{polars:>11.1f}{ours / theirs:>11.2f}{ours / polars:>11.2f}"
        print(f"{question.name:<36}{figures}  {result}", flush=True)


if __name__ == "__main__":
    main()
