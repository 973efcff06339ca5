"""The 22 questions of ``decisions_asked.py`` as lazy Polars queries by hand; their columns are those of the SQL.

Tables are frames as the files hold them; what is filtered is filtered before it is joined. Polars rounds a product of
decimals to the digits of the factor that has more, so that one factor is given as many as the product needs.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from pathlib import Path

import polars as pl
from polars import LazyFrame, col

Tables = dict[str, LazyFrame]
_FOUR, _SIX = pl.Decimal(38, 4), pl.Decimal(38, 6)
PRICE = col("l_extendedprice").cast(_FOUR)
NET = (PRICE * (1 - col("l_discount"))).sum()
LATE = col("l_receiptdate") > col("l_commitdate")


def open_polars(folder: Path, tables: tuple[str, ...]) -> Tables:
    """The tables, held in memory."""
    return {table: pl.read_parquet(folder / f"{table}.parquet").lazy() for table in tables}


def _join(left: LazyFrame, right: LazyFrame, key: str, other: str) -> LazyFrame:
    return left.join(right, left_on=key, right_on=other)


def _from(name: str, first: date, before: date) -> pl.Expr:
    return (col(name) >= first) & (col(name) < before)


def _suppliers(t: Tables, nation: str) -> LazyFrame:
    return _join(t["supplier"], t["nation"].filter(col("n_name") == nation), "s_nationkey", "n_nationkey")


def q1(t: Tables) -> LazyFrame:
    """Sums and averages of all lines shipped by a day."""
    price, discount = col("l_extendedprice"), col("l_discount")
    return (
        t["lineitem"]
        .filter(col("l_shipdate") <= date(1998, 9, 2))
        .group_by("l_returnflag", "l_linestatus")
        .agg(
            col("l_quantity").sum(),
            price.sum(),
            NET.alias("net"),
            (price.cast(_SIX) * (1 - discount) * (1 + col("l_tax"))).sum().alias("charge"),
            col("l_quantity").mean().alias("quantity"),
            price.mean().alias("price"),
            discount.mean().alias("discount"),
            pl.len(),
        )
    )


def q2(t: Tables) -> LazyFrame:
    """The cheapest suppliers of parts in a region."""
    nations = _join(t["nation"], t["region"].filter(col("r_name") == "EUROPE"), "n_regionkey", "r_regionkey")
    suppliers = _join(t["supplier"], nations, "s_nationkey", "n_nationkey")
    parts = t["part"].filter((col("p_size") == 15) & col("p_type").str.ends_with("BRASS"))
    offers = _join(_join(t["partsupp"], parts, "ps_partkey", "p_partkey"), suppliers, "ps_suppkey", "s_suppkey")
    cheapest = col("ps_supplycost") == col("ps_supplycost").min().over("ps_partkey")
    said = ("p_mfgr", "s_name", "s_acctbal", "n_name", "s_address", "s_phone", "ps_supplycost")
    return offers.filter(cheapest).select("ps_partkey", "ps_suppkey", *said)


def q3(t: Tables) -> LazyFrame:
    """The ten orders of most revenue that wait for shipping."""
    customers = t["customer"].filter(col("c_mktsegment") == "BUILDING")
    orders = _join(t["orders"].filter(col("o_orderdate") < date(1995, 3, 15)), customers, "o_custkey", "c_custkey")
    lines = t["lineitem"].filter(col("l_shipdate") > date(1995, 3, 15))
    return (
        _join(lines, orders, "l_orderkey", "o_orderkey")
        .group_by("l_orderkey", "o_orderdate", "o_shippriority")
        .agg(NET.alias("revenue"))
        .sort("revenue", "o_orderdate", descending=[True, False])
        .head(10)
    )


def q4(t: Tables) -> LazyFrame:
    """Orders of a quarter with a late line, by priority."""
    orders = t["orders"].filter(_from("o_orderdate", date(1993, 7, 1), date(1993, 10, 1)))
    late = t["lineitem"].filter(LATE)
    kept = orders.join(late, left_on="o_orderkey", right_on="l_orderkey", how="semi")
    return kept.group_by("o_orderpriority").len()


def q5(t: Tables) -> LazyFrame:
    """Revenue within the nations of a region."""
    nations = _join(t["nation"], t["region"].filter(col("r_name") == "ASIA"), "n_regionkey", "r_regionkey")
    suppliers = _join(t["supplier"], nations, "s_nationkey", "n_nationkey")
    orders = t["orders"].filter(_from("o_orderdate", date(1994, 1, 1), date(1995, 1, 1)))
    lines = _join(t["lineitem"], _join(orders, t["customer"], "o_custkey", "c_custkey"), "l_orderkey", "o_orderkey")
    both = lines.join(suppliers, left_on=["l_suppkey", "c_nationkey"], right_on=["s_suppkey", "s_nationkey"])
    return both.group_by("n_name").agg(NET.alias("revenue"))


def q6(t: Tables) -> LazyFrame:
    """What discounts of a range cost in a year."""
    shipped = _from("l_shipdate", date(1994, 1, 1), date(1995, 1, 1))
    discounted = col("l_discount").is_between(
        pl.lit("0.05").cast(pl.Decimal(15, 2)), pl.lit("0.07").cast(pl.Decimal(15, 2))
    )
    lines = t["lineitem"].filter(shipped & discounted & (col("l_quantity") < 24))
    return lines.select((PRICE * col("l_discount")).sum().alias("revenue"))


def q7(t: Tables) -> LazyFrame:
    """Revenue between two nations by year."""
    nations = t["nation"].filter(col("n_name").is_in(["FRANCE", "GERMANY"])).select("n_nationkey", "n_name")
    suppliers = _join(t["supplier"], nations.rename({"n_name": "from"}), "s_nationkey", "n_nationkey")
    customers = _join(t["customer"], nations.rename({"n_name": "to"}), "c_nationkey", "n_nationkey")
    orders = _join(t["orders"], customers, "o_custkey", "c_custkey")
    lines = t["lineitem"].filter(col("l_shipdate").is_between(date(1995, 1, 1), date(1996, 12, 31)))
    whole = _join(_join(lines, suppliers, "l_suppkey", "s_suppkey"), orders, "l_orderkey", "o_orderkey")
    whole = whole.filter(col("from") != col("to"))
    return whole.group_by("from", "to", col("l_shipdate").dt.year().alias("year")).agg(NET.alias("revenue"))


def q8(t: Tables) -> LazyFrame:
    """A nation's share of a region's market by year."""
    nations = _join(t["nation"], t["region"].filter(col("r_name") == "AMERICA"), "n_regionkey", "r_regionkey")
    customers = t["customer"].join(nations, left_on="c_nationkey", right_on="n_nationkey", how="semi")
    orders = t["orders"].filter(col("o_orderdate").is_between(date(1995, 1, 1), date(1996, 12, 31)))
    orders = orders.join(customers, left_on="o_custkey", right_on="c_custkey", how="semi")
    parts = t["part"].filter(col("p_type") == "ECONOMY ANODIZED STEEL")
    lines = t["lineitem"].join(parts, left_on="l_partkey", right_on="p_partkey", how="semi")
    lines = _join(_join(lines, orders, "l_orderkey", "o_orderkey"), t["supplier"], "l_suppkey", "s_suppkey")
    lines = _join(lines, t["nation"], "s_nationkey", "n_nationkey")
    net = (PRICE * (1 - col("l_discount"))).cast(pl.Float64)
    share = net.filter(col("n_name") == "BRAZIL").sum() / net.sum()
    return lines.group_by(col("o_orderdate").dt.year().alias("year")).agg(share.alias("share"))


def q9(t: Tables) -> LazyFrame:
    """Profit on parts of a name by nation and year."""
    parts = t["part"].filter(col("p_name").str.contains("green", literal=True))
    lines = t["lineitem"].join(parts, left_on="l_partkey", right_on="p_partkey", how="semi")
    lines = lines.join(t["partsupp"], left_on=["l_partkey", "l_suppkey"], right_on=["ps_partkey", "ps_suppkey"])
    suppliers = _join(t["supplier"], t["nation"], "s_nationkey", "n_nationkey")
    lines = _join(_join(lines, suppliers, "l_suppkey", "s_suppkey"), t["orders"], "l_orderkey", "o_orderkey")
    profit = PRICE * (1 - col("l_discount")) - col("ps_supplycost").cast(_FOUR) * col("l_quantity")
    return lines.group_by("n_name", col("o_orderdate").dt.year().alias("year")).agg(profit.sum().alias("profit"))


def q10(t: Tables) -> LazyFrame:
    """The twenty customers whose returns were worth most."""
    orders = t["orders"].filter(_from("o_orderdate", date(1993, 10, 1), date(1994, 1, 1)))
    lines = _join(t["lineitem"].filter(col("l_returnflag") == "R"), orders, "l_orderkey", "o_orderkey")
    returned = lines.group_by("o_custkey").agg(NET.alias("revenue")).sort("revenue", descending=True).head(20)
    customers = _join(t["customer"], t["nation"], "c_nationkey", "n_nationkey")
    said = ("c_name", "c_acctbal", "n_name", "c_address", "c_phone", "c_comment", "revenue")
    return _join(returned, customers, "o_custkey", "c_custkey").select("o_custkey", *said)


def q11(t: Tables) -> LazyFrame:
    """Parts that are a large share of a nation's stock."""
    stock = t["partsupp"].join(_suppliers(t, "GERMANY"), left_on="ps_suppkey", right_on="s_suppkey", how="semi")
    worth = stock.group_by("ps_partkey").agg((col("ps_supplycost") * col("ps_availqty")).sum().alias("worth"))
    return worth.filter(col("worth").cast(pl.Float64) > col("worth").sum().cast(pl.Float64) * 0.0001)


