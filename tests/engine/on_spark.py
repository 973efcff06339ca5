"""The same model on Spark: run by ``make test-spark``, which installs it. Two workers on this machine, few partitions."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from engines import compared
from hostile import TEXTS
from stall import make_stall
from test_engine_values import AGGREGATED, CONDITIONS, ROW_FORMULAS, alike, awkward
from test_engines import FORMULAS, NAMES, cookbook_on
from test_formulas import same

# Resources that Java and its bridge leave open are not our concern.
pytestmark = [pytest.mark.filterwarnings("ignore::ResourceWarning"), pytest.mark.filterwarnings("ignore::FutureWarning"),
              pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning"), pytest.mark.filterwarnings("ignore::DeprecationWarning")]  # fmt: skip


@pytest.fixture(scope="module")
def stall_there() -> Iterator[relatum.Model]:
    with make_stall("spark") as model:
        yield model


def test_every_formula_of_the_tables_is_worth_the_same(stall_there: relatum.Model) -> None:
    wrong = []
    for formula, where, expected in FORMULAS:
        got = stall_there.evaluate(formula, where)
        if not same(got, expected):
            wrong.append((formula, where, got, expected))
    assert not wrong


def test_awkward_values_are_worth_the_same() -> None:
    """All of them in two grids: Spark takes seconds for any."""
    here, there = awkward("spark")
    rows = {f"w{at}": f"min(t.w{at})" for at in range(len(ROW_FORMULAS))}
    rows |= {f"c{at}": f"min(t.c{at})" for at in range(len(CONDITIONS))}
    with there:
        for axis, values in (("t.n", rows), ("t.g", {f"a{at}": formula for at, formula in enumerate(AGGREGATED)})):
            one, other = (model.pivot(axis, values=values).to_arrow(totals=True) for model in (here, there))
            for name in one.column_names:
                pairs = zip(one.column(name).to_pylist(), other.column(name).to_pylist(), strict=True)
                assert all(alike(mine, its) for mine, its in pairs), values.get(name, name)


def test_the_cookbook_is_answered_there() -> None:
    asked, answered = cookbook_on("spark", every=6)
    assert answered == asked


def test_random_cases_agree_with_memory_and_oracle() -> None:
    refused, differ = compared("spark", 40, 9)
    assert not differ
    assert refused < 20


def found(model: relatum.Model) -> list[tuple[str, str]]:
    """What a check finds; the rows that it names for instance may be others."""
    return [(each.severity, re.sub("instance.*", "", each.text)) for each in model.check().findings]


def test_partitioned_parquet_answers_as_memory_does(hollowmere: Path, nursery: relatum.Model, tmp_path: Path) -> None:
    sales = pq.read_table(hollowmere.parent / "sales.parquet")
    for each in hollowmere.parent.iterdir():
        if each.is_file() and each.name != "sales.parquet":
            (tmp_path / each.name).write_bytes(each.read_bytes())
    (tmp_path / "sales").mkdir()
    step = -(-len(sales) // 5)
    for part in range(5):
        pq.write_table(sales.slice(part * step, step), tmp_path / "sales" / f"{part}.parquet")
    file = tmp_path / "nursery.toml"
    file.write_text(file.read_text().replace('source = "sales.parquet"', 'source = "sales"'))
    questions: list[dict[str, Any]] = [
        {"rows": "category.department", "columns": "calendar.year", "values": "revenue, margin"},
        {"rows": "category.department, product.product_id top 2 by revenue with others",
         "values": "revenue, s: share(revenue of total), r: rank(revenue among product.product_id)"},
    ]  # fmt: skip
    with relatum.open(file, engine="spark") as there:
        for question in questions:
            assert str(there.pivot(**question)) == str(nursery.pivot(**question))
        assert found(there) == found(nursery)


def test_columns_of_parquet_are_read_as_memory_reads_them(tmp_path: Path) -> None:
    moments = [datetime(2024, 1, 2, 23, 4, 5, 6), datetime(2024, 7, 1), None]
    table = pa.table({
        "small": pa.array([1, -5, None], pa.int8()), "short": pa.array([0.1, 2.5, None], pa.float32()),
        "wide": pa.array([Decimal(7), Decimal(5), None], pa.decimal128(30, 0)), "price": pa.array([Decimal("1.25"), Decimal("-3.5"), None]),
        "there": pa.array(moments, pa.timestamp("us", "UTC")), "here": pa.array(moments, pa.timestamp("us")),
        "kind": pa.array(["b", "a", "é"]).dictionary_encode(), "day": pa.array([date(2024, 2, 29), date(1900, 1, 1), None]),
        "paid": [True, False, None], "count": pa.array([200, 3, None], pa.uint8()),
    })  # fmt: skip
    pq.write_table(table, tmp_path / "odd.parquet")
    with relatum.Model("odd", engine="spark", timezone="Europe/Berlin") as there:
        here = relatum.Model("odd", timezone="Europe/Berlin")
        for model in (there, here):
            model.add_table("odd", tmp_path / "odd.parquet")
        assert there.session.data["odd"].types == here.session.data["odd"].types
        values = {
            f"{each} {name}": f"{each}(odd.{name})" for name in table.column_names for each in ("min", "max", "count")
        }
        values |= {f"text {name}": f"max(cast(odd.{name} as text))" for name in ("there", "here", "day")}
        one, other = (model.pivot(values=values).to_arrow().to_pylist() for model in (there, here))
        assert one == other
        assert (
            there.pivot("odd.there", values="count(odd)").to_arrow()
            == here.pivot("odd.there", values="count(odd)").to_arrow()
        )


def test_names_and_members_are_never_taken_for_sql() -> None:
    texts = [text.replace("\x00", "") for text in TEXTS]
    frame = pa.table({name: pa.array([f"{at} {name}", None]) for at, name in enumerate(NAMES)})
    facts = pa.table({"text": texts, "amount": list(range(len(texts)))})
    with relatum.Model("odd", engine="spark") as model:
        model.add_table("odd", frame, columns={f"c{at}": {"heading": name} for at, name in enumerate(NAMES)})
        model.add_table("facts", facts)
        values = {f"v{at}": f"max(odd.c{at})" for at in range(len(NAMES))}
        assert list(model.pivot(values=values).to_arrow().to_pylist()[0].values()) == [
            f"{at} {name}" for at, name in enumerate(NAMES)
        ]
        found = model.pivot(rows="facts.text", values="sum(facts.amount)").to_arrow().to_pylist()
        assert {row["facts.text"]: row["sum(facts.amount)"] for row in found} == {
            text: at for at, text in enumerate(texts)
        }


def test_what_goes_wrong_is_said(tmp_path: Path) -> None:
    with relatum.Model("wrong", engine="spark") as model:
        with pytest.raises(relatum.SourceError, match="other"):
            model.add_table("other", "", part="other")
        with pytest.raises(relatum.SourceError, match="not a SELECT but DROP"):
            model.add_table("other", "", query="drop table x")
        model.add_table("t", pa.table({"n": pa.array([2**62] * 3)}))
        with pytest.raises(relatum.ValueOverflowError):
            model.evaluate("sum(t.n)")
    with pytest.raises(relatum.ModelError, match="Unknown engine flint"):
        relatum.Model("wrong", engine="flint")


@pytest.mark.parametrize(
    ("query", "says"),
    [
        ("select transform(id) using 'cat' from range(3)", "contains TRANSFORM, but may only read"),
        ("select reflect('java.lang.System', 'getenv', 'HOME') as n", "calls reflect"),
        ("select * from csv.`/etc/passwd`", "cannot be found"),
        ("select theirs(id) as n from range(3)", "calls theirs"),
    ],
)
def test_a_query_runs_nothing(query: str, says: str) -> None:
    with relatum.Model("walls", engine="spark") as model, pytest.raises(relatum.SourceError, match=says):
        model.add_table("t", "", query=query)
    with relatum.Model("walls", engine="spark") as model:
        model.add_table("t", "", query="select transform(array(id), x -> x + 1)[0] as n from range(3)", key="n")
        assert model.evaluate("sum(t.n)") == 6
