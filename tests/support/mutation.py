"""Changes the program in one place after another, and says which changes no test notices.

    pip install cosmic-ray
    python tests/support/mutation.py 100 SEED

So many changes are drawn from all that the mutation tool can make in the four rooms that decide what a number is. Each
is made in a copy of the repository, and the tests of the core run on it. What they do not notice is printed as a diff:
it is either a missing test or a change that means the same.
"""

from __future__ import annotations

import ast
import functools
import random
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from cosmic_ray.work_db import WorkDB, use_db
from cosmic_ray.work_item import MutationSpec, WorkItem

ROOT = Path(__file__).parents[2]
ROOMS = ("plan", "language", "engine/memory", "pivot")
#: The quick ones first: most changes are noticed within seconds.
TESTS = (
    "language/test_formulas language/test_wrong_formulas language/test_language language/test_grammar plan/test_brackets plan/test_moves plan/test_shown pivot/test_pivot model/test_roles model/test_relationships "
    "engine/test_exact pivot/test_recipes pivot/test_saved_pivots engine/test_star engine/test_edges plan/test_crossings "
    "plan/test_travel engine/test_casts engine/test_agreement pivot/test_grids audit change/test_compare engine/test_limits"
)
CONFIG = """
[cosmic-ray]
module-path = [{rooms}]
timeout = 900.0
excluded-modules = []
test-command = "{command}"
[cosmic-ray.distributor]
name = "local"
"""


@functools.cache
def annotations(path: Path) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """Where a file has types and texts of documentation: a change there means nothing when it runs."""
    found: list[ast.AST] = []
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        match node:
            case ast.FunctionDef(returns=returns):
                found += [returns] if returns else []
            case ast.arg(annotation=said) if said:
                found.append(said)
            case ast.AnnAssign(annotation=said):
                found.append(said)
            case ast.Assign(targets=[ast.Name(name)], value=ast.BinOp(op=ast.BitOr()) as value) if name.istitle():
                found.append(value)  # a type's name
    return [((each.lineno, each.col_offset), (each.end_lineno, each.end_col_offset)) for each in found]  # type: ignore[attr-defined]


def worth_making(each: MutationSpec) -> bool:
    """Whether a change is one of the program: not in a type."""
    at = each.start_pos
    return not any(start <= at < end for start, end in annotations(Path(each.module_path)))


def drawn(database: WorkDB, count: int, seed: int) -> list[WorkItem]:
    """Some of all changes, spread over files by their number in each."""
    items = [item for item in database.work_items if all(map(worth_making, item.mutations))]
    return random.Random(seed).sample(items, min(count, len(items)))


def main(count: int, seed: int) -> int:
    with tempfile.TemporaryDirectory(prefix="relatum-mutation-") as folder:
        copy = Path(folder) / "relatum"
        shutil.copytree(
            ROOT, copy, ignore=shutil.ignore_patterns(".git", ".venv", "node_modules", "hollowmere", "build")
        )
        files = " ".join(f"tests/{each}" + (".py" if "/" in each else "") for each in TESTS.split())
        python = ROOT / ".venv" / "bin" / "python"
        command = f"env PYTHONPATH={copy}/src {python} -m pytest -x -q -p no:cacheprovider --timeout 120 {files}"
        rooms = ", ".join(f'"{copy}/src/relatum/{room}"' for room in ROOMS)
        (copy / "mutation.toml").write_text(CONFIG.format(rooms=rooms, command=command), encoding="utf-8")
        tool = Path(sys.executable).parent / "cosmic-ray"
        session = copy / "mutation.sqlite"
        subprocess.run([tool, "init", "mutation.toml", session], cwd=copy, check=True)
        with use_db(session) as database:
            items = drawn(database, count, seed)
            database.clear()
            database.add_work_items(items)
        subprocess.run([tool, "exec", "mutation.toml", session], cwd=copy, check=True)
        killed = 0
        with use_db(session) as database:
            for job, result in database.results:
                killed += result.is_killed
                if not result.is_killed:
                    print(f"\n{job}: {result.worker_outcome.value}\n{result.diff}")
        print(f"\n{killed} of {len(items)} changes were noticed.")
        return 0


if __name__ == "__main__":
    raise SystemExit(main(int(sys.argv[1]), int(sys.argv[2])))