def q12(t: Tables) -> LazyFrame:
    """Late lines by way of shipping, of urgent orders and of all others."""
    lines = t["lineitem"].filter(
        col("l_shipmode").is_in(["MAIL", "SHIP"])
        & LATE
        & (col("l_shipdate") < col("l_commitdate"))
        & _from("l_receiptdate", date(1994, 1, 1), date(1995, 1, 1))
    )
    urgent = col("o_orderpriority").is_in(["1-URGENT", "2-HIGH"])
    both = _join(lines, t["orders"], "l_orderkey", "o_orderkey")
    return both.group_by("l_shipmode").agg(urgent.sum().alias("high"), (~urgent).sum().alias("low"))


def q13(t: Tables) -> LazyFrame:
    """Customers by their number of orders."""
    orders = t["orders"].filter(~col("o_comment").str.contains("special.*requests"))
    counts = orders.group_by("o_custkey").len("n")
    customers = t["customer"].join(counts, left_on="c_custkey", right_on="o_custkey", how="left")
    return customers.group_by(col("n").fill_null(0)).len()


def q14(t: Tables) -> LazyFrame:
    """The share of promoted parts in a month's revenue."""
    lines = t["lineitem"].filter(_from("l_shipdate", date(1995, 9, 1), date(1995, 10, 1)))
    net = (PRICE * (1 - col("l_discount"))).cast(pl.Float64)
    promoted = net.filter(col("p_type").str.starts_with("PROMO")).sum()
    return _join(lines, t["part"], "l_partkey", "p_partkey").select((100 * promoted / net.sum()).alias("promoted"))


