"""Charts drawn by a process of their own: drawing holds up no other work, and can be stopped."""

from __future__ import annotations

import atexit
import os
import pickle
import signal
import subprocess
import sys
import threading
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import suppress
from functools import cache
from typing import Any

from relatum.errors import RelatumError
from relatum.present.charts.plan import Drawing
from relatum.runtime.limits import refuse_late
from relatum.runtime.processes import started

#: How often it is looked whether a picture is still wanted, in seconds.
_LOOK = 0.05
#: Drawing waits for whatever is worked out beside it.
_PATIENT = 5

#: A picture as SVG, and the notes about it; or why there is none.
Drawn = tuple[str, tuple[str, ...]] | RelatumError


class Painter:
    """Draws charts, one at a time, in a process that ends with this one."""

    def __init__(self) -> None:
        self._child: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()
        self._reader = ThreadPoolExecutor(1, thread_name_prefix="relatum-painter")

    def svg(self, drawing: Drawing) -> tuple[str, tuple[str, ...]]:
        """A chart as SVG, and the notes about it.

        Raises
        ------
        LimitError, StoppedError
            It takes longer than it may, or is not wanted any more.
        RelatumError
            It cannot be drawn.
        """
        question = pickle.dumps(drawing, pickle.HIGHEST_PROTOCOL)
        with self._lock:
            found = self._asked(question)
        if isinstance(found, RelatumError):
            raise found
        return found

    def _asked(self, question: bytes) -> Drawn:
        refuse_late()
        if self._child is not None and self._child.poll() is not None:
            self.end()
        if self._child is None:
            try:
                self._child = started("relatum.present.charts.painter", "serve")
            except OSError as error:
                raise RelatumError(f"Cannot start a process to draw the chart: {error.strerror}.") from None
            atexit.register(self.end)
        child = self._child
        pending = self._reader.submit(_exchange, child, question)
        try:
            while not wait([pending], _LOOK).done:
                refuse_late()
        except RelatumError:
            self.end()
            raise
        try:
            return pending.result()
        except (OSError, EOFError, pickle.UnpicklingError):
            self.end()
            raise RelatumError("The process that draws charts has ended.", fix="Ask for the chart again.") from None

    def end(self) -> None:
        """End the process, whatever it is at; the next chart starts another one."""
        child, self._child = self._child, None
        if child is None:
            return
        atexit.unregister(self.end)
        child.kill()
        child.wait()
        for pipe in (child.stdin, child.stdout):
            with suppress(OSError):
                pipe.close()  # type: ignore[union-attr]


@cache
def painter() -> Painter:
    """The painter of this process."""
    return Painter()


def _exchange(child: subprocess.Popen[bytes], question: bytes) -> Drawn:
    assert child.stdin is not None and child.stdout is not None
    child.stdin.write(question)
    child.stdin.flush()
    answer: Drawn = pickle.load(child.stdout)
    return answer


def serve() -> None:
    """Draw what comes in, until nothing more can come."""
    from relatum.present.charts.draw import draw  # noqa: PLC0415 - matplotlib is heavy: only the painter needs it
    from relatum.present.pictures import picture_bytes  # noqa: PLC0415 - as above

    # An interrupt is for the process that asks.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if hasattr(os, "nice"):
        os.nice(_PATIENT)
    incoming, outgoing = sys.stdin.buffer, sys.stdout.buffer
    while True:
        try:
            drawing = pickle.load(incoming)
        except EOFError:
            return
        try:
            figure, notes = draw(drawing)
            answer: Any = (picture_bytes(figure, ".svg").decode(), notes)
        except RelatumError as error:
            answer = error
        except Exception as error:
            answer = RelatumError(f"This is a bug in Relatum: {type(error).__name__}: {error}")
        with suppress(BrokenPipeError):
            pickle.dump(answer, outgoing, pickle.HIGHEST_PROTOCOL)
            outgoing.flush()
