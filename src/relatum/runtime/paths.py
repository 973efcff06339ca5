"""What is at a path, and whether it leads out of a folder: links are followed, nothing is opened."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from relatum.errors import SourceError


def kind_of(path: Path) -> str:
    """What is at a path, links followed: file, folder, pipe, socket or device; nothing where nothing is there.

    Raises
    ------
    SourceError
        It is not a path that can be followed: too long, a circle of links, with characters that no path has.
    """
    try:
        mode = path.stat().st_mode
    except (FileNotFoundError, NotADirectoryError):
        return ""
    except ValueError:
        raise SourceError("The path contains a character that paths cannot have.", path=repr(str(path))) from None
    except PermissionError:
        raise SourceError("No permission to read this file.", path=path, fix="Check its permissions.") from None
    except OSError as error:
        shown = str(path) if len(str(path)) < 200 else f"…{str(path)[-60:]}"
        raise SourceError(f"The path cannot be followed: {error.strerror}.", path=shown) from None
    tests = {"file": stat.S_ISREG, "folder": stat.S_ISDIR, "pipe": stat.S_ISFIFO, "socket": stat.S_ISSOCK}
    return next((kind for kind, test in tests.items() if test(mode)), "device")


def is_named_by(name: str, pattern: str) -> bool:
    """Whether a pattern matches a file's name: ``*`` matches any characters, everything else itself.

    Examples
    --------
    >>> is_named_by("sales-2024.csv", "sales-*.csv"), is_named_by("sales.csv", "sale?.csv")
    (True, False)
    """
    first, *others = pattern.split("*")
    if not others:
        return name == pattern
    *inner, last = others
    if len(name) < len(first) + len(last) or not (name.startswith(first) and name.endswith(last)):
        return False
    # Each piece is found as early as it can be: what comes after it has the most room then.
    at, end = len(first), len(name) - len(last)
    for piece in inner:
        at = name.find(piece, at, end)
        if at < 0:
            return False
        at += len(piece)
    return True


def leads_outside(path: Path, folder: Path) -> bool:
    """Whether a path leads outside a folder, links followed.

    Raises
    ------
    SourceError
        It cannot be followed.
    """
    kind_of(path)  # raises for links in a circle
    return not path.resolve().is_relative_to(folder.resolve())


def person_cache() -> Path | None:
    """The folder in which this person's processes keep what can be made again, and nobody else can put anything.

    None where there can be none, or it is somebody else's.
    """
    home = os.environ.get("XDG_CACHE_HOME")
    try:
        folder = (Path(home) if home else Path.home() / ".cache") / "relatum"
        folder.mkdir(parents=True, exist_ok=True)
        found = folder.stat()
        if hasattr(os, "getuid") and found.st_uid != os.getuid():
            return None
        if found.st_mode & 0o022:
            folder.chmod(stat.S_IMODE(found.st_mode) & ~0o022)
    except (OSError, RuntimeError):
        return None
    return folder if os.access(folder, os.W_OK) else None
