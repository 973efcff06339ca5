"""A small model that can be worked out by hand, and the command line in this process."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
from click.testing import CliRunner, Result

import relatum
from relatum.cli.main import app
from relatum.model.declaration import EngineChoice


def make_stall(engine: str | EngineChoice = "memory") -> relatum.Model:
    """A model small enough to compute by hand: six sales, orphans and nulls among them."""
    model = relatum.Model("stall", locale="en_GB", engine=engine)
    days = [
        date(2024, 1, 30),
        date(2024, 2, 1),
        date(2024, 2, 29),
        date(2024, 3, 1),
        date(2024, 3, 2),
        date(2024, 12, 31),
    ]
    with model.edits():  # checked once
        model.add_table(
            "sales",
            pa.table(
                {
                    "product": ["fig", "fig", "ivy", "oak", "elm", "fig"],
                    "customer": ["ann", "bob", "ann", None, "bob", "cyd"],
                    "sold_on": days,
                    "quantity": [2, 3, 4, 1, 5, None],
                    "note": ["x", None, "y", "x", "", "z"],
                    "paid": [True, True, False, None, True, False],
                }
            ),
        )
        model.add_table(
            "product",
            pa.table(
                {
                    "product": ["fig", "ivy", "oak", "yew"],
                    "kind": ["fruit", "climber", "tree", "tree"],
                    "weight": pa.array([Decimal("0.5"), None, Decimal("12.5"), Decimal("3.0")], pa.decimal128(5, 1)),
                    "price": [5, 7, 100, 20],
                    "shelf": [3, 1, 2, 2],
                }
            ),
            key="product",
            columns={"product": {"label": "Plant", "order_by": "shelf"}},
        )
        model.add_table(
            "kind",
            pa.table({"kind": ["fruit", "climber", "tree", "fern"], "family": ["food", "wall", "wood", "shade"]}),
            key="kind",
        )
        model.add_table(
            "customer", pa.table({"customer": ["ann", "bob"], "region": ["North", "South"]}), key="customer"
        )
        model.add_calendar("calendar", date(2024, 1, 1), date(2024, 12, 31), fiscal_year_starts=4)
        model.add_table(
            "target",
            pa.table(
                {
                    "kind": ["fruit", "fruit", "tree", "fern"],
                    "month": ["2024-01", "2024-02", "2024-03", "2024-03"],
                    "amount": pa.array(
                        [Decimal("10.00"), Decimal("20.50"), Decimal("99.99"), None], pa.decimal128(9, 2)
                    ),
                }
            ),
        )
        model.relate("sales.product -> product.product")
        model.relate("sales.customer -> customer.customer")
        model.relate("sales.sold_on -> calendar.date")
        model.relate("product.kind -> kind.kind")
        model.relate("target.kind -> kind.kind")
        model.relate("target.month -> calendar.month", level=True)
        model.measure("quantity", "sum(sales.quantity)", format="#,##0")
        model.measure("revenue", "sum(sales.quantity * product.price)", format="¤#,##0.00")
        model.measure("goal", "sum(target.amount)", format="¤#,##0.00")
    return model


def run(*arguments: str | Path, width: int = 100) -> Result:
    """Run the command line in this process, as wide as asked."""
    return CliRunner().invoke(app, [str(argument) for argument in arguments], env={"COLUMNS": str(width)})
