"""Runs commands one after the other, each in a separate process that has everything loaded already.

A case costs what it costs, not what starting Python does; it is stopped when its time is over, and what it took is told.
``Forker`` is the side of the tests; run as a program this file is the side that forks.
"""

from __future__ import annotations

import importlib
import json
import os
import resource
import select
import signal
import subprocess
import sys
import tempfile
import time
import traceback
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygote import fork_from_zygotes, zygote_of

#: What is loaded before a case begins. None of it starts threads, which a fork would lose.
LOADED = (
    "adbc_driver_postgresql.dbapi", "duckdb", "openpyxl", "pyarrow.csv", "pyarrow.json", "pyarrow.parquet", "sqlglot.dialects.duckdb", "sqlglot.dialects.postgres", "sqlglot.dialects.sqlite",
    "relatum.face.model", "relatum.face.asking", "relatum.cli.main", "relatum.face.drafting", "relatum.language.parse", "relatum.present.grid", "relatum.audit.check", "relatum.change.refresh", "relatum.change.edits", "relatum.change.compare", "relatum.change.differences", "relatum.sources.export", "relatum.present.text", "rich.table", "rich.progress", "rich._emoji_codes",
    "babel.numbers", "babel.dates", "tomlkit", "psutil", "pyarrow.compute", "relatum.audit.relationships", "relatum.audit.tables", "relatum.sources.delimited", "relatum.sources.database.ask", "relatum.sources.workbook", "zoneinfo", "difflib",
)  # fmt: skip


WARM = """relatum = 1
[table.t]
source = "t.csv"
[measure.m]
formula = "sum(t.x)"
format = "¤#,##0"
"""


@dataclass(frozen=True)
class Outcome:
    """A command's exit code, output, seconds, and peak megabytes beyond what was loaded before."""

    exit_code: int
    stdout: str
    stderr: str
    seconds: float = 0.0
    memory: float = 0.0

    @property
    def ended(self) -> bool:
        """Whether it ended by itself: neither by a signal nor because its time was over."""
        return self.exit_code >= 0


class Forker:
    """A process that forks; ``run`` hands it a command."""

    def __init__(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )

    def run(
        self,
        folder: Path,
        *command: str,
        seconds: float = 30.0,
        prelude: str = "",
        stdout: str = "",
        env: dict[str, str] | None = None,
    ) -> Outcome:
        """Run ``relatum COMMAND`` in a folder. ``prelude`` is run first; ``stdout`` is a path in place of a file."""
        assert self.process.stdin is not None and self.process.stdout is not None
        asked = {
            "folder": str(folder),
            "command": command,
            "seconds": seconds,
            "prelude": prelude,
            "stdout": stdout,
            "env": env or {},
        }
        self.process.stdin.write(json.dumps(asked) + "\n")
        self.process.stdin.flush()
        answer: dict[str, Any] = json.loads(self.process.stdout.readline())
        return Outcome(**answer)

    def close(self) -> None:
        """End it."""
        assert self.process.stdin is not None and self.process.stdout is not None
        self.process.stdin.close()
        self.process.wait(60)
        self.process.stdout.close()


def _serve() -> None:
    for name in LOADED:
        importlib.import_module(name)
    _warm_up()
    zygote_of("relatum.sources.apart.worker")
    fork_from_zygotes()
    loaded = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for line in sys.stdin:
        asked = json.loads(line)
        print(json.dumps(_case(asked, loaded)), flush=True)


def _warm_up() -> None:
    """Do once what needs no thread, which a fork would lose: parse a formula and a model file, write a number."""
    # One that was never parsed before: the parser is made for it.
    importlib.import_module("relatum.language.parse").parse_formula(f"{os.getpid()} + {time.time_ns()}")
    patterns = importlib.import_module("relatum.present.patterns")
    patterns.check_locale("en")
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "warm.toml"
        file.write_text(WARM, encoding="utf-8")
        patterns.check_patterns(importlib.import_module("relatum.model.file").read_model(file))


def _case(asked: dict[str, Any], loaded: int) -> dict[str, Any]:
    ends = [os.pipe(), os.pipe()]
    started = time.monotonic()
    child = os.fork()
    if not child:
        _be(asked, [told for _, told in ends])
    for _, told in ends:
        os.close(told)
    _alarm(child, asked["seconds"])
    said = _heard([heard for heard, _ in ends])
    _, status, used = os.wait4(child, 0)
    signal.alarm(0)
    code = -os.WTERMSIG(status) if os.WIFSIGNALED(status) else os.WEXITSTATUS(status)
    memory = max(used.ru_maxrss - loaded, 0) / 1024
    return {
        "exit_code": code,
        "stdout": said[0],
        "stderr": said[1],
        "seconds": time.monotonic() - started,
        "memory": memory,
    }


def _heard(ends: list[int]) -> list[str]:
    """All that comes through some pipes."""
    said = dict.fromkeys(ends, b"")
    open_ends = list(ends)
    while open_ends:
        for end in select.select(open_ends, [], [])[0]:
            part = os.read(end, 1 << 16)
            said[end] += part
            if not part:
                open_ends.remove(end)
                os.close(end)
    return [text.decode("utf-8", "replace") for text in said.values()]


def _alarm(child: int, seconds: float) -> None:
    """Have a child killed when its time is over."""

    def stop(*_: object) -> None:
        os.kill(child, signal.SIGKILL)

    signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, seconds)


def _be(asked: dict[str, Any], ends: list[int]) -> None:
    code = 99
    try:
        os.chdir(asked["folder"])
        os.environ.update({"COLUMNS": "100"} | asked["env"])
        for number, end in zip((1, 2), ends, strict=True):
            os.dup2(end, number)
            os.close(end)
        if asked["stdout"] == "closed":
            os.close(1)
        elif asked["stdout"]:
            os.dup2(os.open(asked["stdout"], os.O_WRONLY), 1)
        sys.stdout = None if asked["stdout"] == "closed" else open(1, "w", encoding="utf-8", closefd=False)  # type: ignore[assignment]  # noqa: SIM115
        sys.stderr = open(2, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
        sys.argv = ["relatum", *asked["command"]]
        exec(asked["prelude"], {})
        code = relatum_run()
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
    except BaseException as error:
        sys.stderr.write("".join(traceback.format_exception(error)))
        sys.stderr.flush()
    finally:
        os._exit(code)


def relatum_run() -> int:
    """The command line, as its entry runs it."""
    from relatum.cli.main import run  # noqa: PLC0415 - loaded already

    return run()


if __name__ == "__main__":
    _serve()
