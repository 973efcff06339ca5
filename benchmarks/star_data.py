"""Tables of the star schema benchmark, made from its published column rules.

O'Neil, O'Neil, Chen: Star Schema Benchmark, revision 3 (2009): one fact table of order lines and four lookups. Six
million lines are its scale factor 1. Dates are dates here, where the paper numbers them 19920101.
"""

from __future__ import annotations

from datetime import date
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

NATIONS = {
    "AFRICA": ("ALGERIA", "ETHIOPIA", "KENYA", "MOROCCO", "MOZAMBIQUE"),
    "AMERICA": ("ARGENTINA", "BRAZIL", "CANADA", "PERU", "UNITED STATES"),
    "ASIA": ("CHINA", "INDIA", "INDONESIA", "JAPAN", "VIETNAM"),
    "EUROPE": ("FRANCE", "GERMANY", "ROMANIA", "RUSSIA", "UNITED KINGDOM"),
    "MIDDLE EAST": ("EGYPT", "IRAN", "IRAQ", "JORDAN", "SAUDI ARABIA"),
}
FIRST, LAST = date(1992, 1, 1), date(1998, 12, 31)
_ORDERED_UNTIL = date(1998, 8, 2)
_MODES = ("AIR", "FOB", "MAIL", "RAIL", "REG AIR", "SHIP", "TRUCK")
_PRIORITIES = ("1-URGENT", "2-HIGH", "3-MEDIUM", "4-NOT SPECI", "5-LOW")


def make_tables(lines: int, seed: int = 7) -> dict[str, pa.Table]:
    """All five tables for a number of order lines."""
    random = np.random.default_rng(seed)
    scale = lines / 6_000_000
    parts = int(200_000 * (1 + max(0.0, np.log2(scale)))) if scale >= 1 else max(200, int(200_000 * scale))
    counts = {"customer": max(30, int(30_000 * scale)), "supplier": max(20, int(2_000 * scale)), "part": parts}
    part = _part(random, counts["part"])
    return {
        "customer": _trader(random, "custkey", counts["customer"]),
        "supplier": _trader(random, "suppkey", counts["supplier"]),
        "part": part,
        "dates": _dates(),
        "lineorder": _lineorder(random, lines, counts),
    }


def write_tables(folder: Path, lines: int) -> None:
    """Write every table as a Parquet file, unless they are there for that many lines already."""
    fact = folder / "lineorder.parquet"
    if fact.exists() and pq.ParquetFile(fact).metadata.num_rows == lines:
        return
    folder.mkdir(parents=True, exist_ok=True)
    for name, table in make_tables(lines).items():
        pq.write_table(table, folder / f"{name}.parquet")


def _picked(names: list[str] | tuple[str, ...], codes: np.ndarray) -> pa.Array:
    return pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int32)), list(names)).cast(pa.string())


def _trader(random: np.random.Generator, key: str, count: int) -> pa.Table:
    nations = [(region, nation) for region, names in NATIONS.items() for nation in names]
    nation = random.integers(0, 25, count)
    cities = [f"{name[:9]:<9}{digit}" for _, name in nations for digit in range(10)]
    return pa.table(
        {
            key: np.arange(1, count + 1, dtype=np.int32),
            "city": _picked(cities, nation * 10 + random.integers(0, 10, count)),
            "nation": _picked([name for _, name in nations], nation),
            "region": _picked([region for region, _ in nations], nation),
        }
    )


def _part(random: np.random.Generator, count: int) -> pa.Table:
    maker, category, brand = random.integers(0, 5, count), random.integers(0, 5, count), random.integers(0, 40, count)
    categories = [f"MFGR#{m + 1}{c + 1}" for m in range(5) for c in range(5)]
    brands = [f"{each}{b + 1}" for each in categories for b in range(40)]
    return pa.table(
        {
            "partkey": np.arange(1, count + 1, dtype=np.int32),
            "mfgr": _picked([f"MFGR#{m + 1}" for m in range(5)], maker),
            "category": _picked(categories, maker * 5 + category),
            "brand": _picked(brands, (maker * 5 + category) * 40 + brand),
            "size": random.integers(1, 51, count).astype(np.int8),
        }
    )


def _dates() -> pa.Table:
    days = np.arange(np.datetime64(FIRST), np.datetime64(LAST) + np.timedelta64(1, "D"))
    months = days.astype("datetime64[M]").astype(int)
    week = (days.astype("datetime64[Y]").astype("datetime64[D]") - days).astype(int) // -7 + 1
    return pa.table(
        {
            "datekey": pa.array(days),
            "year": (months // 12 + 1970).astype(np.int16),
            "yearmonth": pa.array([str(day)[:7] for day in days]),
            "weeknuminyear": week.astype(np.int8),
        }
    )


def _lineorder(random: np.random.Generator, lines: int, counts: dict[str, int]) -> pa.Table:
    order = np.unique(np.repeat(np.arange(lines), random.integers(1, 8, lines))[:lines], return_inverse=True)[1]
    orders = int(order[-1]) + 1
    first, until = np.datetime64(FIRST), np.datetime64(_ORDERED_UNTIL)
    order_day = first + random.integers(0, int((until - first).astype(int)) + 1, orders)
    partkey = random.integers(1, counts["part"] + 1, lines)
    quantity = random.integers(1, 51, lines)
    # The retail price rule of the benchmark that this one grew from, in cents.
    price = 90_000 + (partkey // 10) % 20_001 + 100 * (partkey % 1_000)
    extended = quantity * price
    discount = random.integers(0, 11, lines)
    return pa.table(
        {
            "orderkey": (order + 1).astype(np.int32),
            "custkey": random.integers(1, counts["customer"] + 1, orders).astype(np.int32)[order],
            "partkey": partkey.astype(np.int32),
            "suppkey": random.integers(1, counts["supplier"] + 1, lines).astype(np.int32),
            "orderdate": pa.array(order_day[order]),
            "orderpriority": _picked(_PRIORITIES, random.integers(0, 5, orders)[order]),
            "quantity": quantity.astype(np.int8),
            "extendedprice": extended.astype(np.int32),
            "discount": discount.astype(np.int8),
            "revenue": (extended * (100 - discount) // 100).astype(np.int32),
            "supplycost": (6 * price // 10).astype(np.int32),
            "tax": random.integers(0, 9, lines).astype(np.int8),
            "shipmode": _picked(_MODES, random.integers(0, 7, lines)),
        }
    )
