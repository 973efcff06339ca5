"""Files damaged at random, commands killed at random, a crowd at one model, calls of any kind: a moment of each.

``tests/support/fuzz.py``, ``tests/support/kills.py``, ``tests/support/crowd.py`` and ``tests/support/arguments.py`` do the same for as long as one likes.
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from arguments import calls
from crowd import crowd
from kills import kill
from postgres import Server


def test_what_is_damaged_ends_nothing() -> None:
    # A process that forks must have no threads: the tests' own may have some.
    done = subprocess.run(
        [sys.executable, str(Path(__file__).parents[1] / "support" / "fuzz.py"), "0"],
        capture_output=True,
        text=True,
        timeout=200,
    )
    assert (done.returncode, done.stderr) == (0, "")
    (said,) = done.stdout.splitlines()
    assert int(said.split()[0]) >= 2 * 15


def test_killed_commands_lose_nothing(tmp_path: Path) -> None:
    found = kill(6, 5, tmp_path)
    assert found.wrong == [] and found.asked > 2


@pytest.mark.parametrize("engine", ["memory", "duckdb", "postgresql"])
def test_every_answer_is_of_a_state_that_was(engine: str, server: Server) -> None:
    place = server.address if engine == "postgresql" else engine
    found = crowd(2, asking=8, editing=3, engine=place)
    assert found.wrong == [] and sum(found.done.values()) > 20


def test_calls_of_any_kind_end_in_errors_of_ours_or_in_a_model() -> None:
    found = calls(5)
    assert found.wrong == [] and found.done["accepted"] and found.done["refused"]
