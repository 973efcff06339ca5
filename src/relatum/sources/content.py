"""The bytes of a text file: as they are, or unpacked where the file is compressed."""

from __future__ import annotations

import gzip
import zipfile
import zlib
from pathlib import Path
from typing import Any

import pyarrow as pa

from relatum.errors import SourceError

#: Endings of files that hold one text file, packed.
PACKED = (".gz", ".zip")


def ending(path: Path) -> str:
    """What kind of file it is by its ending, packed or not: ``.csv`` for ``lines.csv.gz`` and for a zip file of one.

    An archive of several files, or a damaged one, is a ``.zip``.
    """
    last = path.suffix.lower()
    if last == ".gz":
        return Path(path.stem).suffix.lower()
    if last == ".zip" and path.is_file():
        try:
            return Path(only_member(path)).suffix.lower()
        except SourceError:
            return last
    return last


def stem(path: Path) -> str:
    """A file's name without its endings."""
    return Path(path.stem).stem if path.suffix.lower() in PACKED else path.stem


def content_of(path: Path) -> Any:
    """An Arrow buffer of what a file holds, unpacked; a plain file is mapped rather than read.

    Raises
    ------
    SourceError
        The file is packed and damaged, or holds several files.
    """
    last = path.suffix.lower()
    try:
        if last == ".gz":
            with gzip.open(path) as packed:
                return pa.py_buffer(packed.read())
        if last == ".zip":
            name = only_member(path)
            with zipfile.ZipFile(path) as archive:
                return pa.py_buffer(archive.read(name))
    except (gzip.BadGzipFile, zipfile.BadZipFile, zlib.error, EOFError, RuntimeError) as error:
        raise SourceError(f"The file cannot be unpacked: {error}", path=path, fix="Pack it anew.") from None
    with pa.memory_map(str(path)) as mapped:
        return mapped.read_buffer()


def only_member(path: Path) -> str:
    """The name of the one file in an archive; a SourceError where it holds none or several."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = [each.filename for each in archive.infolist() if not each.is_dir()]
    except (zipfile.BadZipFile, OSError) as error:
        raise SourceError(f"The file cannot be unpacked: {error}", path=path, fix="Pack it anew.") from None
    names = [name for name in names if not name.startswith("__MACOSX/")]
    if len(names) != 1:
        raise SourceError(
            f"The archive holds {len(names)} files, and one is read.", path=path, fix="Unpack it into a folder."
        )
    return names[0]


def without_footer(content: Any, lines: int) -> Any:
    """The content without so many lines at its end; lines that are blank do not count."""
    data = memoryview(content)
    end = len(data)
    for _ in range(lines):
        while end and data[end - 1] in b"\r\n":
            end -= 1
        start = end
        while start and data[start - 1] not in b"\r\n":
            start -= 1
        end = start
    return content.slice(0, end)
