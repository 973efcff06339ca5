"""The side that asks: a process for each database that is open, watched, and ended where it takes what it may not."""

from __future__ import annotations

import atexit
import io
import json
import os
import select
import threading
import time
import weakref
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

import pyarrow.ipc as paipc

from relatum.runtime.limits import memory_left, refuse_stopped, time_left, too_late, too_much
from relatum.runtime.processes import started
from relatum.sources.apart.frames import END, FAILED, HEAD, SAID, said, send_batches

#: After how many seconds of silence the process is checked.
_LOOK = 0.05
#: Processes that nobody uses now, each to be used again; those of another process are not ours.
_idle: list[_Process] = []
_idle_lock = threading.Lock()

#: Makes something of a schema and of the batches that come.
Gather = Callable[[Any, Any], Any]
#: What is needed from an answer, and what was made of it.
Answer = tuple[dict[str, Any], Any]


class Refused(Exception):
    """What the database, or its driver, says against a question."""

    def __init__(self, kind: str, text: str) -> None:
        super().__init__(text)
        self.kind = kind


class _Process:
    def __init__(self) -> None:
        self.owner = os.getpid()
        try:
            self._child = started("relatum.sources.apart.worker", "main")
        except OSError as error:
            raise Refused("Unstarted", f"cannot start a process to read it: {error.strerror}") from None
        assert self._child.stdin is not None and self._child.stdout is not None
        self._ask, self._answers = self._child.stdin, self._child.stdout.fileno()
        # Not select: that knows no file numbered beyond 1023.
        self._poll = select.poll()
        self._poll.register(self._answers, select.POLLIN)
        self._watch: Any = None
        self._at_start = 0

    @property
    def alive(self) -> bool:
        """Whether it can be asked."""
        return self.owner == os.getpid() and self._child.poll() is None

    def end(self) -> None:
        """End it, whatever it is at."""
        if self.owner != os.getpid():
            return
        self._child.kill()
        self._child.wait()
        for each in (self._ask, self._child.stdout):
            with suppress(OSError):
                each.close()  # type: ignore[union-attr]

    def send(self, question: dict[str, Any], rows: Any = None) -> None:
        """Ask something."""
        with suppress(BrokenPipeError):  # raised where the answer is read
            self._ask.write(said(SAID, {**question, "rows": rows is not None}))
            if rows is not None:
                send_batches(self._ask.write, rows.schema, rows.to_batches())
            self._ask.flush()

    def settle(self) -> None:
        """Take what it uses now for what it is: nothing was read yet."""
        self._at_start = 0
        self.used()

    def used(self) -> int:
        """How many bytes it uses for itself, beside what it used when it began."""
        import psutil  # noqa: PLC0415 - not needed to open one

        try:
            if self._watch is None:
                self._watch = psutil.Process(self._child.pid)
            found = self._watch.memory_info()
        except psutil.Error:
            return 0
        own = int(found.rss - getattr(found, "shared", 0))
        self._at_start = self._at_start or own
        return own - self._at_start

    def read(self, size: int, question: _Question) -> bytes:
        """A number of bytes of its answer, waited for within the limits."""
        pieces, left = [], size
        while left:
            question.look(self)
            if not self._poll.poll(_LOOK * 1000):
                continue
            piece = os.read(self._answers, left)
            if not piece:
                raise Refused("Ended", "the process that reads it has ended")
            pieces.append(piece)
            left -= len(piece)
        return b"".join(pieces)


class _Question:
    """The limits of one question: when it must be answered, and how much memory is left for it."""

    def __init__(self, shown: str) -> None:
        self.shown = shown
        self.ends = time.monotonic() + time_left()
        self.memory = memory_left()
        self._next = 0.0

    def look(self, process: _Process) -> None:
        """Raise a LimitError where a limit is passed."""
        refuse_stopped()
        now = time.monotonic()
        if now > self.ends:
            raise too_late(self.shown)
        if now >= self._next:
            self._next = now + _LOOK
            if process.used() > self.memory:
                raise too_much(self.shown, process.used())


