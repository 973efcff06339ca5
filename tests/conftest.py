"""Models and data that several tests ask."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from datetime import date
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pytest
from click.testing import CliRunner, Result

import relatum
from postgres import Server, postgresql
from relatum.cli.main import app
from relatum.demo.write import write_demo
from relatum.model.declaration import EngineChoice

LINES = 4_000
#: Tests that need a server, a browser or separate processes, or take long: ``make unit`` leaves them out.
OUTSIDE = frozenset(
    "agreement as_they_are bounds casts charts chosen draft endurance engine_types engine_values engines explain faults grids media "
    "notebook page pages random_checks random_looks random_models register site state streams trust walls wheel".split()
)
#: What a person's own state is for the tests: none of it is left.
_STATE = tempfile.TemporaryDirectory(prefix="relatum-state-")
os.environ["XDG_STATE_HOME"] = _STATE.name


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark the tests that ``make unit`` leaves out."""
    for item in items:
        given = item.callspec.params.values() if isinstance(item, pytest.Function) and hasattr(item, "callspec") else ()
        server = "server" in getattr(item, "fixturenames", ()) or any(each == "postgresql" for each in given)
        if server or item.path.stem.removeprefix("test_") in OUTSIDE:
            item.add_marker(pytest.mark.outside)


@pytest.fixture(scope="session")
def hollowmere(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's model file, its data beside it."""
    return write_demo(tmp_path_factory.mktemp("demo") / "hollowmere", LINES)


@pytest.fixture(scope="session")
def nursery(hollowmere: Path) -> relatum.Model:
    """The demo, opened. Tests ask it and never change it."""
    return relatum.open(hollowmere)


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
    model.add_table("customer", pa.table({"customer": ["ann", "bob"], "region": ["North", "South"]}), key="customer")
    model.add_calendar("calendar", date(2024, 1, 1), date(2024, 12, 31), fiscal_year_starts=4)
    model.add_table(
        "target",
        pa.table(
            {
                "kind": ["fruit", "fruit", "tree", "fern"],
                "month": ["2024-01", "2024-02", "2024-03", "2024-03"],
                "amount": pa.array([Decimal("10.00"), Decimal("20.50"), Decimal("99.99"), None], pa.decimal128(9, 2)),
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


@pytest.fixture
def stall() -> relatum.Model:
    """A fresh stall: a test may change it."""
    return make_stall()


@pytest.fixture(scope="session")
def shared_stall() -> relatum.Model:
    """The stall for tests that only ask it."""
    return make_stall()


def run(*arguments: str | Path, width: int = 100) -> Result:
    """Run the command line in this process, as wide as asked."""
    return CliRunner().invoke(app, [str(argument) for argument in arguments], env={"COLUMNS": str(width)})


@pytest.fixture(scope="session")
def server() -> Iterator[Server]:
    """A PostgreSQL server of the tests' own."""
    with postgresql() as running:
        yield running
