"""Ctrl-C: work stops within a second, whatever it is at, and nothing is left behind."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time

INTERRUPTED = 128 + signal.SIGINT
#: How many seconds work may take to stop by itself after an interrupt.
_GRACE = 0.6


def watch_interrupts() -> None:
    """From now on Ctrl-C stops work at the next step of it, or, where a step takes long, the whole process.

    A signal is handed to Python between two of its own steps, and a library that computes for a minute is one such.
    The system writes its number to a pipe at once, which a thread reads.
    """
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, _end)
    sys.unraisablehook = _reported_elsewhere
    heard, woken = os.pipe()
    os.set_blocking(woken, False)
    signal.set_wakeup_fd(woken, warn_on_full_buffer=False)
    threading.Thread(target=_stop_when_signalled, args=(heard,), daemon=True).start()


def _reported_elsewhere(lost: sys.UnraisableHookArgs) -> None:
    """Say nothing of an interrupt that came where Python cannot raise it, as in an import: the thread ends the work."""
    if not issubclass(lost.exc_type, KeyboardInterrupt):
        sys.__unraisablehook__(lost)


def _end(number: int, frame: object) -> None:
    """End at once, and leave nothing half-written behind."""
    from relatum.runtime.atomic import drop_unfinished

    drop_unfinished()
    os._exit(128 + number)


def _stop_when_signalled(heard: int) -> None:
    number = 0
    while number != signal.SIGINT:
        (number,) = os.read(heard, 1)
        if number == signal.SIGTERM:
            _end(number, None)
    time.sleep(_GRACE)
    from relatum.runtime.atomic import drop_unfinished

    drop_unfinished()
    os._exit(INTERRUPTED)
