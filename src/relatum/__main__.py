"""Where the command begins, ``python -m relatum`` too: what takes long to load is loaded once Ctrl-C is understood."""

import os
import signal
import sys


def main() -> None:
    """Run the command line."""
    if hasattr(signal, "SIGINT"):
        signal.signal(signal.SIGINT, _leave)
    from relatum.cli.main import run  # noqa: PLC0415 - see above

    sys.exit(run())


def _leave(number: int, frame: object) -> None:
    # Nothing is begun yet, so nothing is left.
    os._exit(128 + number)


if __name__ == "__main__":
    main()
