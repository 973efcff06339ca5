"""The wheel: it is built, has all that is needed, and works where nothing else of this project is."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import sysconfig
import zipfile
from pathlib import Path

import pytest

from pages import ROOT

#: Files other than Python that must be in the wheel.
CONTENTS = (
    "language/grammar.lark", "model/schema.json", "demo/nursery.toml", "present/page/page.js", "present/page/page.css",
    "present/page/LICENCES.txt", "py.typed",
)  # fmt: skip


@pytest.fixture(scope="module")
def wheel(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("wheel")
    build = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(folder)]
    subprocess.run(build, cwd=ROOT, check=True, capture_output=True)
    (built,) = folder.glob("*.whl")
    return built


@pytest.fixture(scope="module")
def relatum_there(wheel: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The command of an environment that has the wheel, and the libraries that it needs from here."""
    folder = tmp_path_factory.mktemp("clean")
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(folder / "env")], check=True)
    programs = folder / "env" / "bin"
    pip = [sys.executable, "-m", "pip", "--python", str(programs / "python")]
    subprocess.run([*pip, "install", "--quiet", "--no-deps", "--no-index", str(wheel)], check=True)
    (there,) = (folder / "env").glob("lib/python*/site-packages")
    (there / "libraries.pth").write_text(sysconfig.get_path("purelib"))
    return programs / "relatum"


def test_the_wheel_has_what_is_no_python_and_says_what_it_is(wheel: Path) -> None:
    with zipfile.ZipFile(wheel) as packed:
        names = packed.namelist()
        (about,) = [packed.read(name).decode() for name in names if name.endswith(".dist-info/METADATA")]
    assert [name for name in CONTENTS if f"relatum/{name}" not in names] == []
    assert [name for name in names if not name.startswith(("relatum/", "relatum-"))] == [], "and nothing else"
    for line in ("Project-URL: Documentation", "Classifier: Typing :: Typed", "License-Expression: Apache-2.0"):
        assert line in about
    assert "Requires-Python: >=3.11" in about and "# Relatum" in about


def test_the_installed_command_does_all_that_it_does_here(relatum_there: Path, tmp_path: Path) -> None:
    def relatum(*arguments: str) -> str:
        environment = {name: value for name, value in os.environ.items() if not name.startswith("PYTHON")}
        done = subprocess.run(
            [str(relatum_there), *arguments], cwd=tmp_path, capture_output=True, text=True, env=environment
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    assert "Perennials" in relatum("demo", "demo", "--lines", "2000")
    model = "demo/nursery.toml"
    for out in ("page.html", "book.xlsx", "bars.svg", "grid.parquet"):
        relatum("pivot", model, "departments", "--out", out)
        assert (tmp_path / out).stat().st_size > 1000
    relatum("report", model, "year", "-o", "year.html")
    assert "<svg" in (tmp_path / "year.html").read_text()
    assert json.loads(relatum("show", model, "--format", "json"))["model"] == "nursery"
    relatum("edit", model, "measure", "twice", "revenue * 2")
    assert "twice" in (tmp_path / "demo" / "nursery.toml").read_text()
