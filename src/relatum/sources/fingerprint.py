"""What a file holds, told by its content: whether it is the same, has grown, or is another."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from hashlib import blake2b
from pathlib import Path

from relatum.errors import SourceError
from relatum.progress import tell_step

_BLOCK = 1 << 22
#: A file changed less than this many nanoseconds before it was looked at may change again without its time telling.
_TOO_NEW = 2_000_000_000


@dataclass(frozen=True, slots=True)
class FileState:
    """A file as it was: its name, how large, when it was last written, and a digest of all it held."""

    path: str
    size: int
    modified: int
    digest: str


@dataclass
class Digests:
    """The digests of files known by their size and time, so that what has not been touched is not read again."""

    known: dict[str, tuple[int, int, int, str]] = field(default_factory=dict)
    changed: bool = False

    def state(self, path: Path) -> FileState:
        """A file's state now."""
        name = str(path.resolve())
        stat = path.stat()
        size, modified, looked, digest = self.known.get(name, (-1, -1, -1, ""))
        if (size, modified) != (stat.st_size, stat.st_mtime_ns) or looked - modified < _TOO_NEW:
            looked = time.time_ns()
            digest = digest_of(path)
            self.known[name] = (stat.st_size, stat.st_mtime_ns, looked, digest)
            self.changed = True
        return FileState(name, stat.st_size, stat.st_mtime_ns, digest)


def digest_of(path: Path, size: int | None = None) -> str:
    """A digest of a file's content, or of its first ``size`` bytes."""
    tell_step(f"looking at {path.name}")
    found = blake2b(digest_size=20)
    with path.open("rb") as file:
        left = size
        while left is None or left > 0:
            block = file.read(_BLOCK if left is None else min(_BLOCK, left))
            if not block:
                break
            found.update(block)
            left = None if left is None else left - len(block)
    return found.hexdigest()


def has_grown(path: Path, before: FileState) -> bool:
    """Whether a file holds what it held before, whole lines of it, and more lines after that."""
    if path.stat().st_size <= before.size or before.size == 0 or digest_of(path, before.size) != before.digest:
        return False
    with path.open("rb") as file:
        file.seek(before.size - 1)
        return file.read(1) == b"\n"


def refuse_changed(files: tuple[FileState, ...]) -> None:
    """Raise a SourceError unless every file still has the size and time that it had.

    Raises
    ------
    SourceError
        One has not: what is read of it now does not go with what was read before.
    """
    for state in files:
        try:
            stat = Path(state.path).stat()
        except OSError:
            stat = None
        if stat is None or (stat.st_size, stat.st_mtime_ns) != (state.size, state.modified):
            raise SourceError(
                "The file has changed since the model was opened.",
                path=state.path,
                fix="Refresh the model, or open it again: rows read before and after would be mixed.",
            )
