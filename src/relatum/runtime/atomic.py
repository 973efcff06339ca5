"""Writing a file in one step: all of it, or none."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from relatum.errors import SourceError

#: Files that are being written aside, and have not been moved into place.
_unfinished: set[str] = set()
#: Who may read every source that was read.
_readers = 0o777


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

    What a link leads to is written, and the link stays. What is not a plain file (a pipe, a terminal) is written to.

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
        with written_aside(target) as temporary:
            temporary.write_bytes(data)
    except OSError as error:
        raise SourceError(
            f"The file cannot be written: {error.strerror or error}.", path=path, fix="Nothing was changed."
        ) from None
    except ValueError:
        raise SourceError("The path contains a character that paths cannot have.", path=repr(str(path))) from None


def note_source(path: Path) -> None:
    """Note who may read a source: whatever this process writes may not be readable by anyone else."""
    global _readers
    with suppress(OSError):
        _readers &= stat.S_IMODE(path.stat().st_mode) | 0o600


def readers() -> int:
    """The rights that a new file has at most, before what the person takes away from all (the umask)."""
    return _readers & 0o666


@contextmanager
def written_aside(path: Path, prefix: str = "") -> Iterator[Path]:
    """A file beside another, which takes the other's place and rights when the block ends, and is gone where it fails.

    ``prefix`` begins its name; by default it comes from the other's name.
    """
    name = str(path.with_name(f"{prefix or f'.{path.name[:100]}.'}{os.urandom(6).hex()}"))
    former = stat.S_IMODE(path.stat().st_mode) & 0o777 if path.is_file() else None
    rights = readers() if former is None else 0o600
    os.close(os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL, rights))
    if former is not None:
        Path(name).chmod(former)
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
    """Remove half-written files: for a process that is about to end."""
    for name in list(_unfinished):
        with suppress(OSError):
            os.unlink(name)  # noqa: PTH108 - another thread may be at it
