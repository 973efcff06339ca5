"""The 22 questions of a public decision-support benchmark, asked as pivots.

What each asks, the rows that it must give in SQL, and how it is run and timed are in ``decisions.py``. Where the SQL
keeps the first rows of several chains of tables together (question 2), both sides are asked without that limit.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import relatum
from relatum.model.declaration import EngineChoice

TABLES = ("region", "nation", "supplier", "customer", "part", "partsupp", "orders", "lineitem")
_KEYS: dict[str, str | tuple[str, ...]] = {
    "region": "r_regionkey",
    "nation": "n_nationkey",
    "supplier": "s_suppkey",
    "customer": "c_custkey",
    "part": "p_partkey",
    "partsupp": ("ps_partkey", "ps_suppkey"),
    "orders": "o_orderkey",
}
_RELATIONSHIPS = (
    "nation.n_regionkey -> region.r_regionkey",
    "supplier_nation.n_regionkey -> supplier_region.r_regionkey",
    "customer.c_nationkey -> nation.n_nationkey",
    "supplier.s_nationkey -> supplier_nation.n_nationkey",
    "partsupp.ps_partkey -> part.p_partkey",
    "partsupp.ps_suppkey -> supplier.s_suppkey",
    "orders.o_custkey -> customer.c_custkey",
    "lineitem.l_orderkey -> orders.o_orderkey",
    "lineitem.(l_partkey, l_suppkey) -> partsupp.(ps_partkey, ps_suppkey)",
)


@dataclass(frozen=True)
class Question:
    """One question, in both languages. ``columns`` says which columns of the SQL's rows are the grid's, in the order
    of the grid: fields, then values; ``fields_only`` that it has no column for the values.
    """

    number: int
    sql: str
    values: dict[str, str]
    rows: str = ""
    where: str = ""
    keep: str = ""
    columns: tuple[int, ...] = ()
    fields_only: bool = False

    def ask(self, model: relatum.Model) -> relatum.Grid:
        """The question to Relatum."""
        said: dict[str, Any] = {"rows": self.rows, "where": self.where, "keep": self.keep}
        given = {name: text for name, text in said.items() if text}
        return model.pivot(values=self.values, totals=False, **given)

    def ours(self, grid: relatum.Grid) -> list[tuple[Any, ...]]:
        """What a grid holds, as rows."""
        table = grid.to_arrow()
        flags = [name for name in table.column_names if name.endswith((":closed", ":others", ":no match"))]
        return [tuple(row.values()) for row in table.drop_columns(flags).to_pylist()]

    def theirs(self, rows: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
        """The SQL's rows, with the grid's columns."""
        return [tuple(row[at] for at in self.columns) for row in rows] if self.columns else rows


_NET = "sum(lineitem.l_extendedprice * (1 - lineitem.l_discount))"
_SQL_NET = "sum(l_extendedprice * (1 - l_discount))"
_LATE = "lineitem.l_receiptdate > lineitem.l_commitdate"

QUESTIONS = (
    Question(
        1,
        f"""select l_returnflag, l_linestatus, sum(l_quantity), sum(l_extendedprice), {_SQL_NET},
        sum(l_extendedprice * (1 - l_discount) * (1 + l_tax)), avg(l_quantity), avg(l_extendedprice),
        avg(l_discount), count(*) from lineitem where l_shipdate <= date '1998-09-02'
        group by l_returnflag, l_linestatus""",
        {
            "quantity": "sum(lineitem.l_quantity)",
            "price": "sum(lineitem.l_extendedprice)",
            "net": _NET,
            "charge": "sum(lineitem.l_extendedprice * (1 - lineitem.l_discount) * (1 + lineitem.l_tax))",
            "avg_quantity": "avg(lineitem.l_quantity)",
            "avg_price": "avg(lineitem.l_extendedprice)",
            "avg_discount": "avg(lineitem.l_discount)",
            "lines": "count(lineitem)",
        },
        rows="lineitem.l_returnflag, lineitem.l_linestatus",
        where="lineitem.l_shipdate <= date '1998-09-02'",
    ),
    Question(
        2,
        """select p_partkey, s_suppkey, p_mfgr, s_name, s_acctbal, n_name, s_address, s_phone, ps_supplycost
        from part, supplier, partsupp, nation, region
        where p_partkey = ps_partkey and s_suppkey = ps_suppkey and p_size = 15 and p_type like '%BRASS'
        and s_nationkey = n_nationkey and n_regionkey = r_regionkey and r_name = 'EUROPE' and ps_supplycost = (
            select min(ps_supplycost) from partsupp, supplier, nation, region
            where p_partkey = ps_partkey and s_suppkey = ps_suppkey and s_nationkey = n_nationkey
            and n_regionkey = r_regionkey and r_name = 'EUROPE')""",
        {"cost": "sum(partsupp.ps_supplycost)"},
        rows="part.p_partkey, part.p_mfgr, supplier.s_suppkey, supplier.s_name, supplier.s_acctbal,"
        " supplier_nation.n_name, supplier.s_address, supplier.s_phone",
        where="part.p_size = 15 and part.p_type like '%BRASS' and supplier_region.r_name = 'EUROPE'",
        keep="partsupp where sum(partsupp.ps_supplycost) ="
        " min(partsupp.ps_supplycost)[only part, where supplier_region.r_name = 'EUROPE']",
        columns=(0, 2, 1, 3, 4, 5, 6, 7, 8),
    ),
    Question(
        3,
        f"""select l_orderkey, o_orderdate, o_shippriority, {_SQL_NET} as revenue from customer, orders, lineitem
        where c_mktsegment = 'BUILDING' and c_custkey = o_custkey and l_orderkey = o_orderkey
        and o_orderdate < date '1995-03-15' and l_shipdate > date '1995-03-15'
        group by l_orderkey, o_orderdate, o_shippriority order by revenue desc, o_orderdate limit 10""",
        {"revenue": _NET},
        rows="orders.o_orderkey top 10, orders.o_orderdate, orders.o_shippriority",
        where="customer.c_mktsegment = 'BUILDING' and orders.o_orderdate < date '1995-03-15'"
        " and lineitem.l_shipdate > date '1995-03-15'",
    ),
    Question(
        4,
        """select o_orderpriority, count(*) from orders
        where o_orderdate >= date '1993-07-01' and o_orderdate < date '1993-10-01' and exists (
            select * from lineitem where l_orderkey = o_orderkey and l_commitdate < l_receiptdate)
        group by o_orderpriority""",
        {"orders": "count(orders)"},
        rows="orders.o_orderpriority",
        where="orders.o_orderdate >= date '1993-07-01' and orders.o_orderdate < date '1993-10-01'",
        keep="orders where count(lineitem)[where lineitem.l_commitdate < lineitem.l_receiptdate] > 0",
    ),
    Question(
        5,
        f"""select n_name, {_SQL_NET} from customer, orders, lineitem, supplier, nation, region
        where c_custkey = o_custkey and l_orderkey = o_orderkey and l_suppkey = s_suppkey
        and c_nationkey = s_nationkey and s_nationkey = n_nationkey and n_regionkey = r_regionkey
        and r_name = 'ASIA' and o_orderdate >= date '1994-01-01' and o_orderdate < date '1995-01-01'
        group by n_name""",
        {"revenue": _NET},
        rows="supplier_nation.n_name",
        where="customer.c_nationkey = supplier.s_nationkey over lineitem and supplier_region.r_name = 'ASIA'"
        " and orders.o_orderdate >= date '1994-01-01' and orders.o_orderdate < date '1995-01-01'",
    ),
    Question(
        6,
        """select sum(l_extendedprice * l_discount) from lineitem where l_shipdate >= date '1994-01-01'
        and l_shipdate < date '1995-01-01' and l_discount between 0.05 and 0.07 and l_quantity < 24""",
        {"revenue": "sum(lineitem.l_extendedprice * lineitem.l_discount)"},
        where="lineitem.l_shipdate >= date '1994-01-01' and lineitem.l_shipdate < date '1995-01-01'"
        " and lineitem.l_discount between 0.05 and 0.07 and lineitem.l_quantity < 24",
    ),
    Question(
        7,
        f"""select n1.n_name, n2.n_name, year(l_shipdate), {_SQL_NET}
        from supplier, lineitem, orders, customer, nation n1, nation n2
        where s_suppkey = l_suppkey and o_orderkey = l_orderkey and c_custkey = o_custkey
        and s_nationkey = n1.n_nationkey and c_nationkey = n2.n_nationkey
        and ((n1.n_name = 'FRANCE' and n2.n_name = 'GERMANY') or (n1.n_name = 'GERMANY' and n2.n_name = 'FRANCE'))
        and l_shipdate between date '1995-01-01' and date '1996-12-31' group by all""",
        {"revenue": _NET},
        rows="supplier_nation.n_name, nation.n_name, year: year(lineitem.l_shipdate)",
        where="((supplier_nation.n_name = 'FRANCE' and nation.n_name = 'GERMANY')"
        " or (supplier_nation.n_name = 'GERMANY' and nation.n_name = 'FRANCE') over lineitem)"
        " and lineitem.l_shipdate between date '1995-01-01' and date '1996-12-31'",
    ),
    Question(
        8,
        f"""select year(o_orderdate),
        sum(case when n2.n_name = 'BRAZIL' then l_extendedprice * (1 - l_discount) else 0 end) / {_SQL_NET}
        from part, supplier, lineitem, orders, customer, nation n1, nation n2, region
        where p_partkey = l_partkey and s_suppkey = l_suppkey and l_orderkey = o_orderkey and o_custkey = c_custkey
        and c_nationkey = n1.n_nationkey and n1.n_regionkey = r_regionkey and r_name = 'AMERICA'
        and s_nationkey = n2.n_nationkey and o_orderdate between date '1995-01-01' and date '1996-12-31'
        and p_type = 'ECONOMY ANODIZED STEEL' group by all""",
        {"share": f"coalesce({_NET}[where supplier_nation.n_name = 'BRAZIL'], 0) / {_NET}"},
        rows="year: year(orders.o_orderdate)",
        where="region.r_name = 'AMERICA' and orders.o_orderdate between date '1995-01-01' and date '1996-12-31'"
        " and part.p_type = 'ECONOMY ANODIZED STEEL'",
    ),
    Question(
        9,
        """select n_name, year(o_orderdate), sum(l_extendedprice * (1 - l_discount) - ps_supplycost * l_quantity)
        from part, supplier, lineitem, partsupp, orders, nation where s_suppkey = l_suppkey
        and ps_suppkey = l_suppkey and ps_partkey = l_partkey and p_partkey = l_partkey and o_orderkey = l_orderkey
        and s_nationkey = n_nationkey and p_name like '%green%' group by all""",
        {
            "profit": "sum(lineitem.l_extendedprice * (1 - lineitem.l_discount)"
            " - partsupp.ps_supplycost * lineitem.l_quantity)"
        },
        rows="supplier_nation.n_name, year: year(orders.o_orderdate)",
        where="part.p_name like '%green%'",
    ),
    Question(
        10,
        f"""select c_custkey, c_name, c_acctbal, n_name, c_address, c_phone, c_comment, {_SQL_NET} as revenue
        from customer, orders, lineitem, nation where c_custkey = o_custkey and l_orderkey = o_orderkey
        and o_orderdate >= date '1993-10-01' and o_orderdate < date '1994-01-01' and l_returnflag = 'R'
        and c_nationkey = n_nationkey group by all order by revenue desc limit 20""",
        {"revenue": _NET},
        rows="customer.c_custkey top 20, customer.c_name, customer.c_acctbal, nation.n_name, customer.c_address,"
        " customer.c_phone, customer.c_comment",
        where="orders.o_orderdate >= date '1993-10-01' and orders.o_orderdate < date '1994-01-01'"
        " and lineitem.l_returnflag = 'R'",
    ),
    Question(
        11,
        """select ps_partkey, sum(ps_supplycost * ps_availqty) from partsupp, supplier, nation
        where ps_suppkey = s_suppkey and s_nationkey = n_nationkey and n_name = 'GERMANY' group by ps_partkey
        having sum(ps_supplycost * ps_availqty) > (
            select sum(ps_supplycost * ps_availqty) * 0.0001 from partsupp, supplier, nation
            where ps_suppkey = s_suppkey and s_nationkey = n_nationkey and n_name = 'GERMANY')""",
        {"worth": "sum(partsupp.ps_supplycost * partsupp.ps_availqty)"},
        rows="part.p_partkey",
        where="supplier_nation.n_name = 'GERMANY'",
        keep="part where sum(partsupp.ps_supplycost * partsupp.ps_availqty) >"
        " sum(partsupp.ps_supplycost * partsupp.ps_availqty)[ignoring part] * 0.0001",
    ),
    Question(
        12,
        """select l_shipmode,
        sum(case when o_orderpriority = '1-URGENT' or o_orderpriority = '2-HIGH' then 1 else 0 end),
        sum(case when o_orderpriority <> '1-URGENT' and o_orderpriority <> '2-HIGH' then 1 else 0 end)
        from orders, lineitem where o_orderkey = l_orderkey and l_shipmode in ('MAIL', 'SHIP')
        and l_commitdate < l_receiptdate and l_shipdate < l_commitdate
        and l_receiptdate >= date '1994-01-01' and l_receiptdate < date '1995-01-01' group by l_shipmode""",
        {
            "high": "count(lineitem)[where orders.o_orderpriority in ('1-URGENT', '2-HIGH')]",
            "low": "count(lineitem)[where orders.o_orderpriority not in ('1-URGENT', '2-HIGH')]",
        },
        rows="lineitem.l_shipmode",
        where="lineitem.l_shipmode in ('MAIL', 'SHIP') and lineitem.l_commitdate < lineitem.l_receiptdate"
        " and lineitem.l_shipdate < lineitem.l_commitdate"
        " and lineitem.l_receiptdate >= date '1994-01-01' and lineitem.l_receiptdate < date '1995-01-01'",
    ),
    Question(
        13,
        """select c_count, count(*) from (
            select c_custkey, count(o_orderkey) as c_count from customer left join orders
            on c_custkey = o_custkey and o_comment not like '%special%requests%' group by c_custkey)
        group by c_count""",
        {"customers": "count(customer)"},
        rows="orders: coalesce(count(orders)[where orders.o_comment not like '%special%requests%'], 0) over customer",
    ),
    Question(
        14,
        f"""select 100.00 * sum(case when p_type like 'PROMO%' then l_extendedprice * (1 - l_discount) else 0 end)
        / {_SQL_NET} from lineitem, part where l_partkey = p_partkey
        and l_shipdate >= date '1995-09-01' and l_shipdate < date '1995-10-01'""",
        {"promoted": f"100 * {_NET}[where part.p_type like 'PROMO%'] / {_NET}"},
        where="lineitem.l_shipdate >= date '1995-09-01' and lineitem.l_shipdate < date '1995-10-01'",
    ),
    Question(
        15,
        f"""with revenue as (select l_suppkey, {_SQL_NET} as total from lineitem
            where l_shipdate >= date '1996-01-01' and l_shipdate < date '1996-04-01' group by l_suppkey)
        select s_suppkey, s_name, s_address, s_phone, total from supplier, revenue
        where s_suppkey = l_suppkey and total = (select max(total) from revenue)""",
        {"revenue": _NET},
        rows="supplier.s_suppkey top 1, supplier.s_name, supplier.s_address, supplier.s_phone",
        where="lineitem.l_shipdate >= date '1996-01-01' and lineitem.l_shipdate < date '1996-04-01'",
    ),
    Question(
        16,
        """select p_brand, p_type, p_size, count(distinct ps_suppkey) from partsupp, part
        where p_partkey = ps_partkey and p_brand <> 'Brand#45' and p_type not like 'MEDIUM POLISHED%'
        and p_size in (49, 14, 23, 45, 19, 3, 36, 9) and ps_suppkey not in (
            select s_suppkey from supplier where s_comment like '%Customer%Complaints%')
        group by p_brand, p_type, p_size""",
        {"suppliers": "count(distinct partsupp.ps_suppkey)"},
        rows="part.p_brand, part.p_type, part.p_size",
        where="part.p_brand <> 'Brand#45' and part.p_type not like 'MEDIUM POLISHED%'"
        " and part.p_size in (49, 14, 23, 45, 19, 3, 36, 9)"
        " and supplier.s_comment not like '%Customer%Complaints%'",
    ),
    Question(
        17,
        """select sum(l_extendedprice) / 7.0 from lineitem, part where p_partkey = l_partkey
        and p_brand = 'Brand#23' and p_container = 'MED BOX' and l_quantity < (
            select 0.2 * avg(l_quantity) from lineitem where l_partkey = p_partkey)""",
        {
            "yearly": "sum(case when lineitem.l_quantity < 0.2 * avg(lineitem.l_quantity)[only part]"
            " then lineitem.l_extendedprice end over lineitem) / 7"
        },
        where="part.p_brand = 'Brand#23' and part.p_container = 'MED BOX'",
    ),
    Question(
        18,
        """select o_orderkey, c_name, c_custkey, o_orderdate, o_totalprice, sum(l_quantity)
        from customer, orders, lineitem where o_orderkey in (
            select l_orderkey from lineitem group by l_orderkey having sum(l_quantity) > 300)
        and c_custkey = o_custkey and o_orderkey = l_orderkey group by all
        order by o_totalprice desc, o_orderdate limit 100""",
        {"quantity": "sum(lineitem.l_quantity)"},
        rows="orders.o_orderkey top 100 by sum(orders.o_totalprice), customer.c_name, customer.c_custkey,"
        " orders.o_orderdate, orders.o_totalprice",
        keep="orders where sum(lineitem.l_quantity) > 300",
    ),
    Question(
        19,
        f"""select {_SQL_NET} from lineitem, part where p_partkey = l_partkey
        and l_shipinstruct = 'DELIVER IN PERSON' and l_shipmode in ('AIR', 'AIR REG') and (
        (p_brand = 'Brand#12' and p_container in ('SM CASE', 'SM BOX', 'SM PACK', 'SM PKG')
        and l_quantity between 1 and 11 and p_size between 1 and 5)
        or (p_brand = 'Brand#23' and p_container in ('MED BAG', 'MED BOX', 'MED PKG', 'MED PACK')
        and l_quantity between 10 and 20 and p_size between 1 and 10)
        or (p_brand = 'Brand#34' and p_container in ('LG CASE', 'LG BOX', 'LG PACK', 'LG PKG')
        and l_quantity between 20 and 30 and p_size between 1 and 15))""",
        {"revenue": _NET},
        where="""lineitem.l_shipinstruct = 'DELIVER IN PERSON' and lineitem.l_shipmode in ('AIR', 'AIR REG') and (
        (part.p_brand = 'Brand#12' and part.p_container in ('SM CASE', 'SM BOX', 'SM PACK', 'SM PKG')
        and lineitem.l_quantity between 1 and 11 and part.p_size between 1 and 5)
        or (part.p_brand = 'Brand#23' and part.p_container in ('MED BAG', 'MED BOX', 'MED PKG', 'MED PACK')
        and lineitem.l_quantity between 10 and 20 and part.p_size between 1 and 10)
        or (part.p_brand = 'Brand#34' and part.p_container in ('LG CASE', 'LG BOX', 'LG PACK', 'LG PKG')
        and lineitem.l_quantity between 20 and 30 and part.p_size between 1 and 15) over lineitem)""",
    ),
    Question(
        20,
        """select s_suppkey, s_name, s_address from supplier, nation where s_suppkey in (
            select ps_suppkey from partsupp where ps_partkey in (
                select p_partkey from part where p_name like 'forest%')
            and ps_availqty > (select 0.5 * sum(l_quantity) from lineitem where l_partkey = ps_partkey
                and l_suppkey = ps_suppkey and l_shipdate >= date '1994-01-01' and l_shipdate < date '1995-01-01'))
        and s_nationkey = n_nationkey and n_name = 'CANADA'""",
        {"offers": "count(partsupp)"},
        rows="supplier.s_suppkey, supplier.s_name, supplier.s_address",
        where="part.p_name like 'forest%' and supplier_nation.n_name = 'CANADA'",
        keep="partsupp where sum(partsupp.ps_availqty) > 0.5 * sum(lineitem.l_quantity)"
        "[where lineitem.l_shipdate >= date '1994-01-01' and lineitem.l_shipdate < date '1995-01-01']",
        fields_only=True,
    ),
    Question(
        21,
        """select s_suppkey, s_name, count(*) as waits from supplier, lineitem l1, orders, nation
        where s_suppkey = l1.l_suppkey and o_orderkey = l1.l_orderkey and o_orderstatus = 'F'
        and l1.l_receiptdate > l1.l_commitdate and exists (
            select * from lineitem l2 where l2.l_orderkey = l1.l_orderkey and l2.l_suppkey <> l1.l_suppkey)
        and not exists (select * from lineitem l3 where l3.l_orderkey = l1.l_orderkey
            and l3.l_suppkey <> l1.l_suppkey and l3.l_receiptdate > l3.l_commitdate)
        and s_nationkey = n_nationkey and n_name = 'SAUDI ARABIA' group by all
        order by waits desc, s_name limit 100""",
        {"waits": "count(lineitem)"},
        rows="supplier.s_suppkey by (count(lineitem) desc, supplier.s_name) top 100 by (count(lineitem),"
        " supplier.s_name), supplier.s_name",
        where=f"orders.o_orderstatus = 'F' and {_LATE} and supplier_nation.n_name = 'SAUDI ARABIA'",
        keep="orders where count(distinct lineitem.l_suppkey)[only orders] > 1 and"
        f" count(distinct lineitem.l_suppkey)[only orders, where {_LATE}] = 1",
    ),
    Question(
        22,
        """select substring(c_phone, 1, 2) as code, count(*), sum(c_acctbal) from customer
        where substring(c_phone, 1, 2) in ('13', '31', '23', '29', '30', '18', '17') and c_acctbal > (
            select avg(c_acctbal) from customer where c_acctbal > 0
            and substring(c_phone, 1, 2) in ('13', '31', '23', '29', '30', '18', '17'))
        and not exists (select * from orders where o_custkey = c_custkey) group by code""",
        {"customers": "count(customer)", "balance": "sum(customer.c_acctbal)"},
        rows="code: substring(customer.c_phone, 1, 2)",
        where="substring(customer.c_phone, 1, 2) in ('13', '31', '23', '29', '30', '18', '17')",
        keep="customer where count(orders) is null and sum(customer.c_acctbal) >"
        " avg(customer.c_acctbal)[ignoring row, where customer.c_acctbal > 0]",
    ),
)  # fmt: skip


def relate(model: relatum.Model) -> None:
    """The relationships: suppliers have a nation of their own, so that there is one route from a line to each table."""
    model.add_role("supplier_region", "region")
    model.add_role("supplier_nation", "nation")
    for text in _RELATIONSHIPS:
        model.relate(text)


def open_memory(folder: Path) -> relatum.Model:
    """The tables as a model, in this process."""
    model = relatum.Model("decisions")
    for table in TABLES:
        model.add_table(table, folder / f"{table}.parquet", key=_KEYS.get(table, ()))
    relate(model)
    return model


def open_there(address: Path) -> relatum.Model:
    """The tables as a model whose tables are in a file of DuckDB."""
    model = relatum.Model("decisions", engine=EngineChoice("duckdb", str(address)))
    for table in TABLES:
        model.add_table(table, "", part=table, key=_KEYS.get(table, ()))
    relate(model)
    return model
