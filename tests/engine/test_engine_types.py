"""Columns of every type of an engine are read as in memory; what no cell can hold is reported."""

from __future__ import annotations

from pathlib import Path

import duckdb
import pyarrow as pa
import pytest

import relatum
from postgres import Server
from relatum.model.declaration import EngineChoice
from test_engines import KINDS

#: Types of columns, each with two values: those that an engine returns as one thing and compares as another.
ODD_TYPES = {
    "duckdb": [
        ("mood", "'sad'", "'glad'"), ("uuid", "'f0000000-0000-0000-0000-00000000002a'", "'00000000-0000-0000-0000-00000000002b'"),
        ("time", "'10:11:12'", "'23:59:59.5'"), ("hugeint", "7", "-5"), ("ubigint", "7", "5"), ("decimal(30,0)", "7", "5"), ("utinyint", "200", "3"),
        ("json", "'{}'", "'[1]'"), ("float", "0.1", "2.5"), ("timestamptz", "'2024-02-29 23:30:00+00'", "'2024-07-01 00:00:00+02'"),
    ],
    "postgresql": [
        ("mood", "'sad'", "'glad'"), ("uuid", "'f0000000-0000-0000-0000-00000000002a'", "'00000000-0000-0000-0000-00000000002b'"),
        ("time", "'10:11:12'", "'23:59:59.5'"), ("jsonb", "'{}'", "'[1]'"), ("money", "'12.34'", "'-1'"), ("char(4)", "'ab'", "'abc'"), ("name", "'ab'", "'B'"),
        ("numeric", "1.25", "-3"), ("numeric", "1e30", "1.123456789"), ("numeric", "'NaN'", "7.5"), ("numeric", "0.1234567890123456789", "1"),
        ("real", "0.1", "2.5"), ("timestamptz", "'2024-02-29 23:30:00+00'", "'2024-07-01 00:00:00+02'"), ("smallint", "7", "5"),
    ],
}  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
def test_columns_of_every_type_are_read_as_memory_reads_them(kind: str, server: Server, tmp_path: Path) -> None:
    types = list(enumerate(ODD_TYPES[kind]))
    rows = [[str(row), *(pair[row % 2] for _, (_, *pair) in types)] for row in range(3)]
    statements = ["create type mood as enum ('sad', 'glad')",
                  f"create table odd (n bigint, {', '.join(f'c{at} {type_}' for at, (type_, *_) in types)})",
                  f"insert into odd values {', '.join(f'({chr(44).join(row)})' for row in rows)}, (null{', null' * len(types)})",
                  "create view sums as select sum(n) as c0, sum(n) / 4.0 as c1, avg(n) as c2, sum(n * 1.25) as c3 from odd group by n"]  # fmt: skip
    if kind == "duckdb":
        address, engine = str(tmp_path / "odd.duckdb"), EngineChoice("duckdb", str(tmp_path / "odd.duckdb"))
        with duckdb.connect(address) as database:
            for statement in statements:
                database.execute(statement)
    else:
        server.execute(
            "; ".join(
                ["drop schema if exists types cascade; create schema types; set search_path = types", *statements]
            )
        )
        address, engine = server.address, EngineChoice("postgresql", server.address, "types")
    here, there = relatum.Model("odd"), relatum.Model("odd", engine=engine)
    for part in ("odd", "sums"):
        here.add_table(part, address, part=part if kind == "duckdb" else f"types.{part}")
        there.add_table(part, "", part=part)
        found = [{name: str(type_) for name, type_ in each.session.data[part].types.items()} for each in (here, there)]
        assert found[0] == found[1]
        for name, type_ in found[0].items():
            column = f"{part}.{name}"
            values = {"n": f"count({part})", "least": f"min({column})", "most": f"max({column})"}
            if type_ == "text":
                values |= {"long": f"sum(length({column}))", "above": f"count(case when {column} > 'b' then 1 end)"}
            elif type_ == "integer" or type_.startswith("decimal"):
                values |= {"sum": f"sum({column})", "half": f"avg({column} / 2)"}
            one, other = (model.pivot(column, values=values).to_arrow(totals=True) for model in (here, there))
            assert one.to_pylist() == other.to_pylist(), (column, type_, ODD_TYPES[kind])
    there.close()


def test_dates_that_no_calendar_has_are_refused_in_words(server: Server) -> None:
    with relatum.Model("far", engine=EngineChoice("postgresql", server.address)) as model:
        model.add_table("t", "", query="select 1 as n, 'infinity'::date as d, '0044-03-15 BC'::timestamp as m")
        assert model.evaluate("sum(t.n)") == 1
        for ask in (lambda: model.evaluate("max(t.d)"), lambda: model.pivot("t.m", values="sum(t.n)")):
            with pytest.raises(relatum.SourceError, match="answer of the engine holds a date outside the years 1 to"):
                ask()


@pytest.mark.parametrize("kind", ["memory", *KINDS])
@pytest.mark.parametrize("formula", ["avg(t.v weighted by t.w)", "sole(t.v)"])
def test_a_total_without_a_value_stands_beside_cells_that_have_one(kind: str, formula: str, server: Server) -> None:
    engine = EngineChoice("postgresql", server.address) if kind == "postgresql" else kind
    with relatum.Model("none", engine=engine) as model:
        model.add_table("t", pa.table({"a": ["x", "x", "y"], "b": ["p", "q", "q"], "v": [1, 2, 3], "w": [1, -1, 1]}))
        grid = model.pivot("t.a", "t.b", {"v": formula}).to_arrow(totals=True).to_pylist()
        found = {tuple(row[f"t.{each}"] for each in "ab"): row["v"] for row in grid}
    assert found[("x", "p")] == 1 and found[("x", "q")] == 2 and found[("x", None)] is None
