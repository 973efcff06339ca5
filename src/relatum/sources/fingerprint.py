"""Recognises a file by its content: whether it is the same, has grown, or is a different one."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable
from hashlib import blake2b
from pathlib import Path

import msgspec
from msgspec import Struct

from relatum.errors import SourceError
from relatum.runtime.progress import report_step
from relatum.runtime.threads import pool

_BLOCK = 1 << 22
#: A file changed less than this many nanoseconds before it was looked at may change again without its time telling.
_TOO_NEW = 2_000_000_000
#: Files up to this size are read whole each time; of larger ones a number of blocks of a size.
_SMALL = 1 << 20
_SAMPLES, _SAMPLE = 32, 4096


class FileState(Struct, frozen=True):
    """A file as it was: its name, how large, when it was last written, and a digest of what it held or of its entry.

    ``changed`` is when anything about it was last changed, and ``number`` its number in its file system: neither can
    be set back as the time of writing can.
    """

    path: str
    size: int
    modified: int
    digest: str
    changed: int = 0
    number: int = 0

    def is_as(self, found: os.stat_result) -> bool:
        """Whether a file is still as it was, by what the system says of it."""
        return (self.size, self.modified, self.changed, self.number) == _state_of(found)


class Known(msgspec.Struct, frozen=True):
    """What is known about a file: its system entry, when that was read, and digests of parts of it and all of it."""

    seen: tuple[int, int, int, int]
    looked: int
    sampled: str
    digest: str


def _state_of(found: os.stat_result) -> tuple[int, int, int, int]:
    return found.st_size, found.st_mtime_ns, found.st_ctime_ns, found.st_ino


def states_of(paths: Iterable[Path]) -> tuple[tuple[int, int, int, int] | None, ...]:
    """What the system says of files; None of one that is not there."""
    found: list[tuple[int, int, int, int] | None] = []
    for path in paths:
        try:
            found.append(_state_of(path.stat()))
        except OSError:
            found.append(None)
    return tuple(found)


class Digests(Struct):
    """The digests of files by name, so that what has not been touched is not read again as a whole."""

    known: dict[str, Known] = {}
    changed: bool = False

    def state(self, path: Path, whole: bool = True) -> FileState:
        """A file's state now.

        Parameters
        ----------
        path : Path
            The file.
        whole : bool
            Take the digest of all it holds. Otherwise a large one that has not just been written is identified by its
            system entry and samples: one that was touched then counts as another.
        """
        name = str(path.resolve())
        seen = _state_of(path.stat())
        size, modified, changed, number = seen
        known = self.known.get(name)
        looked = time.time_ns()
        if size <= _SMALL:
            digest = digest_of(path)
        elif not whole and looked - max(modified, changed) >= _TOO_NEW:
            digest = text_digest(f"{seen} {_sampled(path, size)}")
        elif (
            known is None
            or known.seen != seen
            or known.looked - max(modified, changed) < _TOO_NEW
            or known.sampled != _sampled(path, size)
        ):
            digest = digest_of(path)
            self.known[name] = Known(seen, looked, _sampled(path, size), digest)
            self.changed = True
        else:
            digest = known.digest
        return FileState(name, size, modified, digest, changed, number)


def _sampled(path: Path, size: int) -> str:
    """A digest of blocks spread evenly over a file, its first and last bytes included."""
    found = blake2b(digest_size=20)
    with path.open("rb") as file:
        for number in range(_SAMPLES):
            file.seek((size - _SAMPLE) * number // (_SAMPLES - 1))
            found.update(file.read(_SAMPLE))
    return found.hexdigest()


def text_digest(text: str) -> str:
    """A digest of a text."""
    return blake2b(text.encode(), digest_size=20).hexdigest()


def digest_of(path: Path, size: int | None = None) -> str:
    """A digest of a file's content, or of its first ``size`` bytes: of the digests of its blocks, made side by side."""
    report_step(f"looking at {path.name}")
    whole = path.stat().st_size if size is None else size

    def block(start: int) -> bytes:
        with path.open("rb") as file:
            file.seek(start)
            return blake2b(file.read(min(_BLOCK, whole - start)), digest_size=20).digest()

    found = blake2b(digest_size=20)
    for each in (pool().map if whole > _BLOCK else map)(block, range(0, whole, _BLOCK)):
        found.update(each)
    return found.hexdigest()


def has_grown(path: Path, before: FileState) -> bool:
    """Whether a file holds what it held before, whole lines of it, and more lines after that."""
    if path.stat().st_size <= before.size or before.size == 0 or digest_of(path, before.size) != before.digest:
        return False
    with path.open("rb") as file:
        file.seek(before.size - 1)
        return file.read(1) == b"\n"


def refuse_changed(files: tuple[FileState, ...]) -> None:
    """Raise a SourceError unless every file is still as it was, by what the system says of it.

    Raises
    ------
    SourceError
        One has not: what is read of it now does not go with what was read before.
    """
    for state in files:
        try:
            same = state.is_as(Path(state.path).stat())
        except OSError:
            same = False
        if not same:
            raise SourceError(
                "The file has changed since the model was opened.",
                path=state.path,
                fix="Refresh or reopen the model, so that old and new rows are not mixed.",
            )
