"""On which line of a TOML text a key is: the standard reader keeps values, not places."""

from __future__ import annotations

from relatum.model.toml_text import KeyPath, placed

__all__ = ["KeyPath", "key_lines", "line_of"]


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
    number, before = 1, 0
    for statement, path in placed(text):
        number += text.count("\n", before, statement.start)
        before = statement.start
        own = len(path) if statement.kind == "heading" else len(path) - len(statement.keys) + 1
        for length in range(own, len(path) + 1):
            lines.setdefault(path[:length], number)
    return lines


def line_of(lines: dict[KeyPath, int], path: KeyPath) -> int | None:
    """The line of a key, or of the nearest heading that holds it."""
    while path:
        if path in lines:
            return lines[path]
        path = path[:-1]
    return None
