"""The 22 questions of a public decision-support benchmark to Relatum, DuckDB and Polars, on the same data in one run.

``python benchmarks/decisions.py`` makes the data at scale 1 (6 million order lines, kept in benchmarks/data) with the
generator that the package ``tpchgen-cli`` ships, compares every answer with that of the SQL, value by value, and prints
the median time of each question side by side. All hold their tables in memory; with ``--engine duckdb`` Relatum's and
DuckDB's are in one file.
"""

from __future__ import annotations

import argparse
import gc
import math
import shutil
import statistics
import subprocess
import sys
import time
from decimal import Decimal
from pathlib import Path
from typing import Any

import duckdb

import relatum
from decisions_asked import QUESTIONS, TABLES, Question, open_memory, open_there
from decisions_polars import QUERIES as IN_POLARS
from decisions_polars import open_polars
from relatum.engine.memory.blocks import ready
from star import peak_memory, timed

Rows = list[tuple[Any, ...]]


def write_tables(folder: Path, scale: float) -> None:
    """Make the tables as Parquet files, unless they are there.

    Raises
    ------
    SystemExit
        The generator is not installed.
    """
    if folder.exists():
        return
    generator = shutil.which("tpchgen-cli", path=str(Path(sys.executable).parent)) or shutil.which("tpchgen-cli")
    if generator is None:
        raise SystemExit("The generator of the data is missing. Install it: pip install tpchgen-cli")
    made = folder.with_suffix(".part")
    subprocess.run([generator, "parquet", "-s", f"{scale:g}", f"--output-dir={made}"], check=True, capture_output=True)
    made.rename(folder)


def database(folder: Path) -> Path:
    """A file of DuckDB with the tables."""
    path = folder / "decisions.duckdb"
    if not path.exists():
        made = path.with_suffix(".part")
        with duckdb.connect(str(made)) as connection:
            load(connection, folder)
        made.rename(path)
    return path


def load(connection: duckdb.DuckDBPyConnection, folder: Path) -> None:
    """The tables in DuckDB."""
    for table in TABLES:
        connection.execute(f"create table {table} as select * from read_parquet('{folder / table}.parquet')")


def load_columns(model: relatum.Model) -> None:
    """All columns and join indexes in memory, before anything is timed."""
    for table in model.session.data:
        for column in model.session.data[table].types:
            model.session.store.column(table, column)


def agree(ours: Any, theirs: Any) -> bool:
    """Whether two values are equal: floats to nine digits, all else exactly."""
    if None not in (ours, theirs) and (isinstance(ours, float) or isinstance(theirs, float)):
        return math.isclose(float(ours), float(theirs), rel_tol=1e-9)
    return bool(ours == theirs)


def differences(question: Question, grid: relatum.Grid, rows: Rows) -> str:
    """What differs between the answers; empty where they are equal."""
    ours, theirs = question.ours(grid), question.theirs(rows)
    if question.fields_only:
        ours = [row[: len(theirs[0])] for row in ours]
    return first_difference(ours, theirs)


def first_difference(ours: Rows, theirs: Rows) -> str:
    """The first rows that are not equal, once all are in order; empty where there are none."""
    if len(ours) != len(theirs):
        return f"{len(ours)} rows, not {len(theirs)}"

    def order(row: tuple[Any, ...]) -> str:
        # Floats of two programs differ in their last digits.
        known = (value for value in row if not isinstance(value, float))
        return repr([str(Decimal(value).normalize()) if isinstance(value, int | Decimal) else value for value in known])

    for mine, other in zip(sorted(ours, key=order), sorted(theirs, key=order), strict=True):
        if len(mine) != len(other) or not all(map(agree, mine, other)):
            return f"{mine}, not {other}"
    return ""


