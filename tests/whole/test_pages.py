"""What the documents and examples show is what the program prints."""

from __future__ import annotations

import doctest
import importlib
import pkgutil
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import relatum
from pages import PAGES, ROOT, beside_the_demo, rewritten


@pytest.fixture(scope="module")
def demo_folder() -> Iterator[None]:
    with beside_the_demo():
        yield


def test_every_benchmark_finds_what_it_needs() -> None:
    names = [path.stem for path in sorted((ROOT / "benchmarks").glob("*.py"))]
    assert len(names) > 15
    done = subprocess.run(
        [sys.executable, "-c", "; ".join(f"import {name}" for name in names)],
        cwd=ROOT / "benchmarks", capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_a_page_shows_what_is_printed(demo_folder: None, page: Path) -> None:
    text = page.read_text("utf-8")
    assert rewritten(text) == text, "python tests/support/pages.py writes the pages anew"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text("utf-8")):
        assert target.startswith(("https://", "generated/", "gallery/")) or (page.parent / target).exists(), target


MODULES = [name for _, name, _ in pkgutil.walk_packages(relatum.__path__, "relatum.")]


@pytest.mark.parametrize("name", MODULES)
def test_docstrings_run(name: str) -> None:
    assert doctest.testmod(importlib.import_module(name)).failed == 0


EXAMPLES = sorted((ROOT / "examples").glob("*.py"))


@pytest.mark.parametrize("example", EXAMPLES, ids=lambda path: path.name)
def test_an_example_runs(demo_folder: None, tmp_path: Path, example: Path) -> None:
    arguments = [str(tmp_path / "plot.png")] if "plot" in example.name else []
    result = subprocess.run([sys.executable, str(example), *arguments], capture_output=True, text=True)
    assert result.returncode == 0, result.stderr
    assert "total" in result.stdout or (tmp_path / "plot.png").stat().st_size > 10_000


def test_there_are_examples_and_pictures() -> None:
    assert len(EXAMPLES) >= 3
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert {picture.stem for picture in pictures} == {
        "demo",
        "draft",
        "edit",
        "check",
        "show",
        "diagram",
        "pivot",
        "explain",
        "members",
        "impact",
        "diff",
        "refresh",
        "page",
        "report",
        "workbook",
        "chart_lines",
        "view",
        "view_why",
        "view_model",
    }
