"""A folder of things kept, in which nothing is trusted that this person did not put there.

The folder lies beside a model and may have come with it. Each thing in it begins with a keyed digest of its name and
content (BLAKE2b, RFC 7693); the key lies in the person's own state folder. What does not fit its digest is as if it
were not there, and no link is followed.
"""

from __future__ import annotations

import errno
import hmac
import os
import stat
import time
from contextlib import suppress
from functools import lru_cache
from hashlib import blake2b
from pathlib import Path

from relatum.runtime.atomic import readers, written_aside
from relatum.runtime.limits import limit
from relatum.runtime.threads import shared_map

_DIGEST = 32
#: Content is digested in blocks of this many bytes.
_BLOCK = 1 << 22
_TAG = "Signature: 8a477f597d28d172789f06886806bc55\n# A cache of the models in this folder. It can be deleted.\n"
_ENDING = ".kept"
_ASIDE = ".new-"
#: Follow no link and wait for no pipe, where the system knows such.
_PLAIN = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)


class Vault:
    """Things kept by name in a folder, which is made when the first of them is kept.

    Parameters
    ----------
    folder : Path
        The folder. One that is a link is not used.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def get(self, name: str) -> bytes | None:
        """What is kept under a name; None where there is nothing, or something that nobody with our key put there."""
        key = _key() if self._is_ours() else None
        if key is None:
            return None
        try:
            # A pipe would be waited for, and a link may lead anywhere.
            handle = os.open(self._path(name, key), os.O_RDONLY | _PLAIN)
        except OSError:
            return None
        found = os.fstat(handle)
        # A file that takes less room than it says is not one of ours: reading it would fill the memory.
        if not stat.S_ISREG(found.st_mode) or found.st_size > limit("memory") or found.st_blocks == 0:
            os.close(handle)
            return None
        with os.fdopen(handle, "rb") as file:
            digest, content = file.read(_DIGEST), file.read()
            with suppress(OSError):
                os.utime(file.fileno())  # it was used
        return content if hmac.compare_digest(digest, _digest(name, content, key)) else None

    def put(self, name: str, content: bytes) -> None:
        """Keep something in one step.

        Raises
        ------
        OSError
            It cannot be kept; what was there stays.
        """
        key = _key()
        if key is None:
            raise OSError(errno.EACCES, "the folder for this person's own state cannot be written")
        self._prepare()
        with written_aside(self._path(name, key), _ASIDE) as temporary:
            with temporary.open("wb") as file:
                file.write(_digest(name, content, key))
                file.write(content)
            temporary.chmod(_rights(self.folder.parent) & readers())

    def tidy(self, seconds: float) -> None:
        """Take out what was not used for so long, and what a process that was killed left half-written."""
        if not self._is_ours():
            return
        limit = time.time() - seconds
        for path in [*self.folder.glob(f"*{_ENDING}"), *self.folder.glob(f"{_ASIDE}*")]:
            with suppress(OSError):  # another process may have been quicker
                if stat.S_ISREG(path.lstat().st_mode) and path.lstat().st_mtime < limit:
                    path.unlink()

    def _path(self, name: str, key: bytes) -> Path:
        # Several people may share the folder: each has things of their own.
        return self.folder / f"{name}-{blake2b(b'name', key=key, digest_size=4).hexdigest()}{_ENDING}"

    def _is_ours(self) -> bool:
        """Whether the folder is one, and no link to another."""
        try:
            return stat.S_ISDIR(self.folder.lstat().st_mode)
        except OSError:
            return False

    def _prepare(self) -> None:
        if not self._is_ours():
            self.folder.mkdir()  # a link or file in the way is an error
            # Who may look into the model's folder may look into this; nobody beyond its group puts anything here.
            self.folder.chmod(_rights(self.folder.parent) & 0o775)
        for name, text in (("CACHEDIR.TAG", _TAG), (".gitignore", "*\n")):
            with suppress(FileExistsError):
                handle = os.open(self.folder / name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | _PLAIN, 0o666)
                with os.fdopen(handle, "w", encoding="ascii") as file:
                    file.write(text)


def _rights(folder: Path) -> int:
    """Who may do what with what lies in a folder: what they may do with the folder."""
    return stat.S_IMODE(folder.stat().st_mode) & 0o777


def _digest(name: str, content: bytes, key: bytes) -> bytes:
    """The digest of a thing: of its name, its size and the digests of its blocks, which all cores make."""
    found = blake2b(key=key, digest_size=_DIGEST)
    found.update(f"{len(name.encode())} {name} {len(content)} ".encode())
    whole = memoryview(content)

    def block(start: int) -> bytes:
        return blake2b(whole[start : start + _BLOCK], key=key, digest_size=_DIGEST).digest()

    for each in shared_map(block, range(0, len(content), _BLOCK), lambda: None):
        found.update(each)
    return found.digest()


def _key() -> bytes | None:
    """The person's key, made when it is first needed; None where it can be neither read nor made."""
    import platformdirs  # noqa: PLC0415 - most folders have no cache

    return _key_in(platformdirs.user_state_path("relatum", appauthor=False))


@lru_cache(maxsize=4)
def _key_in(folder: Path) -> bytes | None:
    path = folder / "key"
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        if not path.exists():
            import tempfile  # noqa: PLC0415 - a key is made once

            handle, temporary = tempfile.mkstemp(dir=folder)  # for its owner alone
            with os.fdopen(handle, "wb") as file:
                file.write(os.urandom(_DIGEST))
            with suppress(FileExistsError):  # another process was quicker: its key holds
                os.link(temporary, path)
            os.unlink(temporary)  # noqa: PTH108 - as it was made
        key = path.read_bytes()
    except OSError:
        return None
    return key if len(key) == _DIGEST else None
