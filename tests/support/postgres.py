"""A PostgreSQL server of our own, for as long as it is needed."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


def program(name: str) -> str:
    """A program of PostgreSQL, from the path or from where Debian puts it."""
    installed = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"))
    found = shutil.which(name) or (str(installed[-1]) if installed else None)
    assert found, "PostgreSQL is missing: tests/install_postgresql.sh installs it"
    return found


def _run(*command: str) -> None:
    # The server refuses to run as root; Debian's package has made a user for it.
    prefix = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    done = subprocess.run([*prefix, *command], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr


class Server:
    """A running server: its address, and how to stop and start it."""

    def __init__(self, folder: Path) -> None:
        self.data = str(folder / "data")
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.address = f"postgresql://127.0.0.1:{self.port}/postgres"
        _run(program("initdb"), "-D", self.data, "-U", "tester", "-A", "trust", "-E", "UTF8", "--no-sync")
        self.start()

    def start(self) -> None:
        options = f"-p {self.port} -k {Path(self.data).parent} -c fsync=off -c full_page_writes=off -c jit=off -c autovacuum=off -c listen_addresses=127.0.0.1"
        log = str(Path(self.data).parent / "log")
        _run(program("pg_ctl"), "-D", self.data, "-o", options, "-l", log, "-w", "start")

    def stop(self) -> None:
        _run(program("pg_ctl"), "-D", self.data, "-m", "immediate", "-w", "stop")

    def execute(self, statements: str) -> None:
        """Run SQL statements."""
        self.told(statements)

    def told(self, statements: str) -> str:
        """What SQL statements answer, a row a line."""
        psql = [program("psql"), "-h", "127.0.0.1", "-p", str(self.port), "-U", "tester", "-d", "postgres"]
        command = [*psql, "-v", "ON_ERROR_STOP=1", "-q", "-A", "-t", "-f", "-"]
        done = subprocess.run(command, input=statements, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        return done.stdout


@contextmanager
def postgresql() -> Iterator[Server]:
    """A fresh server, stopped and deleted afterwards; the environment says who asks it."""
    folder = Path(tempfile.mkdtemp(prefix="relatum-pg-"))
    if os.geteuid() == 0:
        shutil.chown(folder, "postgres")
    server = Server(folder)
    former = os.environ.get("PGUSER")
    os.environ["PGUSER"] = "tester"
    try:
        yield server
    finally:
        server.stop()
        os.environ.pop("PGUSER") if former is None else os.environ.update(PGUSER=former)
        shutil.rmtree(folder, ignore_errors=True)