def ask_cold(folder: Path, only: list[int] | None) -> None:
    """From the files to the first answer: opening the model's file and asking here; loading and asking in DuckDB."""
    path = folder / "decisions.toml"
    open_memory(folder).save(path)
    print(f"{'question':<9}{'relatum ms':>11}{'duckdb ms':>11}{'duckdb / relatum':>18}", flush=True)
    ratios = []
    for question in QUESTIONS:
        if only and question.number not in only:
            continue
        gc.collect()  # nothing is kept from one question to the next, nor is what the last one has left behind
        start = time.perf_counter()
        question.ask(relatum.open(path, cache=False)).to_arrow()
        ours = time.perf_counter() - start
        start = time.perf_counter()
        with duckdb.connect() as connection:
            load(connection, folder)
            connection.execute(question.sql).fetchnumpy()
        theirs = time.perf_counter() - start
        ratios.append(theirs / ours)
        print(f"{question.number:<9}{ours * 1000:>11.0f}{theirs * 1000:>11.0f}{theirs / ours:>18.2f}", flush=True)
    print(f"geometric mean of the ratios: {math.exp(statistics.fmean(map(math.log, ratios))):.2f}")


def main() -> None:
    """Run the benchmark."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--scale", type=float, default=1)
    options.add_argument("--runs", type=int, default=5)
    options.add_argument("--data", type=Path, default=Path(__file__).parent / "data")
    options.add_argument("--engine", choices=["memory", "duckdb"], default="memory", help="where relatum's tables are")
    options.add_argument("--only", type=int, nargs="*", help="the numbers of the questions")
    options.add_argument("--without-fast", action="store_true", help="scan with NumPy alone")
    options.add_argument("--cold", action="store_true", help="reopen the files for each question, and time that too")
    given = options.parse_args()
    if given.without_fast:
        ready.begin_at(sys.maxsize)
    else:
        ready.prepare().join()
    folder = given.data / f"decisions-{given.scale:g}"
    write_tables(folder, given.scale)
    if given.cold:
        ask_cold(folder, given.only)
        return
    start = time.perf_counter()
    if given.engine == "duckdb":
        model = open_there(database(folder))
        connection = duckdb.connect(str(database(folder)), read_only=True)
    else:
        model, connection = open_memory(folder), duckdb.connect()
        load_columns(model)
        loaded = time.perf_counter() - start
        start = time.perf_counter()
        load(connection, folder)
        print(f"load: relatum {loaded:.2f} s, duckdb {time.perf_counter() - start:.2f} s")
    held = open_polars(folder, TABLES)
    heads = ("relatum ms", "duckdb ms", "polars ms", "from duckdb", "from polars")
    print(f"{'question':<9}{''.join(f'{head:>12}' for head in heads)}  result", flush=True)
    ratios: list[tuple[float, float]] = []
    for question in QUESTIONS:
        if given.only and question.number not in given.only:
            continue
        rows = connection.execute(question.sql).fetchall()
        try:
            found = differences(question, question.ask(model), rows)
            found = found or first_difference(IN_POLARS[question.number](held).collect().rows(), rows)
        except relatum.errors.RelatumError as error:
            print(f"{question.number:<9} {error}")
            continue
        ours, theirs, polars = timed(
            lambda question=question: question.ask(model).to_arrow(),
            lambda question=question: connection.execute(question.sql).fetchnumpy(),
            lambda question=question: IN_POLARS[question.number](held).collect(),
            runs=given.runs,
        )
        ratios.append((theirs / ours, polars / ours))
        result = f"DIFFERENT: {found}" if found else "equal"
        figures = f"{ours:>12.1f}{theirs:>12.1f}{polars:>12.1f}{theirs / ours:>12.2f}{polars / ours:>12.2f}"
        print(f"{question.number:<9}{figures}  {result}", flush=True)
    means = [math.exp(statistics.fmean(math.log(ratio[at]) for ratio in ratios)) for at in (0, 1)]
    print(f"geometric mean of the ratios: {means[0]:.2f} of duckdb, {means[1]:.2f} of polars")
    print(f"peak memory of the whole run {peak_memory():,.0f} MB")


if __name__ == "__main__":
    main()
