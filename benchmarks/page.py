"""A page of 50,000 cells in Chromium: its size, how long to the first look, to order a column, to scroll, to choose.

python benchmarks/page.py [ROWS COLUMNS]
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service

import relatum

_FRAMES = (
    "const done = arguments[0]; "
    "requestAnimationFrame(() => requestAnimationFrame(() => done(performance.now() - from)))"
)
_SEEN = "return performance.getEntriesByName('first-contentful-paint')[0]?.startTime"
#: What is timed, as scripts: from the event to the second frame after it.
STEPS = {
    "order a column": "document.querySelectorAll('button.order')[3].click()",
    "order it the other way": "document.querySelectorAll('button.order')[3].click()",
    "scroll to the end": "document.querySelector('[role=treegrid]').scrollTo(0, 1e9)",
    "scroll to the right": "document.querySelector('[role=treegrid]').scrollTo(1e9, 0)",
    "leave a member out": "document.querySelector('aside input[type=checkbox]').click()",
    "close a group": "document.querySelector('button.fold').click()",
}


def written(folder: Path, rows: int, columns: int) -> Path:
    """The page of a grid with a number of rows, in groups of 25, and columns."""
    chance = np.random.default_rng(11)
    count = rows * columns
    lines = np.repeat(np.arange(rows), columns)
    table = pa.table(
        {
            "group": [f"group {at:03d}" for at in (lines // 25).tolist()],
            "line": [f"line {at:04d}" for at in lines.tolist()],
            "column": [f"c{at:02d}" for at in np.tile(np.arange(columns), rows).tolist()],
            "worth": chance.integers(-5_000, 100_000, count),
        }
    )
    model = relatum.Model("large")
    model.add_table("sales", table)
    grid = model.pivot("sales.group, sales.line", "sales.column", "worth: sum(sales.worth) format '#,##0'")
    path = folder / "large.html"
    started = time.perf_counter()
    grid.save(path)
    print(f"{rows * columns:,} cells and their totals: written in {time.perf_counter() - started:.1f} s, "
          f"{path.stat().st_size / 1e6:.1f} MB")  # fmt: skip
    return path


def browser() -> webdriver.Chrome:
    """Chromium without a screen."""
    options = Options()
    options.binary_location = "/usr/bin/chromium"
    for each in ("--headless=new", "--no-sandbox", "--disable-gpu", "--window-size=1280,800"):
        options.add_argument(each)
    return webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))


def main() -> None:
    """Print the median of five turns of each step."""
    rows, columns = (int(each) for each in sys.argv[1:3]) if len(sys.argv) > 2 else (1000, 50)
    found: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as folder:
        path = written(Path(folder), rows, columns)
        driver = browser()
        try:
            for _ in range(5):
                driver.get(path.as_uri())
                seen = driver.execute_script(
                    "return performance.getEntriesByName('first-contentful-paint')[0]?.startTime"
                )
                found.setdefault("first look", []).append(float(seen or 0))
                for name, script in STEPS.items():
                    took = driver.execute_async_script(f"const from = performance.now(); {script}; {_FRAMES}")
                    found.setdefault(name, []).append(float(took))
        finally:
            driver.quit()
    for name, times in found.items():
        print(f"{name:<24} {statistics.median(times):6.0f} ms")


if __name__ == "__main__":
    main()
