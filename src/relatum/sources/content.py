"""The bytes of a text file: as they are, or unpacked where the file is compressed."""

from __future__ import annotations

import gzip
import lzma
import struct
import zipfile
import zlib
from pathlib import Path
from typing import IO, Any

import pyarrow as pa

from relatum.errors import LimitError, SourceError
from relatum.limits import refuse_above, refuse_memory
from relatum.sources.files import read_bytes

_BLOCK = 1 << 20

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
    """An Arrow buffer of what a file holds, unpacked.

    Raises
    ------
    SourceError
        The file is packed and damaged, or holds several files.
    """
    last = path.suffix.lower()
    try:
        if last == ".gz":
            with gzip.open(path) as packed:
                return pa.py_buffer(_unpacked(packed, path))
        if last == ".zip":
            name = only_member(path)
            with zipfile.ZipFile(path) as archive, archive.open(name) as packed:
                return pa.py_buffer(_unpacked(packed, path))
    except LimitError:
        raise
    except (gzip.BadGzipFile, zipfile.BadZipFile, zlib.error, lzma.LZMAError, *_REFUSED) as error:
        raise SourceError(f"The file cannot be unpacked: {error}", path=path, fix="Pack it anew.") from None
    return read_bytes(path)


#: What is raised by packed files that end too early, need a password, are damaged, or packed in a way not known.
_REFUSED = (EOFError, RuntimeError, OSError, ValueError, IndexError, OverflowError, struct.error)


def _unpacked(packed: IO[bytes] | gzip.GzipFile, path: Path) -> bytes:
    """All that is in a packed file; a small one may hold more than fits anywhere."""
    blocks, size = [], 0
    while block := packed.read(_BLOCK):
        size += len(block)
        refuse_above("file", size, f"{path} is larger, unpacked")
        if size % (_BLOCK << 6) < len(block):
            refuse_memory(size, f"{path}, unpacked,")
        blocks.append(block)
    return b"".join(blocks)


def only_member(path: Path) -> str:
    """The name of the one file in an archive; a SourceError where it holds none or several."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = [each.filename for each in archive.infolist() if each.filename and not each.is_dir()]
    except (zipfile.BadZipFile, *_REFUSED) as error:
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
