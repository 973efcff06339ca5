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
from relatum.runtime.limits import refuse_above, refuse_memory
from relatum.sources.files import read_bytes
from relatum.wording import listed, suggestion

_BLOCK = 1 << 20

#: Endings of files that hold one text file, packed.
PACKED = (".gz", ".zip")


def ending(path: Path, member: str = "") -> str:
    """What kind of file it is by its ending, packed or not: ``.csv`` for ``lines.csv.gz`` and for a zip file of one.

    ``member`` is the file that is meant of an archive of several; without one such an archive, or a damaged one, is a
    ``.zip``.
    """
    last = path.suffix.lower()
    if last == ".gz":
        return Path(path.stem).suffix.lower()
    if last == ".zip" and path.is_file():
        try:
            return Path(member_of(path, member)).suffix.lower()
        except SourceError:
            return last
    return last


def stem(path: Path) -> str:
    """A file's name without its endings."""
    return Path(path.stem).stem if path.suffix.lower() in PACKED else path.stem


def content_of(path: Path, member: str = "") -> Any:
    """An Arrow buffer of what a file holds, unpacked; of an archive of several files, what one of them holds.

    Raises
    ------
    SourceError
        The file is packed and damaged, or it holds several files and none of them is named.
    """
    last = path.suffix.lower()
    try:
        if last == ".gz":
            with gzip.open(path) as packed:
                return pa.py_buffer(_unpacked(packed, path))
        if last == ".zip":
            name = member_of(path, member)
            with zipfile.ZipFile(path) as archive, archive.open(name) as packed:
                return pa.py_buffer(_unpacked(packed, path))
    except LimitError:
        raise
    except (gzip.BadGzipFile, zipfile.BadZipFile, zlib.error, lzma.LZMAError, *_REFUSED) as error:
        raise SourceError(f"The file cannot be unpacked: {error}", path=path, fix="Pack it again.") from None
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


def members(path: Path) -> list[str]:
    """The names of the files in an archive; a SourceError where it cannot be unpacked."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = [each.filename for each in archive.infolist() if each.filename and not each.is_dir()]
    except (zipfile.BadZipFile, *_REFUSED) as error:
        raise SourceError(f"The file cannot be unpacked: {error}", path=path, fix="Pack it again.") from None
    return [name for name in names if not name.startswith("__MACOSX/")]


def member_of(path: Path, wanted: str = "") -> str:
    """The name of the file in an archive that is meant: the one that is named, or the only one it holds.

    Raises
    ------
    SourceError
        It cannot be unpacked, has no such file, or has several and none is named.
    """
    names = members(path)
    if wanted:
        if wanted not in names:
            raise SourceError(
                f"The archive holds no {wanted!r}.", path=path, fix=suggestion(wanted, names, noun="file")
            )
        return wanted
    if len(names) != 1:
        fix = f'Name one: part = "{names[0]}". It holds {listed(names)}.' if names else "Pack it again."
        raise SourceError(f"The archive holds {len(names)} files, but only one can be read.", path=path, fix=fix)
    return names[0]


def without_footer(content: Any, lines: int) -> Any:
    """The content without a number of lines at its end; blank lines do not count."""
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
