"""Broken inputs: the message, the exit code, and that nothing was lost."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fault import Fault, holdings, make_shop, run_fault, said_of
from faults import FAULTS, HEAD, line_of
from forker import Forker
from stall import run as ask

PAGE = (Path(__file__).parents[2] / "docs" / "faults.md").read_text(encoding="utf-8")


@pytest.fixture(scope="module")
def forker() -> Iterator[Forker]:
    """A process that runs each case in a separate one."""
    made = Forker()
    yield made
    made.close()


@pytest.mark.parametrize("fault", FAULTS, ids=lambda fault: fault.what)
def test_a_fault_is_said_and_nothing_is_lost(tmp_path: Path, forker: Forker, fault: Fault) -> None:
    make_shop(tmp_path)
    fault.done(tmp_path)
    before = holdings(tmp_path)
    result = run_fault(fault, tmp_path, forker)
    said = said_of(result)
    assert result.exit_code == fault.code, said
    assert fault.says in said
    assert "Traceback" not in said
    assert "fault of Relatum" not in said
    assert len(said) < 3_000
    assert result.seconds < fault.seconds and result.memory < fault.memory, (result.seconds, result.memory)
    assert line_of(fault, result, tmp_path) in PAGE, "python tests/support/faults.py"
    after = holdings(tmp_path)
    # A killed process may leave the file that it wrote aside; what stood there is whole.
    assert {name: after.get(name) for name in before} == before
    assert all(Path(name).name.startswith(".") for name in set(after) - set(before))


def test_the_shop_itself_is_right(tmp_path: Path) -> None:
    make_shop(tmp_path)
    result = ask("check", str(tmp_path / "shop.toml"))
    assert result.exit_code == 0, result.stdout
    assert len(FAULTS) >= 200


@pytest.mark.parametrize("what", ["killed while it records", "there is no room for the record"])
def test_the_next_refresh_compares_with_the_former_state(tmp_path: Path, forker: Forker, what: str) -> None:
    (fault,) = [each for each in FAULTS if each.what == what]
    make_shop(tmp_path)
    assert ask("refresh", str(tmp_path / "shop.toml")).exit_code == 0
    (tmp_path / "sales.csv").write_text("product_id,quantity\nP1,9\n")
    assert run_fault(fault, tmp_path, forker).exit_code == fault.code
    result = ask("refresh", str(tmp_path / "shop.toml"))
    assert result.exit_code == 0
    assert "sales changed: 3 -> 1 rows" in result.stdout


def test_the_page_of_faults_has_a_line_for_each() -> None:
    assert PAGE.startswith(HEAD) and PAGE.count("\n") == HEAD.count("\n") + len(FAULTS), (
        "python tests/support/faults.py"
    )
    assert len({fault.what for fault in FAULTS}) == len(FAULTS)
