"""The nursery's data, from a seed: the same numbers on every machine."""

from __future__ import annotations

from datetime import date

import numpy as np
import pyarrow as pa
from msgspec import Struct

from relatum.data.arrow import column_to_arrow
from relatum.data.columns import Array, exact_column
from relatum.data.days import day_number
from relatum.data.types import decimal
from relatum.demo.range import CATEGORIES, CULTIVARS, FAMILY_NAMES, KINDS, REGIONS, SEASONS

SEED = 2024
FIRST, LAST = date(2022, 1, 1), date(2024, 12, 31)
DEFAULT_LINES = 60_000

_FIRST_DAY, _LAST_DAY = day_number(FIRST), day_number(LAST)
_WEEKDAYS = np.array([1.2, 1.1, 1.0, 1.1, 1.3, 0.5, 0.0])  # Monday to Sunday: closed on Sundays
_GROWTH = np.array([1.0, 1.07, 1.16])
_NEVER_SOLD = 14
_UNLISTED = 3
_LATE_PRICES = 3
_PRICE_LIST = (date(2021, 11, 1), date(2022, 9, 1), date(2023, 3, 1), date(2024, 2, 1))
_LATE_START = date(2022, 3, 14)


class _Range(Struct, frozen=True, eq=False):
    """The products: their ids, categories, pots and prices in cents by step of the price list."""

    ids: Array
    category: Array
    litres: Array
    names: list[str]
    prices: Array
    costs: Array
    starts: Array


def generate(lines: int = DEFAULT_LINES, seed: int = SEED) -> dict[str, pa.Table]:
    """Every table of the nursery.

    Parameters
    ----------
    lines : int
        How many order lines ``sales`` has; the other tables grow more slowly.
    seed : int
        The same seed gives the same numbers.

    Returns
    -------
    dict of str to pyarrow.Table
        ``sales``, ``product``, ``category``, ``price``, ``customer``, ``quota`` and ``stock``.

    Examples
    --------
    >>> generate(lines=500)["sales"].num_rows
    500
    """
    random = np.random.default_rng(seed)
    goods = _range(random)
    customers, weights, sizes = _customers(random, max(24, min(4000, int(180 * (lines / DEFAULT_LINES) ** 0.5))))
    sales, product, day, quantity = _sales(random, lines, goods, customers, weights, sizes)
    step = _price_step(goods, product, day)
    revenue = np.where(step >= 0, goods.prices[product, step.clip(min=0)], 0) * quantity
    return {
        "sales": sales,
        "product": _product_table(random, goods),
        "category": _category_table(),
        "price": _price_table(goods),
        "customer": customers,
        "quota": _quota(random, goods, product, day, revenue),
        "stock": _stock(random, goods, product, day, quantity),
    }


def _money(cents: Array) -> pa.Array:
    return column_to_arrow(exact_column(decimal(2), cents.astype(np.int64)))


def _dates(days: Array, missing: Array | None = None) -> pa.Array:
    return pa.array(days.astype(np.int32), mask=missing).cast(pa.date32())


def _picked(texts: list[str], codes: Array, missing: Array | None = None) -> pa.Array:
    return pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int32), mask=missing), texts).cast(pa.string())


# -- products and prices -----------------------------------------------------------------------------------------------


def _range(random: np.random.Generator) -> _Range:
    category, litres, names, base = [], [], [], []
    for number, each in enumerate(CATEGORIES):
        for position, plant in enumerate(each.plants):
            for variety in ("", f" '{CULTIVARS[(number * 5 + position * 3) % len(CULTIVARS)]}'"):
                pot = float(random.choice(each.pots))
                category.append(number)
                litres.append(pot)
                names.append(plant + variety)
                base.append(each.price * pot**0.68 * random.uniform(0.85, 1.2) * (1.18 if variety else 1.0))
    count = len(names)
    rises = random.uniform(1.02, 1.09, (count, len(_PRICE_LIST)))
    rises[:, 0] = 1.0
    # Some prices stand still at a step of the list, and a few fall.
    rises[:, 1] = np.where(random.random(count) < 0.55, 1.0, rises[:, 1])
    rises[random.random(count) < 0.06, 3] = 0.95
    prices = np.rint(np.cumprod(rises, axis=1) * np.array(base)[:, None] * 20).astype(np.int64) * 5
    costs = np.rint(prices * random.uniform(0.48, 0.66, (count, 1))).astype(np.int64)
    starts = np.tile([day_number(start) for start in _PRICE_LIST], (count, 1))
    starts[_NEVER_SOLD : _NEVER_SOLD + _LATE_PRICES, 0] = day_number(_LATE_START)
    ids = np.array([f"P{number:03d}" for number in range(1, count + 1)])
    order = random.permutation(count)
    return _Range(ids, np.array(category)[order], np.array(litres)[order], [names[at] for at in order], prices[order],
                  costs[order], starts)  # fmt: skip


