"""A file opened in its folder: later reads are of that file, whatever its name leads to by then."""

from __future__ import annotations

import errno
import os
import sys
import weakref
from pathlib import Path, PosixPath

from relatum.errors import MissingSourceError, SourceError

#: Where the system names open files.
_OPEN = Path("/proc/self/fd")


class HeldFile(PosixPath):
    """The path of a file that is held open: it reads like its name, and opens that file."""

    handle: int | None = None

    def __fspath__(self) -> str:
        return str(self) if self.handle is None else f"{_OPEN}/{self.handle}"


def held(path: Path, within: Path | None) -> Path:
    """A file, opened from its folder on without following a link that was not there when it was looked at.

    Parameters
    ----------
    path : Path
        The file.
    within : Path, optional
        The folder that it may not lie outside of; without one it is taken as it is.

    Raises
    ------
    SourceError
        It leads outside, or was exchanged while it was opened.
    """
    if within is None or not sys.platform.startswith("linux"):
        return path
    folder, real = within.resolve(), path.resolve()
    if not real.is_relative_to(folder):
        raise led_away(path)
    *folders, name = real.relative_to(folder).parts or ("",)
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        for each in folders:
            handle = _stepped(handle, each, os.O_DIRECTORY)
        handle = _stepped(handle, name, os.O_NONBLOCK)
    except FileNotFoundError:
        raise MissingSourceError("There is no such file.", path=path) from None
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENOTDIR):
            raise led_away(path) from None
        raise
    found = HeldFile(path)
    found.handle = handle
    weakref.finalize(found, os.close, handle)
    return found


def _stepped(handle: int, name: str, kind: int) -> int:
    """What is in an open folder, opened; the folder is closed."""
    try:
        return os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | kind, dir_fd=handle)
    finally:
        os.close(handle)


def led_away(path: Path) -> SourceError:
    """The error for a file outside the model's folder."""
    return SourceError(
        "This link leads outside the model's folder.",
        path=path,
        fix="Put the file itself in the folder, or, from Python, open the model with allow_outside=True.",
    )
