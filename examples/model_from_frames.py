"""A model from frames: one table from pandas, one from Polars, one from Arrow; the answer goes back to Polars."""

from datetime import date

import pandas as pd
import polars as pl
import pyarrow as pa

import relatum

sales = pd.DataFrame(
    {
        "plant": ["fig", "fig", "ivy", "oak", "elm"],
        "buyer": ["ann", "bob", "ann", "cyd", None],
        "sold_on": [date(2024, 1, 30), date(2024, 2, 1), date(2024, 2, 29), date(2024, 3, 1), date(2024, 3, 2)],
        "pots": [2, 3, 4, 1, 5],
    }
)
plants = pl.DataFrame(
    {"plant": ["fig", "ivy", "oak", "yew"], "kind": ["fruit", "climber", "tree", "tree"], "price": [5, 7, 100, 20]}
)
buyers = pa.table({"buyer": ["ann", "bob", "cyd"], "region": ["North", "South", "North"]})

model = relatum.Model("from frames")
model.add_table("sales", sales)
model.add_table("plant", plants, key="plant")
model.add_table("buyer", buyers, key="buyer")
model.relate("sales.plant -> plant.plant")
model.relate("sales.buyer -> buyer.buyer")
model.measure("pots", "sum(sales.pots)")
model.measure("revenue", "sum(sales.pots * plant.price)", format="#,##0.00")

grid = model.pivot(rows="plant.kind", columns="buyer.region", values=["pots", "revenue"])
print(grid)
print()
print(pl.DataFrame(grid))
