"""How much CPU time a command takes that does little: starting Python, importing, opening the demo.

``python benchmarks/start.py [RUNS]`` prints the least of ten runs of each, in milliseconds, children included.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

RELATUM = "import sys; sys.argv[0] = 'relatum'; from relatum.__main__ import main; main()"


def cpu(*command: str, cwd: Path) -> float:
    """The CPU time of one run, in seconds."""
    before = os.times()
    subprocess.run([sys.executable, *command], cwd=cwd, check=True, capture_output=True)
    after = os.times()
    return after.children_user + after.children_system - before.children_user - before.children_system


def cases(model: str) -> dict[str, tuple[float | None, tuple[str, ...]]]:
    """What is measured: the most milliseconds it should take, if any, and the arguments of Python."""
    commands = ("check", "demo", "diagram", "diff", "draft", "explain", "export", "impact", "members", "pivot",
                "refresh", "report", "show", "sql")  # fmt: skip
    said: dict[str, tuple[float | None, tuple[str, ...]]] = {
        "python -c pass": (None, ("-c", "pass")),
        "import numpy, pyarrow": (None, ("-c", "import numpy, pyarrow")),
        "relatum --help": (150, ("-c", RELATUM, "--help")),
        "relatum edit FILE measure --help": (150, ("-c", RELATUM, "edit", model, "measure", "--help")),
        "relatum edit FILE measure": (400, ("-c", RELATUM, "edit", model, "measure", "twice", "revenue * 2")),
        "relatum show FILE": (400, ("-c", RELATUM, "show", model)),
        "relatum impact FILE revenue": (400, ("-c", RELATUM, "impact", model, "revenue")),
        "relatum pivot FILE departments": (500, ("-c", RELATUM, "pivot", model, "departments")),
        "import relatum; relatum.open(FILE)": (400, ("-c", f"import relatum; relatum.open({model!r})")),
    }
    return said | {f"relatum {name} --help": (150, ("-c", RELATUM, name, "--help")) for name in commands}


def main() -> None:
    """Measure each and print a table."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([sys.executable, "-c", RELATUM, "demo", "demo"], cwd=folder, check=True, capture_output=True)
        for name, (most, command) in cases("demo/nursery.toml").items():
            least = min(cpu(*command, cwd=Path(folder)) for _ in range(runs)) * 1000
            aim = "" if most is None else f"  aim {most:.0f}"
            print(f"{name:<40}{least:6.0f} ms{aim}", flush=True)


if __name__ == "__main__":
    main()
