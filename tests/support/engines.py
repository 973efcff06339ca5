"""Engines with tables of a star in them. Run as a script, it compares random cases on one of them with memory and oracle.

``python tests/support/engines.py duckdb|postgresql|spark CASES SEED``: in every second case the tables are there already, in the
others they are sent.
"""

from __future__ import annotations

import random
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

import relatum
from agreement import Refused, build, found_differently, frames, refusing
from oracle import Star
from postgres import Server, postgresql
from relatum.model.declaration import EngineChoice
from stars import random_case, random_question

Keep = Callable[[Star], EngineChoice]

#: Random questions asked of each random star.
QUESTIONS = 6


def in_duckdb(folder: Path) -> Keep:
    """Puts the tables of a star into a file of DuckDB."""

    def keep(star: Star) -> EngineChoice:
        path = folder / f"star{len(list(folder.iterdir()))}.duckdb"
        with duckdb.connect(str(path)) as database:
            for name, frame in frames(star).items():
                database.register("given", frame)
                database.execute(f'create table "{name}" as select * from given')
                database.unregister("given")
        return EngineChoice("duckdb", str(path))

    return keep


SQL = {"int64": "bigint", "string": "text", "double": "double precision", "bool": "boolean", "date32[day]": "date"}


def literal(value: Any) -> str:
    """A value in SQL."""
    if value is None:
        return "null"
    return f"'{str(value).replace(chr(39), chr(39) * 2)}'"


def create(server: Server, schema: str, tables: dict[str, pa.Table]) -> None:
    """Make tables in a separate schema."""
    statements = [f'drop schema if exists "{schema}" cascade; create schema "{schema}"; set search_path = "{schema}"']
    for name, frame in tables.items():
        columns = ", ".join(f'"{each.name}" {SQL.get(str(each.type), "numeric(12, 2)")}' for each in frame.schema)
        statements.append(f'create table "{name}" ({columns})')
        rows = [f"({', '.join(map(literal, row.values()))})" for row in frame.to_pylist()]
        if rows:
            statements.append(f'insert into "{name}" values {", ".join(rows)}')
    server.execute("; ".join(statements))


def in_postgresql(server: Server) -> Keep:
    """Puts the tables of a star into a schema of a server."""

    def keep(star: Star) -> EngineChoice:
        create(server, "star", frames(star))
        return EngineChoice("postgresql", server.address, "star")

    return keep


def as_parquet(star: Star, folder: Path) -> dict[str, Path]:
    """The tables of a star as Parquet files."""
    paths = {}
    for name, frame in frames(star).items():
        paths[name] = folder / f"{name}.parquet"
        pq.write_table(frame, paths[name])
    return paths


def engine_for(request: pytest.FixtureRequest) -> Any:
    """The engine that a fixture's parameter names, with the tests' own server."""
    if request.param == "postgresql":
        return EngineChoice("postgresql", request.getfixturevalue("server").address)
    return request.param


@contextmanager
def engine_of(kind: str) -> Iterator[tuple[Any, Keep | None]]:
    """An engine that tables are sent to, and what puts them there."""
    if kind == "duckdb":
        with tempfile.TemporaryDirectory() as folder:
            yield "duckdb", in_duckdb(Path(folder))
    elif kind == "postgresql":
        with postgresql() as server:
            yield EngineChoice("postgresql", server.address), in_postgresql(server)
    elif kind == "spark":
        yield "spark", None
    else:
        raise ValueError(f"{kind} is no engine")


def compared(kind: str, count: int, seed: int) -> tuple[int, list[str]]:
    """Random cases on an engine, six of each star: how many were refused on purpose, and what differs."""
    refused, differ = 0, []
    with engine_of(kind) as (engine, keep):
        for first in range(0, count, QUESTIONS):
            rnd = random.Random(seed * 1_000_003 + first)
            case = random_case(rnd)
            asked = [case, *(random_question(rnd, case.star) for _ in range(min(QUESTIONS, count - first) - 1))]
            there = keep if first // QUESTIONS % 2 else None
            try:
                with refusing():
                    here = build(case.star)
            except Refused:
                refused += len(asked)
                continue
            with build(case.star, there(case.star) if there else engine, there=there is not None) as elsewhere:
                for number, each in enumerate(asked, first):
                    try:
                        found = found_differently(each, here, elsewhere)
                    except Refused:
                        refused += 1
                        continue
                    except relatum.RelatumError as error:
                        found = f"{type(error).__name__}: {error}"
                    if found:
                        differ.append(f"-- case {number} of seed {seed} on {kind}: {found}\n{each}\n")
    return refused, differ


def main() -> int:
    """Compare as many random cases as asked."""
    kind, count, seed = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    refused, differ = compared(kind, count, seed)
    print("\n".join(differ))
    print(f"{count} cases on {kind}, {refused} refused on purpose, {len(differ)} differ")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main())