def q15(t: Tables) -> LazyFrame:
    """The supplier of most revenue in a quarter."""
    lines = t["lineitem"].filter(_from("l_shipdate", date(1996, 1, 1), date(1996, 4, 1)))
    revenue = lines.group_by("l_suppkey").agg(NET.alias("total")).filter(col("total") == col("total").max())
    best = _join(revenue, t["supplier"], "l_suppkey", "s_suppkey")
    return best.select("l_suppkey", "s_name", "s_address", "s_phone", "total")


def q16(t: Tables) -> LazyFrame:
    """How many suppliers offer parts of each kind."""
    wanted = (col("p_brand") != "Brand#45") & ~col("p_type").str.starts_with("MEDIUM POLISHED")
    parts = t["part"].filter(wanted & col("p_size").is_in([49, 14, 23, 45, 19, 3, 36, 9]))
    complained = t["supplier"].filter(col("s_comment").str.contains("Customer.*Complaints"))
    offers = t["partsupp"].join(complained, left_on="ps_suppkey", right_on="s_suppkey", how="anti")
    offers = _join(offers, parts, "ps_partkey", "p_partkey")
    return offers.group_by("p_brand", "p_type", "p_size").agg(col("ps_suppkey").n_unique())


def q17(t: Tables) -> LazyFrame:
    """What small orders of a part bring in a year."""
    parts = t["part"].filter((col("p_brand") == "Brand#23") & (col("p_container") == "MED BOX"))
    lines = t["lineitem"].join(parts, left_on="l_partkey", right_on="p_partkey", how="semi")
    few = lines.filter(col("l_quantity").cast(pl.Float64) < 0.2 * col("l_quantity").mean().over("l_partkey"))
    yearly = col("l_extendedprice").sum().cast(pl.Float64) / 7
    return few.select(pl.when(pl.len() > 0).then(yearly).alias("yearly"))


