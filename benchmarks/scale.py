"""The star benchmark's questions at two sizes: what ten times the lines cost on each engine.

``python benchmarks/scale.py --engine duckdb --lines 60000000`` asks the 13 questions of star.py over Parquet files, in
a process of its own, checks the answers against DuckDB's own, and prints times, memory and bytes read; the same at a
tenth of the lines, and what a million lines more cost: the slope.
"""

from __future__ import annotations

import argparse
import json
import math
import statistics
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import duckdb
import psutil
import pyarrow.parquet as pq

import relatum
from star import QUERIES, TABLES, peak_memory, relate
from star_data import write_tables

#: Files that the order lines are written to, so that workers have something to share.
PARTS = 12


def partitioned(folder: Path) -> Path:
    """The order lines as several Parquet files."""
    parts = folder / "lineorder"
    if not parts.exists():
        made = folder / "lineorder.part"
        made.mkdir()
        source = pq.ParquetFile(folder / "lineorder.parquet")
        rows = -(-source.metadata.num_rows // PARTS)
        with duckdb.connect() as connection:
            for part in range(PARTS):
                connection.execute(
                    f"copy (select * from read_parquet('{folder}/lineorder.parquet') "
                    f"where file_row_number >= {part * rows} and file_row_number < {(part + 1) * rows}) "
                    f"to '{made}/{part:02}.parquet' (format parquet)"
                )
        made.rename(parts)
    return parts


def opened(engine: str, folder: Path) -> relatum.Model:
    """The star on an engine, over Parquet files."""
    model = relatum.Model("star", engine=engine)
    for table in TABLES:
        split = table == "lineorder" and engine != "memory"
        model.add_table(table, partitioned(folder) if split else folder / f"{table}.parquet")
    relate(model)
    return model


def measure(engine: str, folder: Path, runs: int) -> dict[str, Any]:
    """Times of the questions, memory and bytes read, in this process."""
    process = psutil.Process()
    start = time.perf_counter()
    model = opened(engine, folder)
    loaded = time.perf_counter() - start
    times, answers, stages = {}, {}, {}
    for query in QUERIES:
        best = math.inf
        first = 0.0
        for run in range(runs + 1):
            start = time.perf_counter()
            found = query.ask(model).to_arrow().to_pylist()
            took = time.perf_counter() - start
            first, best = (took, best) if run == 0 else (first, min(best, took))
        times[query.name] = (first, best)
        answers[query.name] = sorted([*map(str, list(row.values())[:-1]), int(row["value"] or 0)] for row in found)
        if engine == "spark":
            stages[query.name] = _stages(model)
    # Spark works in separate processes, which keep their memory.
    others = process.children(recursive=True)
    figures = {
        "loaded": loaded,
        "times": times,
        "answers": answers,
        "stages": stages,
        "peak": peak_memory() + sum(each.memory_info().rss for each in others) / 1e6,
        "asked": sum(each.io_counters().read_chars for each in (process, *others)),
    }
    model.close()
    return figures


def _stages(model: relatum.Model) -> list[int]:
    """The tasks of each stage of Spark's last job of a question."""
    session: Any = model.session.place
    context = session._session.sparkContext
    tracker = context.statusTracker()
    jobs = sorted(tracker.getJobIdsForGroup(session._group))
    found = []
    for job in jobs[-6:]:
        info = tracker.getJobInfo(job)
        for stage in info.stageIds if info else ():
            told = tracker.getStageInfo(stage)
            if told is not None and told.numCompletedTasks:
                found.append(told.numTasks)
    return found


def expected(folder: Path) -> dict[str, Any]:
    """The answers as DuckDB gives them to hand-written SQL."""
    with duckdb.connect() as connection:
        for table in TABLES:
            connection.execute(f"create view {table} as select * from read_parquet('{folder}/{table}.parquet')")
        found = {}
        for query in QUERIES:
            rows = connection.execute(query.sql()).fetchall()
            found[query.name] = sorted([*map(str, row[:-1]), int(row[-1] or 0)] for row in rows)
        return found


def asked(engine: str, folder: Path, runs: int) -> dict[str, Any]:
    """The figures of an engine, measured in a separate process."""
    command = [sys.executable, __file__, "--engine", engine, "--measure", str(folder), "--runs", str(runs)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stderr[-3000:])
    figures: dict[str, Any] = json.loads(done.stdout.strip().splitlines()[-1])
    return figures


def main() -> None:
    """Run the benchmark."""
    options = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    options.add_argument("--engine", choices=["memory", "duckdb", "spark"], default="duckdb")
    options.add_argument("--lines", type=int, default=60_000_000)
    options.add_argument("--runs", type=int, default=2)
    options.add_argument("--data", type=Path, default=Path(__file__).parent / "data")
    options.add_argument("--measure", type=Path, help=argparse.SUPPRESS)
    given = options.parse_args()
    if given.measure is not None:
        print(json.dumps(measure(given.engine, given.measure, given.runs)))
        return
    found = {}
    for lines in (given.lines // 10, given.lines):
        folder = given.data / f"star-{lines}"
        write_tables(folder, lines)
        figures = asked(given.engine, folder, given.runs)
        right = expected(folder)
        wrong = [name for name, rows in right.items() if figures["answers"][name] != rows]
        found[lines] = figures
        print(f"{given.engine}, {lines:,} lines: opened in {figures['loaded']:.1f} s")
        print(f"  {figures['peak']:,.0f} MB of memory at most, {figures['asked'] / 1e6:,.0f} MB read")
        print("  all answers equal" if not wrong else f"  DIFFERENT: {wrong}")
    few, many = found.values()
    print(f"{'query':<7}{'first ms':>10}{'best ms':>10}{'of a tenth':>12}{'ms a million more':>19}")
    slopes = []
    for query in QUERIES:
        first, best = many["times"][query.name]
        small = few["times"][query.name][1]
        slope = 1000 * (best - small) / (0.9 * given.lines / 1e6)
        slopes.append(slope)
        tasks = f"   tasks {many['stages'][query.name]}" if many["stages"] else ""
        print(f"{query.name:<7}{1000 * first:>10.0f}{1000 * best:>10.0f}{1000 * small:>12.0f}{slope:>19.2f}{tasks}")
    print(
        f"a million lines more cost {statistics.fmean(slopes):.2f} ms a question on the mean, {max(slopes):.2f} at most"
    )


if __name__ == "__main__":
    main()
