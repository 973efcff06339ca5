"""Processes of our own, forked where everything they need is loaded already, in place of ``runtime.processes.started``.

A test that reads a database or draws a chart costs what that costs, not what starting Python does. Whatever is run as a
command of its own starts its processes as it does for everybody.
"""

from __future__ import annotations

import importlib
import os
import select
import signal
import socket
import subprocess
import sys
import threading
from contextlib import suppress
from functools import cache

import relatum.present.charts.painter
import relatum.sources.apart.process

#: What is loaded for each module before one of its processes is asked for. None of it starts threads.
LOADED = {
    "relatum.sources.apart.worker": (
        "duckdb",
        "relatum.sources.apart.duckdb_file",
        "relatum.sources.apart.sqlite_file",
        "relatum.sources.apart.worker",
    ),
    "relatum.present.charts.painter": (
        "babel.dates",
        "babel.numbers",
        "matplotlib.backends.backend_agg",
        "matplotlib.backends.backend_svg",
        "relatum.present.charts.draw",
        "relatum.present.charts.painter",
        "relatum.present.pictures",
    ),
}


class Forked:
    """A forked process: what is used of ``subprocess.Popen``."""

    def __init__(self, pid: int, handle: int, asked: int, answers: int) -> None:
        self.pid = pid
        self.stdin = open(asked, "wb")  # noqa: SIM115 - as Popen has them
        self.stdout = open(answers, "rb")  # noqa: SIM115
        self._handle = handle

    def __del__(self) -> None:
        os.close(self._handle)

    def poll(self) -> int | None:
        """Zero once it has ended."""
        return 0 if select.select([self._handle], [], [], 0)[0] else None

    def wait(self) -> int:
        """Wait for its end."""
        select.select([self._handle], [], [])
        return 0

    def kill(self) -> None:
        """End it."""
        with suppress(ProcessLookupError):
            signal.pidfd_send_signal(self._handle, signal.SIGKILL)


class Zygote:
    """A process that has a module loaded, and forks one that calls a function of it whenever it is asked."""

    def __init__(self, module: str) -> None:
        self._ours, theirs = socket.socketpair()
        self._lock = threading.Lock()
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, __file__, str(theirs.fileno()), module], pass_fds=[theirs.fileno()]
            )

    def start(self, function: str) -> Forked:
        """A process that runs a function of the module."""
        asked, answers = os.pipe(), os.pipe()
        with self._lock:
            socket.send_fds(self._ours, [function.encode()], [asked[0], answers[1]])
            said, (handle,), *_ = socket.recv_fds(self._ours, 100, 1)
        os.close(asked[0])
        os.close(answers[1])
        return Forked(int(said), handle, asked[1], answers[0])


@cache
def zygote_of(module: str) -> Zygote:
    """The one that has a module loaded; it ends with this process."""
    return Zygote(module)


def fork_from_zygotes() -> None:
    """Have what this process starts from here on be forked."""

    def started(module: str, function: str) -> Forked:
        return zygote_of(module).start(function)

    for user in (relatum.present.charts.painter, relatum.sources.apart.process):
        user.started = started  # type: ignore[attr-defined]


def _serve(ours: socket.socket, module: str) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for name in LOADED[module]:
        importlib.import_module(name)
    while True:
        function, ends, *_ = socket.recv_fds(ours, 100, 2)
        if not function:
            return
        child = os.fork()
        if not child:
            ours.close()
            _be(module, function.decode(), ends)
        for each in ends:
            os.close(each)
        handle = os.pidfd_open(child)
        socket.send_fds(ours, [b"%d" % child], [handle])
        os.close(handle)
        with suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass


def _be(module: str, function: str, ends: list[int]) -> None:
    try:
        nothing = os.open(os.devnull, os.O_WRONLY)
        for number, end in enumerate((*ends, nothing)):
            os.dup2(end, number)
            os.close(end)
        sys.stdin, sys.stdout, sys.stderr = open(0), open(1, "w"), open(2, "w")  # noqa: SIM115
        getattr(sys.modules[module], function)()
    finally:
        os._exit(0)


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])), sys.argv[2])
