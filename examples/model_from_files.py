"""A model from files: the nursery's data, put together in Python.

Run ``relatum demo`` first, then this beside the folder that it wrote: python examples/model_from_files.py
"""

from datetime import date
from pathlib import Path

import relatum

data = Path("hollowmere")
money = {name: {"type": "decimal(2)"} for name in ("unit_price", "unit_cost")}

model = relatum.Model("from files", locale="en_GB")
model.add_table("sales", data / "sales.parquet")
model.add_table("product", data / "product.csv", key="product_id")
model.add_table("price", data / "price.csv", key=["product_id", "valid_from"], columns=money)
# Customers' ids are codes such as 0007: as text they keep their zeros, and match those of sales.
model.add_table("customer", data / "customer.csv", key="customer_id", columns={"customer_id": {"type": "text"}})
model.add_calendar("calendar", date(2022, 1, 1), date(2024, 12, 31), fiscal_year_starts=4)

model.relate("sales.product_id -> product.product_id")
model.relate("sales.customer_id -> customer.customer_id")
model.relate("sales.sold_on -> calendar.date")
model.relate("sales.(product_id, sold_on) -> price.(product_id, valid_from)", match="as_of")

model.derive("product", "size", "case when pot_litres >= 10 then 'large' else 'small' end")
model.measure("revenue", "sum(sales.quantity * price.unit_price)", format="¤#,##0")
model.measure("average_line", "revenue / count(sales)", format="¤#,##0.00")

print(model.pivot(rows="product.size", columns="calendar.fiscal_year", values=["revenue", "average_line"]))
print()
print(model.check())
