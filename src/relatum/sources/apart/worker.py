"""The process that reads databases in files: it answers what it is asked until nobody asks any more."""

from __future__ import annotations

import json
import os
import shutil
import signal
import sys
import threading
from queue import SimpleQueue
from typing import Any, BinaryIO, Protocol

import pyarrow as pa
import pyarrow.ipc as paipc

from relatum.sources.apart.frames import END, FAILED, HEAD, PIECE, SAID, said, send_batches


class Opened(Protocol):
    """An open database."""

    def answer(self, statement: str, parameters: list[str]) -> tuple[dict[str, Any], Any, Any]:
        """What is to be known of an answer, its schema and its batches."""
        ...

    def take(self, name: str, rows: Any) -> None:
        """Make a temporary table of rows."""
        ...

    def close(self) -> None:
        """Let go of it."""
        ...


def opened(kind: str, options: dict[str, Any]) -> Opened:
    """An open database of a kind; its driver is imported here."""
    if kind == "sqlite":
        from relatum.sources.apart.sqlite_file import SqliteFile  # noqa: PLC0415

        return SqliteFile(**options)
    assert kind == "duckdb", kind
    from relatum.sources.apart.duckdb_file import DuckdbFile  # noqa: PLC0415

    return DuckdbFile(**options)


class _Worker:
    """Answers questions in the order in which they come."""

    def __init__(self, asked: BinaryIO, answers: int) -> None:
        self._asked = asked
        self._answers = answers
        self._questions: SimpleQueue[tuple[dict[str, Any], Any]] = SimpleQueue()
        self._opened: Opened | None = None
        self._folder = ""

    def listen(self) -> None:
        """Take questions as they come; end at once when nobody is there any more to ask."""
        while True:
            head = self._asked.read(HEAD.size)
            if len(head) < HEAD.size:
                break
            _, size = HEAD.unpack(head)
            question = json.loads(self._asked.read(size))
            self._questions.put((question, self._rows() if question.get("rows") else None))
        # The asking process has gone, perhaps during a question: leave nothing behind.
        shutil.rmtree(self._folder, ignore_errors=True) if self._folder else None
        os._exit(0)

    def _rows(self) -> Any:
        pieces: list[bytes] = []
        while True:
            kind, size = HEAD.unpack(self._asked.read(HEAD.size))
            if kind == END:
                return paipc.open_stream(pa.py_buffer(b"".join(pieces))).read_all()
            assert kind == PIECE, kind
            pieces.append(self._asked.read(size))

    def answer(self) -> None:
        """Answer one question."""
        question, rows = self._questions.get()
        try:
            match question["call"]:
                case "open":
                    self._close()
                    self._folder = question["options"].get("folder", "")
                    self._opened = opened(question["kind"], question["options"])
                    self._write(said(SAID, {}))
                case "answer":
                    assert self._opened is not None
                    facts, schema, batches = self._opened.answer(question["statement"], question["parameters"])
                    self._write(said(SAID, facts))
                    send_batches(self._write, schema, batches)
                case "take":
                    assert self._opened is not None
                    self._opened.take(question["name"], rows)
                    self._write(said(SAID, {}))
                case "close":
                    self._close()
                    self._write(said(SAID, {}))
        except Exception as error:
            self._write(said(FAILED, {"kind": type(error).__name__, "text": str(error)}))

    def _close(self) -> None:
        if self._opened is not None:
            self._opened.close()
            self._opened = None

    def _write(self, data: bytes) -> None:
        view = memoryview(data)
        while view:
            view = view[os.write(self._answers, view) :]


def main() -> None:
    """Answer until standard input ends."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # whoever asked hears it, and ends this process
    # What a driver prints must not be among the answers.
    answers = os.dup(1)
    os.dup2(2, 1)
    worker = _Worker(sys.stdin.buffer, answers)
    threading.Thread(target=worker.listen, daemon=True).start()
    while True:
        worker.answer()


if __name__ == "__main__":
    main()
