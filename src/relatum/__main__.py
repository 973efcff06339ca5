"""Where the command begins, ``python -m relatum`` too: what takes long to load is loaded once Ctrl-C is understood."""

import gc
import os
import signal
import sys


def main() -> None:
    """Run the command line."""
    if hasattr(signal, "SIGINT"):
        signal.signal(signal.SIGINT, _leave)
    # No matrices are multiplied here: the threads that NumPy would start for them cost more than many a command.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    from relatum.runtime.garbage import look_seldom  # noqa: PLC0415 - see above

    look_seldom()
    from relatum.cli.main import run  # noqa: PLC0415 - see above

    code = run()
    # What is left goes with the process: nobody needs to look through it once more.
    gc.freeze()
    sys.exit(code)


def _leave(number: int, frame: object) -> None:
    # Nothing is begun yet, so nothing is left.
    os._exit(128 + number)


if __name__ == "__main__":
    main()
