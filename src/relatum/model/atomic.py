"""Writing a file in one step: all of it, or none."""

from __future__ import annotations

import errno
import os
import tempfile
from pathlib import Path

from relatum.errors import SourceError


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

    Raises
    ------
    SourceError
        The file cannot be written.
    """
    try:
        _replace(path, data)
    except OSError as error:
        raise SourceError(
            f"The file cannot be written: {error.strerror}.", path=path, fix="Nothing was changed."
        ) from None


def _replace(path: Path, data: bytes) -> None:
    if path.is_dir():
        raise IsADirectoryError(errno.EISDIR, "it is a folder")
    handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        mode = path.stat().st_mode if path.exists() else 0o644
        Path(temporary).chmod(mode & 0o777)
        Path(temporary).replace(path)
    except BaseException:
        Path(temporary).unlink(missing_ok=True)
        raise
