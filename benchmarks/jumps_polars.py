"""The questions of ``jumps.py`` and ``grids.py`` as lazy Polars queries by hand; their columns are those of the SQL."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

import polars as pl
import pyarrow as pa
from polars import LazyFrame, col

Tables = dict[str, LazyFrame]
AMOUNT = col("amount").sum()
MONTH = col("ordered_on").dt.strftime("%Y-%m").alias("m")


def open_polars(frames: dict[str, pa.Table]) -> Tables:
    """The tables, held in memory, and the days of the calendar."""
    days = pl.DataFrame({"date": pl.date_range(date(2010, 1, 1), date(2029, 12, 31), eager=True)})
    found: dict[str, pl.DataFrame] = {name: pl.DataFrame(frame) for name, frame in frames.items()}
    return {name: frame.lazy() for name, frame in {**found, "calendar": days}.items()}


def _orders_with_customers(t: Tables) -> LazyFrame:
    return t["orders"].join(t["customer"], on="customer_id")


def _order_amounts(t: Tables) -> LazyFrame:
    amounts = t["line"].group_by("order_no").agg(AMOUNT)
    return amounts.join(_orders_with_customers(t), on="order_no").select(
        "order_no", "ordered_on", "customer_id", "name", "amount"
    )


def _best_orders(t: Tables) -> LazyFrame:
    amounts = t["line"].group_by("order_no").agg(AMOUNT)
    best = amounts.filter(col("amount").rank("min", descending=True) <= 1000)
    return best.join(_orders_with_customers(t), on="order_no").select(
        "order_no", "ordered_on", "customer_id", "name", "amount"
    )


def _sold(t: Tables) -> LazyFrame:
    return t["line"].join(t["part"], on="part_id").join(t["orders"], on="order_no")


def _let_and_keep(t: Tables) -> LazyFrame:
    sold = _sold(t).group_by("kind", "customer_id").agg(AMOUNT, pl.len().alias("n"))
    kept = sold.filter(col("amount") > col("amount").sum() / 100_000)
    return kept.group_by("kind").agg(AMOUNT, col("n").sum())


def _keep_in_orders(t: Tables) -> LazyFrame:
    later = col("ordered_on") > date(2020, 1, 1)
    sold = (
        _sold(t)
        .group_by("kind", "customer_id")
        .agg(AMOUNT.alias("whole"), col("amount").filter(later).sum().alias("later"), later.sum().alias("n"))
    )
    means = [
        (col("later").filter(col(by) > 5000).sum() / col("n").filter(col(by) > 5000).sum()).alias(name)
        for name, by in (("a", "whole"), ("b", "later"))
    ]
    return sold.group_by("kind").agg(means).filter(col("b").is_not_nan())


def _comments(t: Tables) -> LazyFrame:
    return t["line"].join(t["part"], on="part_id").group_by("kind").agg(col("comment").n_unique())


def _listed(t: Tables) -> LazyFrame:
    listed = t["line"].filter(col("order_no").is_in(list(range(20_000))))
    return listed.join(t["part"], on="part_id").group_by("kind").agg(AMOUNT)


def _to_date(t: Tables) -> LazyFrame:
    sold = t["line"].join(t["orders"], on="order_no").group_by("ordered_on").agg(AMOUNT)
    days = t["calendar"].join(sold, left_on="date", right_on="ordered_on", how="left").sort("date")
    first_and_last = t["orders"].select(col("ordered_on").min().alias("first"), col("ordered_on").max().alias("last"))
    bounded = days.join(first_and_last, how="cross")
    within = bounded.filter(col("date").is_between("first", "last"))
    return within.select("date", col("amount").fill_null(0).cum_sum())


def _many_to_many(t: Tables) -> LazyFrame:
    tags = t["tag"].unique()
    return t["note"].group_by("topic").len("n").join(tags, on="topic").group_by("name").agg(col("n").sum())


JUMPS: dict[str, Callable[[Tables], LazyFrame]] = {
    "keep by the fact's own key": lambda t: (
        t["line"].group_by("part_id").agg(AMOUNT).filter(col("amount") > 300_000)
    ),
    "an order and its attributes": _order_amounts,
    "the same, best 1,000 orders": _best_orders,
    "one let and keep, two values": _let_and_keep,
    "the same keep in another order": _keep_in_orders,
    "different comments": _comments,
    "20,000 numbers in a list": _listed,
    "to date, by date": _to_date,
    "many to many, 20,000 equal keys": _many_to_many,
}  # fmt: skip


def _subtotals(t: Tables) -> LazyFrame:
    amount, n = col("amount"), col("n")
    first = [AMOUNT, pl.len().alias("n"), amount.min().alias("least"), amount.max().alias("most")]
    again = [AMOUNT, n.sum(), col("least").min(), col("most").max()]
    sold = _sold(t).filter(col("ordered_on").is_between(date(2018, 1, 1), date(2022, 12, 31)))
    cells = sold.group_by((col("part_id") % 200).alias("g"), MONTH).agg(first)
    by_group, by_month = cells.group_by("g").agg(again), cells.group_by("m").agg(again)
    whole = pl.concat([cells, by_group, by_month, cells.select(again)], how="diagonal")
    return whole.select("g", "m", "amount", "n", (amount / n).alias("mean"), "least", "most")


def _best_customers(t: Tables) -> LazyFrame:
    sold = t["line"].join(_orders_with_customers(t), on="order_no").group_by("name").agg(AMOUNT, pl.len().alias("n"))
    best = sold.with_columns(col("amount").rank("min", descending=True).alias("rank"))
    sums = [AMOUNT, col("n").sum()]
    others = best.filter(col("rank") > 20).select(pl.lit("others").alias("name"), *sums)
    return pl.concat(
        [best.filter(col("rank") <= 20).drop("rank"), others, sold.select(pl.lit("total").alias("name"), *sums)]
    )


def _best_within(t: Tables) -> LazyFrame:
    sold = _sold(t).join(t["customer"], on="customer_id").group_by("kind", "name").agg(AMOUNT)
    best = col("amount").rank("min", descending=True).over("kind") <= 3
    name = pl.when(best).then("name").otherwise(pl.lit("others")).alias("name")
    lines = sold.with_columns(name).group_by("kind", "name").agg(AMOUNT)
    return lines.with_columns((col("amount") / AMOUNT.over("kind")).alias("share"))


def _members(t: Tables) -> LazyFrame:
    counts = t["line"].group_by("order_no").len("n")
    counted = t["orders"].select("order_no").join(counts, on="order_no", how="left")
    return counted.with_columns(col("n").fill_null(0)).sort("order_no")


def _cell(t: Tables) -> LazyFrame:
    parts, orders = t["part"].filter(col("kind") == "kind 05"), t["orders"].filter(MONTH == "2020-05")
    return t["line"].join(parts, on="part_id", how="semi").join(orders, on="order_no", how="semi")


GRIDS: dict[str, Callable[[Tables], LazyFrame]] = {
    "200 x 60, 5 values, all subtotals": _subtotals,
    "top 20 of 30,000, with others": _best_customers,
    "top 3 of 30,000 within 57, others": _best_within,
    "members of 1.5 million orders": _members,
    "a cell explained, its rows listed": _cell,
}