def _unlisted(goods: _Range) -> Array:
    # The last few have prices and sales but are missing from the product table.
    return np.arange(len(goods.ids)) >= len(goods.ids) - _UNLISTED


def _product_table(random: np.random.Generator, goods: _Range) -> pa.Table:
    kept = np.flatnonzero(~_unlisted(goods))
    plant_no = np.empty(len(goods.ids), np.int64)
    plant_no[np.lexsort((np.array(goods.names), goods.category))] = np.arange(len(goods.ids)) + 1
    return pa.table(
        {
            "product_id": goods.ids[kept],
            "plant": [goods.names[at] for at in kept],
            "plant_no": plant_no[kept],
            "category_id": [CATEGORIES[at].category_id for at in goods.category[kept]],
            "pot_litres": pa.array(goods.litres[kept]).cast(pa.decimal128(5, 1)),
            "hardy": random.random(len(kept)) < np.where(np.isin(goods.category[kept], (11, 12)), 0.05, 0.86),
        }
    )


def _category_table() -> pa.Table:
    return pa.table(
        {
            "category_id": [each.category_id for each in CATEGORIES],
            "department": [each.department for each in CATEGORIES],
            "category": [each.category for each in CATEGORIES],
        }
    )


def _price_table(goods: _Range) -> pa.Table:
    # A step at which nothing changed is not a row of a price list.
    changed = np.ones(goods.prices.shape, np.bool_)
    changed[:, 1:] = goods.prices[:, 1:] != goods.prices[:, :-1]
    product, step = np.nonzero(changed)
    return pa.table(
        {
            "product_id": goods.ids[product],
            "valid_from": _dates(goods.starts[product, step]),
            "unit_price": _money(goods.prices[product, step]),
            "unit_cost": _money(goods.costs[product, step]),
        }
    )


def _price_step(goods: _Range, product: Array, day: Array) -> Array:
    step = np.full(len(product), -1)
    for number in range(goods.starts.shape[1]):
        step = np.where(goods.starts[product, number] <= day, number, step)
    return step


# -- customers ---------------------------------------------------------------------------------------------------------


