"""On which line of a TOML text a key stands: the standard reader keeps values, not places."""

from __future__ import annotations

import re
import tomllib

_KEY_PART = re.compile(r"""\s*(?:"((?:[^"\\]|\\.)*)"|'([^']*)'|([A-Za-z0-9_-]+))\s*(\.)?""")
KeyPath = tuple[str | int, ...]


def key_lines(text: str) -> dict[KeyPath, int]:
    """The line of each key and table heading of a TOML text, counted from 1.

    Parameters
    ----------
    text : str
        A text that the standard TOML reader accepts.

    Examples
    --------
    >>> key_lines('name = "x"\\n[[row]]\\nlink = "a -> b"')[("row", 0, "link")]
    3
    """
    lines: dict[KeyPath, int] = {}
    counts: dict[KeyPath, int] = {}
    here: KeyPath = ()
    pending = ""
    start = 0
    for number, line in enumerate(text.splitlines(), 1):
        if pending:
            # A value goes on over several lines until the reader accepts it.
            pending += "\n" + line
        elif line.lstrip().startswith("["):
            here = _heading(line.strip(), counts)
            lines.setdefault(here, number)
            continue
        elif not line.strip() or line.lstrip().startswith("#"):
            continue
        else:
            pending, start = line, number
        try:
            tomllib.loads(pending)
        except tomllib.TOMLDecodeError:
            continue
        parts, _ = _parts(pending)
        for length in range(1, len(parts) + 1):
            lines.setdefault((*here, *parts[:length]), start)
        pending = ""
    return lines


def line_of(lines: dict[KeyPath, int], path: KeyPath) -> int | None:
    """The line of a key, or of the nearest heading that holds it."""
    while path:
        if path in lines:
            return lines[path]
        path = path[:-1]
    return None


def _heading(line: str, counts: dict[KeyPath, int]) -> KeyPath:
    several = line.startswith("[[")
    parts, _ = _parts(line.lstrip("["))
    # Inside an array of tables, later headings speak of its newest entry.
    path: KeyPath = ()
    for part in parts:
        path = (*path, part)
        if path in counts and path != parts:
            path = (*path, counts[path] - 1)
    if several:
        counts[path] = counts.get(path, 0) + 1
        path = (*path, counts[path] - 1)
    return path


def _parts(text: str) -> tuple[tuple[str, ...], int]:
    parts, at = [], 0
    while match := _KEY_PART.match(text, at):
        parts.append(next(group for group in match.groups()[:3] if group is not None))
        at = match.end()
        if not match[4]:
            break
    return tuple(parts), at