class _Incoming(io.RawIOBase):
    """An Arrow stream that comes in frames."""

    def __init__(self, process: _Process, question: _Question) -> None:
        self._process = process
        self._question = question
        self._held = memoryview(b"")
        self._ended = False

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        """Up to a number of bytes; fewer only at the end."""
        pieces, left = [], size
        while left and self._more():
            piece = self._held[:left]
            self._held = self._held[len(piece) :]
            pieces.append(piece)
            left -= len(piece)
        return b"".join(pieces)

    def _more(self) -> bool:
        while not self._held and not self._ended:
            kind, content = _frame(self._process, self._question)
            self._ended = kind == END
            self._held = memoryview(content)
        return bool(self._held)

    def finish(self) -> None:
        """Read the rest, so that the next answer starts afresh."""
        while self._more():
            self._held = memoryview(b"")


def _frame(process: _Process, question: _Question) -> tuple[bytes, bytes]:
    kind, size = HEAD.unpack(process.read(HEAD.size, question))
    content = process.read(size, question)
    if kind == FAILED:
        refused = json.loads(content)
        raise Refused(refused["kind"], refused["text"])
    return kind, content


class Apart:
    """A database read by a separate process: opened at the first question, and again after that process was ended.

    Parameters
    ----------
    kind : str
        ``sqlite`` or ``duckdb``.
    options : dict
        What the process is to open.
    shown : str
        The database, for messages.
    """

    def __init__(self, kind: str, options: dict[str, Any], shown: str) -> None:
        self._kind = kind
        self._options = options
        self._shown = shown
        self._process: _Process | None = None
        self._ending: Any = None
        self._lock = threading.RLock()
        self._closed = False
        self._openings = 0

    @property
    def opened(self) -> int:
        """How often it was opened: tables sent before the last opening are gone. What has ended is about to be."""
        process = self._process
        return self._openings + (process is None or not process.alive)

    def open(self) -> None:
        """Open it, unless it is open.

        Raises
        ------
        Refused
            It cannot be opened.
        """
        with self._lock:
            assert not self._closed, "what is closed is not asked"
            if self._process is not None and self._process.alive:
                return
            self._end()
            self._process = _taken()
            # If nobody closes it, it ends with this object; until then it is not garbage.
            self._ending = weakref.finalize(self, self._process.end)
            self._openings += 1
            self._asked({"call": "open", "kind": self._kind, "options": self._options})
            self._process.settle()

    def answer(
        self, statement: str, parameters: Sequence[str], gather: Gather, what: str
    ) -> tuple[dict[str, Any], Any]:
        """What is to be known of the answer to a statement, and what ``gather`` makes of its schema and batches.

        Raises
        ------
        Refused
            The database refuses it.
        LimitError
            It takes longer, or more memory, than it may; ``what`` says what does.
        """
        with self._lock:
            self.open()
            question = _Question(what)
            try:
                process = self._process
                assert process is not None, "it is open"
                process.send({"call": "answer", "statement": statement, "parameters": list(parameters)})
                _, content = _frame(process, question)
                incoming = _Incoming(process, question)
                reader = paipc.open_stream(incoming)
                made = gather(reader.schema, reader)
                incoming.finish()
                return json.loads(content), made
            except Refused:
                raise
            except BaseException:
                self._end()
                raise

    def take(self, name: str, rows: Any) -> None:
        """Send rows, to be a temporary table there.

        Raises
        ------
        Refused
            The database refuses them.
        """
        with self._lock:
            self.open()
            self._asked({"call": "take", "name": name}, rows)

    def close(self) -> None:
        """Let go of it; its process serves others."""
        with self._lock:
            self._closed = True
            process, self._process = self._process, None
            if process is None:
                return
            self._ending.detach()
            if not process.alive:
                process.end()
                return
            try:
                process.send({"call": "close"})
                _frame(process, _Question(f"{self._shown}: the database"))
            except BaseException:
                process.end()
                raise
            with _idle_lock:
                _idle.append(process)

    def _asked(self, question: dict[str, Any], rows: Any = None) -> None:
        process = self._process
        assert process is not None, "it is open"
        try:
            process.send(question, rows)
            _frame(process, _Question(f"{self._shown}: the database"))
        except Refused:
            raise
        except BaseException:
            self._end()
            raise

    def _end(self) -> None:
        if self._process is not None:
            self._ending()
            self._process = None


def _taken() -> _Process:
    """A process that nobody uses, or a new one."""
    with _idle_lock:
        while _idle:
            process = _idle.pop()
            if process.alive:
                return process
    return _Process()


@atexit.register
def _end_idle() -> None:
    with _idle_lock:
        while _idle:
            _idle.pop().end()
