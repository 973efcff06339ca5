"""Whether the compiled loops are at hand, and getting them there without anybody waiting.

The compiler (the extra ``fast``) weighs much and takes half a minute to compile the loops once on a machine. So nothing
of it is imported before this process has scanned enough rows for it to be worth it; then a process of its own compiles
them into the person's cache folder, and a thread loads them. Until then, and where any of that fails, NumPy answers.
"""

from __future__ import annotations

import importlib.util
import os
import platform
import stat
import sys
import threading
from hashlib import blake2b
from pathlib import Path
from typing import Any

from relatum.engine.memory.blocks.instructions import DONE
from relatum.engine.memory.blocks.program import WhyNot
from relatum.runtime.paths import person_cache
from relatum.runtime.version import __version__

#: The loops are loaded for tables of this many rows or more.
LARGE_ROWS = 1_000_000
#: Once they are there, they scan smaller ones as well; below this NumPy is as quick.
_SOME_ROWS = 100_000
#: The loops are loaded once this many rows of large tables have been scanned.
_WORTH_ROWS = 20_000_000
#: Compiling takes half a minute; a machine that is busy may need longer.
_LONGEST_SECONDS = 600
#: The files that the loops are compiled from.
_SOURCES = ("compiled.py", "typed.py", "loops.py", "bits.py", "instructions.py")

_PREFIX = "the compiled loops are not used: "
_ON_THE_WAY = WhyNot(_PREFIX + "they are being loaded")


class _Readiness:
    def __init__(self) -> None:
        self.loops: Any = None
        self.reason = WhyNot(_PREFIX + "too few rows have been scanned so far")
        self.scanned = 0
        self.large, self.some = LARGE_ROWS, _SOME_ROWS
        self.thread: threading.Thread | None = None
        self.lock = threading.Lock()


_now = _Readiness()


def loops_for(rows: int) -> Any:
    """The loops for a table with this number of rows, or why NumPy answers."""
    if _now.loops is not None and rows >= _now.some:
        return _now.loops
    if rows < _now.large:
        return WhyNot(f"fewer than {_now.large:,}")
    _now.scanned += rows
    if _now.scanned >= _WORTH_ROWS:
        prepare()
    return _now.reason


def begin_at(rows: int) -> None:
    """Scan tables of this many rows or more with the loops, once they are loaded: to compare both ways."""
    _now.large, _now.some = rows, min(rows, _SOME_ROWS) if rows <= LARGE_ROWS else rows


def prepare() -> threading.Thread:
    """Begin to get the loops, if that has not begun; the thread ends when they are there or cannot be had."""
    with _now.lock:
        if _now.thread is None:
            _now.reason = _ON_THE_WAY
            _now.thread = threading.Thread(target=_get, name="relatum-loops", daemon=True)
            _now.thread.start()
    return _now.thread


def _get() -> None:
    import subprocess  # noqa: PLC0415 - as what is imported below: most processes never get the loops

    if importlib.util.find_spec("numba") is None:
        _now.reason = WhyNot(_PREFIX + "the extra `fast` is not installed")
        return
    try:
        folder = _folder()
        if not (folder / DONE).exists():
            program = "import sys; from pathlib import Path; from relatum.engine.memory.blocks import compiled; "
            command = [sys.executable, "-c", program + "compiled.main(Path(sys.argv[1]))", str(folder)]
            # It goes on where this process ends before it: the next one finds what it has made.
            subprocess.run(
                command, check=True, timeout=_LONGEST_SECONDS, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
        from relatum.engine.memory.blocks import compiled  # noqa: PLC0415 - it brings the compiler

        _now.loops = compiled.compiled(folder)
    except (OSError, subprocess.SubprocessError, ImportError) as error:
        _now.reason = WhyNot(f"{_PREFIX}{error}")


def _folder() -> Path:
    """The folder of the loops, made if it is not there.

    Raises
    ------
    OSError
        It cannot be made, or somebody else may write in it.
    """
    folder = _folder_named()
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    found = folder.lstat()
    # What lies there is run: nobody else may have put it there.
    foreign = hasattr(os, "getuid") and (found.st_uid != os.getuid() or found.st_mode & 0o022)
    if not stat.S_ISDIR(found.st_mode) or foreign:
        raise OSError(f"somebody else may write in {folder}")
    return folder


def _folder_named() -> Path:
    """Where the loops are in the person's cache: for these versions, on this machine."""
    made_of = [__version__, sys.version, platform.node(), platform.machine(), *map(_version, ("numba", "numpy"))]
    # The compiler knows what it kept by the place and time of the file that it is from.
    for path in (Path(__file__).with_name(name) for name in _SOURCES):
        made_of += [str(path), str(path.stat().st_mtime_ns), path.read_text(encoding="utf-8")]
    name = blake2b("\n".join(made_of).encode(), digest_size=8).hexdigest()
    parent = person_cache()
    if parent is None:
        raise OSError("there is no folder of this person's own to keep them in")
    return parent / f"loops-{name}"


def _version(package: str) -> str:
    from importlib.metadata import PackageNotFoundError, version  # noqa: PLC0415 - as above

    try:
        return version(package)
    except PackageNotFoundError:
        return ""