def _customers(random: np.random.Generator, count: int) -> tuple[pa.Table, Array, Array]:
    kinds = list(KINDS)
    shares = np.array([KINDS[kind][0] for kind in kinds], float)
    kind = random.choice(len(kinds), count, p=shares / shares.sum())
    towns = [(region, town) for region, names in REGIONS.items() for town in names]
    town = random.choice(len(towns), count, p=np.linspace(1.8, 0.2, len(towns)) / len(towns))
    first = random.integers(0, len(FAMILY_NAMES), count)
    names = []
    for number in range(count):
        endings = KINDS[kinds[kind[number]]][2]
        who = towns[town[number]][1] if kinds[kind[number]] == "council" else FAMILY_NAMES[first[number]]
        name = f"{who} {endings[random.integers(len(endings))]}"
        names.append(name if name not in names else f"{name} {number + 1}")
    # A customer or two whose town nobody wrote down.
    nowhere = np.zeros(count, np.bool_)
    nowhere[[count // 3, count // 2]] = True
    table = pa.table(
        {
            "customer_id": [f"{number:04d}" for number in range(1, count + 1)],
            "customer": names,
            "kind": [kinds[at] for at in kind],
            "town": _picked([name for _, name in towns], town, nowhere),
            "region": [towns[at][0] for at in town],
        }
    )
    size = np.array([KINDS[kinds[at]][1] for at in kind])
    # A few buy most: weights fall off as ranks grow.
    weight = size / (random.permutation(count) + 3.0) ** 0.9
    return table, weight / weight.sum(), size


# -- facts -------------------------------------------------------------------------------------------------------------


def _sales(
    random: np.random.Generator, lines: int, goods: _Range, customers: pa.Table, weights: Array, sizes: Array
) -> tuple[pa.Table, Array, Array, Array]:
    order = np.repeat(np.arange(lines), random.geometric(0.28, lines).clip(max=12))[:lines]
    order = np.unique(order, return_inverse=True)[1]
    orders = int(order[-1]) + 1 if lines else 0
    days = np.arange(_FIRST_DAY, _LAST_DAY + 1)
    months = days.astype("datetime64[D]").astype("datetime64[M]").astype(int)
    busy = _weights(goods).sum(axis=1)[months % 12] * _GROWTH[months // 12 - 52] * _WEEKDAYS[(days + 3) % 7]
    order_day = np.sort(random.choice(days, orders, p=busy / busy.sum()))
    order_customer = _buyers(random, order_day, weights)
    cash = random.random(orders) < 0.035
    day, customer = order_day[order], order_customer[order]
    product = _products(random, goods, day)
    pack = np.select([goods.litres <= 1, goods.litres <= 3, goods.litres <= 10], [12, 6, 2], 1)[product]
    size = np.where(cash[order], 0.15, sizes[customer])
    quantity = np.rint(random.lognormal(0.4, 0.7, lines) * size).clip(1, 60).astype(np.int64)
    quantity = np.where(cash[order], quantity, quantity * pack)
    returned = random.random(lines) < 0.008
    quantity = np.where(returned, -np.maximum(quantity // 4, 1), quantity)
    tier = np.select([weights > 0.02, weights > 0.006], [10, 5], 0)[customer]
    discount = np.where(cash[order], 0, tier + np.where(quantity >= 60, 5, 0))
    wait = random.integers(0, 9, orders)[order]
    shipped = day + wait
    sales = pa.table(
        {
            "order_no": pa.array((order + 100_001).astype(np.int32)),
            "sold_on": _dates(day),
            "shipped_on": _dates(shipped, shipped > _LAST_DAY),
            "product_id": _picked(goods.ids.tolist(), product),
            "customer_id": _picked(customers["customer_id"].to_pylist(), customer, cash[order]),
            "quantity": pa.array(quantity.astype(np.int32)),
            "discount": _money(discount),
        }
    )
    return sales, product, day, quantity


def _buyers(random: np.random.Generator, day: Array, weights: Array) -> Array:
    """The customer of each order: most buy all the time, some come later, some leave."""
    count = len(weights)
    span = _LAST_DAY - _FIRST_DAY
    comes = np.where(random.random(count) < 0.3, _FIRST_DAY + (span * random.random(count)).astype(int), _FIRST_DAY)
    leaves = np.where(random.random(count) < 0.2, comes + 60 + (span * random.random(count)).astype(int), _LAST_DAY)
    largest = int(np.argmax(weights))
    comes[largest], leaves[largest] = _FIRST_DAY, _LAST_DAY
    buyer = random.choice(count, len(day), p=weights)
    for _ in range(6):
        drawn_again = np.flatnonzero((day < comes[buyer]) | (day > leaves[buyer]))
        buyer[drawn_again] = random.choice(count, len(drawn_again), p=weights)
    away = (day < comes[buyer]) | (day > leaves[buyer])
    return np.where(away, largest, buyer)


def _weights(goods: _Range) -> Array:
    """How much of each product sells in each month of the year; nothing of those that are never sold."""
    season = np.array([SEASONS[each.season] for each in CATEGORIES], float)
    share = np.array([each.weight for each in CATEGORIES])
    own = 0.35 + (np.arange(len(goods.ids)) * 7919 % 101) / 60
    own[:_NEVER_SOLD] = 0
    own[_unlisted(goods)] *= 0.35
    return np.asarray((season * share[:, None])[goods.category].T * own)


def _products(random: np.random.Generator, goods: _Range, day: Array) -> Array:
    month = day.astype("datetime64[D]").astype("datetime64[M]").astype(int) % 12
    weights = _weights(goods)
    product = np.zeros(len(day), np.int64)
    for number in range(12):
        rows = np.flatnonzero(month == number)
        product[rows] = random.choice(len(goods.ids), len(rows), p=weights[number] / weights[number].sum())
    return product


def _month_of(day: Array) -> Array:
    month: Array = day.astype("datetime64[D]").astype("datetime64[M]").astype(int) - 12 * 52
    return month


_MONTHS = [f"{2022 + month // 12}-{month % 12 + 1:02d}" for month in range(36)]


def _quota(random: np.random.Generator, goods: _Range, product: Array, day: Array, revenue: Array) -> pa.Table:
    sold = [at for at, each in enumerate(CATEGORIES) if each.plants]
    cents = np.bincount(goods.category[product] * 36 + _month_of(day), revenue, len(CATEGORIES) * 36)
    by_month = cents.reshape(-1, 36)[sold]
    # A target is last year's shape with hope added, in round hundreds.
    target = (
        np.rint(by_month * random.normal(1.03, 0.09, by_month.shape) / 10_000).clip(min=1).astype(np.int64) * 10_000
    )
    return pa.table(
        {
            "category_id": np.repeat([CATEGORIES[at].category_id for at in sold], 36),
            "month": _MONTHS * len(sold),
            "target": _money(target.reshape(-1)),
        }
    )


def _stock(random: np.random.Generator, goods: _Range, product: Array, day: Array, quantity: Array) -> pa.Table:
    kept = np.flatnonzero(~_unlisted(goods))
    sold = np.bincount(product * 36 + _month_of(day), quantity, len(goods.ids) * 36).reshape(-1, 36)[kept]
    usual = sold.mean(axis=1, keepdims=True).clip(min=8)
    counted = np.rint(usual * random.uniform(0.8, 1.9, sold.shape) + 0.5 * np.roll(sold, -1, axis=1)).clip(min=0)
    return pa.table(
        {
            "product_id": np.repeat(goods.ids[kept], 36),
            "month": _MONTHS * len(kept),
            "on_hand": pa.array(counted.reshape(-1).astype(np.int32)),
        }
    )
