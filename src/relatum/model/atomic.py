"""Writing a file in one step: all of it, or none."""

from __future__ import annotations

import errno
import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from relatum.errors import SourceError

#: Files that are being written aside, and have not been moved into place.
_unfinished: set[str] = set()


def write_atomically(path: Path, text: str) -> None:
    """Write a text file in one step: a failure leaves what was there.

    Raises
    ------
    SourceError
        The file cannot be written.
    """
    write_bytes_atomically(path, text.encode())


def write_bytes_atomically(path: Path, data: bytes) -> None:
    """Write a file in one step: a failure leaves what was there.

    What a link leads to is written, and the link stays. What is no plain file (a pipe, a terminal) is written to.

    Raises
    ------
    SourceError
        The file cannot be written.
    """
    try:
        target = Path(os.path.realpath(path))
        if target.is_dir():
            raise IsADirectoryError(errno.EISDIR, "it is a folder")
        if target.exists() and not stat.S_ISREG(target.stat().st_mode):
            target.write_bytes(data)
            return
        mode = stat.S_IMODE(target.stat().st_mode) if target.exists() else 0o644
        with written_aside(target) as temporary:
            temporary.write_bytes(data)
            temporary.chmod(mode & 0o777)
    except OSError as error:
        raise SourceError(
            f"The file cannot be written: {error.strerror or error}.", path=path, fix="Nothing was changed."
        ) from None
    except ValueError:
        raise SourceError("The path holds a character that no path has.", path=repr(str(path))) from None


@contextmanager
def written_aside(path: Path, prefix: str = "") -> Iterator[Path]:
    """A file beside another, which takes the other's place when the block ends, and is gone where it fails.

    ``prefix`` begins its name; unless given it is told by the other's.
    """
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=prefix or f".{path.name[:100]}.")
    os.close(handle)
    _unfinished.add(name)
    try:
        yield Path(name)
        Path(name).replace(path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
    finally:
        _unfinished.discard(name)


def drop_unfinished() -> None:
    """Take out what is half-written: for a process that is about to end."""
    for name in list(_unfinished):
        with suppress(OSError):
            os.unlink(name)  # noqa: PTH108 - another thread may be at it