def q18(t: Tables) -> LazyFrame:
    """The hundred orders of highest price among large ones."""
    large = t["lineitem"].group_by("l_orderkey").agg(col("l_quantity").sum()).filter(col("l_quantity") > 300)
    orders = _join(_join(t["orders"], large, "o_orderkey", "l_orderkey"), t["customer"], "o_custkey", "c_custkey")
    first = orders.sort("o_totalprice", "o_orderdate", descending=[True, False]).head(100)
    return first.select("o_orderkey", "c_name", "o_custkey", "o_orderdate", "o_totalprice", "l_quantity")


def q19(t: Tables) -> LazyFrame:
    """Revenue of three kinds of lines by air."""
    said = (
        ("Brand#12", ["SM CASE", "SM BOX", "SM PACK", "SM PKG"], (1, 11), 5),
        ("Brand#23", ["MED BAG", "MED BOX", "MED PKG", "MED PACK"], (10, 20), 10),
        ("Brand#34", ["LG CASE", "LG BOX", "LG PACK", "LG PKG"], (20, 30), 15),
    )
    kinds = [
        (col("p_brand") == brand) & col("p_container").is_in(boxes) & col("l_quantity").is_between(*between)
        & col("p_size").is_between(1, most) for brand, boxes, between, most in said
    ]  # fmt: skip
    air = (col("l_shipinstruct") == "DELIVER IN PERSON") & col("l_shipmode").is_in(["AIR", "AIR REG"])
    lines = _join(t["lineitem"].filter(air), t["part"], "l_partkey", "p_partkey")
    return lines.filter(pl.any_horizontal(kinds)).select(NET.alias("revenue"))


def q20(t: Tables) -> LazyFrame:
    """Suppliers with more of some parts than half of what was sold in a year."""
    parts = t["part"].filter(col("p_name").str.starts_with("forest"))
    offers = t["partsupp"].join(parts, left_on="ps_partkey", right_on="p_partkey", how="semi")
    lines = t["lineitem"].filter(_from("l_shipdate", date(1994, 1, 1), date(1995, 1, 1)))
    lines = lines.join(parts, left_on="l_partkey", right_on="p_partkey", how="semi")
    sold = lines.group_by("l_partkey", "l_suppkey").agg(col("l_quantity").sum())
    both = offers.join(sold, left_on=["ps_partkey", "ps_suppkey"], right_on=["l_partkey", "l_suppkey"])
    enough = both.filter(col("ps_availqty").cast(pl.Float64) > 0.5 * col("l_quantity").cast(pl.Float64))
    suppliers = _suppliers(t, "CANADA").join(enough, left_on="s_suppkey", right_on="ps_suppkey", how="semi")
    return suppliers.select("s_suppkey", "s_name", "s_address")


def q21(t: Tables) -> LazyFrame:
    """Suppliers who alone kept an order of several suppliers waiting."""
    lines = t["lineitem"]
    several = lines.group_by("l_orderkey").agg(col("l_suppkey").n_unique().alias("n")).filter(col("n") > 1)
    alone = lines.filter(LATE).group_by("l_orderkey").agg(col("l_suppkey").n_unique().alias("n")).filter(col("n") == 1)
    orders = t["orders"].filter(col("o_orderstatus") == "F")
    waiting = _join(lines.filter(LATE), _suppliers(t, "SAUDI ARABIA"), "l_suppkey", "s_suppkey")
    for others, key in ((orders, "o_orderkey"), (several, "l_orderkey"), (alone, "l_orderkey")):
        waiting = waiting.join(others, left_on="l_orderkey", right_on=key, how="semi")
    counts = waiting.group_by("l_suppkey", "s_name").len("waits")
    return counts.sort("waits", "s_name", descending=[True, False]).head(100)


def q22(t: Tables) -> LazyFrame:
    """Customers with money and without an order, by the country of their phone."""
    customers = t["customer"].with_columns(col("c_phone").str.slice(0, 2).alias("code"))
    customers = customers.filter(col("code").is_in(["13", "31", "23", "29", "30", "18", "17"]))
    balance = col("c_acctbal").cast(pl.Float64)
    rich = customers.filter(balance > balance.filter(balance > 0).mean())
    idle = rich.join(t["orders"], left_on="c_custkey", right_on="o_custkey", how="anti")
    return idle.group_by("code").agg(pl.len(), col("c_acctbal").sum())


QUERIES: dict[int, Callable[[Tables], LazyFrame]] = dict(
    enumerate(
        (q1, q2, q3, q4, q5, q6, q7, q8, q9, q10, q11, q12, q13, q14, q15, q16, q17, q18, q19, q20, q21, q22), start=1
    )
)
