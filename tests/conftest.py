"""Models and data that several tests ask."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

import relatum
from postgres import Server, postgresql
from relatum.demo.write import write_demo
from stall import make_stall
from zygote import fork_from_zygotes

LINES = 4_000
#: Tests that need a server, a browser or separate processes, or take long: ``make unit`` leaves them out.
OUTSIDE = frozenset(
    "agreement as_they_are blocks bounds casts charts chosen cli draft endurance engine_types engine_values engines explain faults grids host kept "
    "live_page media notebook page pages random_checks random_looks random_models register server site state streams trust walls wheel "
    "widget".split()
)
#: What a person's own state is for the tests: none of it is left.
_STATE = tempfile.TemporaryDirectory(prefix="relatum-state-")
os.environ["XDG_STATE_HOME"] = _STATE.name
fork_from_zygotes()


def pytest_ignore_collect(collection_path: Path, config: pytest.Config) -> bool | None:
    """``make unit`` does not even load the files that it leaves out."""
    left_out = config.option.markexpr == "not outside" and collection_path.stem.removeprefix("test_") in OUTSIDE
    return True if left_out else None


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


@pytest.fixture
def stall() -> relatum.Model:
    """A fresh stall: a test may change it."""
    return make_stall()


@pytest.fixture(scope="session")
def shared_stall() -> relatum.Model:
    """The stall for tests that only ask it."""
    return make_stall()


@pytest.fixture(scope="session")
def server() -> Iterator[Server]:
    """A PostgreSQL server of the tests' own."""
    with postgresql() as running:
        yield running
