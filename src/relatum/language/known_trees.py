"""The syntax trees of texts that were parsed before, kept in the person's cache folder from one process to the next.

Loading the parser takes longer than most commands have to do, and a model's formulas are the same each time.
"""

from __future__ import annotations

import atexit
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import msgspec
from msgspec.msgpack import Decoder, encode

from relatum.language.tree import AxisItem, Condition, KeepItem, Syntax, ValueList
from relatum.runtime.atomic import written_aside
from relatum.runtime.paths import person_cache
from relatum.runtime.version import __version__

#: At most this many texts are kept, none of them longer than this many characters.
_MOST, _LONGEST = 2000, 2000
#: What says what the tree of a text is, beside the files of this folder.
_ELSEWHERE = ("calendar/steps.py", "data/types.py", "errors.py", "model/looks.py", "model/names.py")
#: What the tree of a text is, by what the text is.
_KINDS: dict[str, Any] = {
    "formula": Syntax,
    "condition": Condition,
    "axis": tuple[AxisItem, ...],
    "values": ValueList,
    "keeps": tuple[KeepItem, ...],
}

#: Encoded trees, by what a text is and by the text.
_Trees = dict[str, dict[str, msgspec.Raw]]
#: What the program was that made them, and the trees.
_Kept = tuple[str, _Trees]


class KnownTrees:
    """Trees by what a text is and by the text.

    Parameters
    ----------
    folder : Path or None
        Where they are kept; None for nowhere.
    """

    def __init__(self, folder: Path | None) -> None:
        self._folder = folder
        self._kept: _Trees = {} if folder is None else self._read()
        self._new: _Trees = {}
        self._added = 0

    def find(self, text: str, start: str) -> Any:
        """The tree of a text, None where it is not known."""
        found = self._kept.get(start, {}).get(text)
        if found is None:
            return None
        with suppress(msgspec.MsgspecError):
            return _decoder(start).decode(found)
        return None

    def add(self, text: str, start: str, tree: Any) -> None:
        """Keep the tree of a text, once the process ends."""
        if self._folder is None or len(text) > _LONGEST or self._added >= _MOST:
            return
        with suppress(UnicodeError):  # halves of characters are not written
            text.encode()
            self._new.setdefault(start, {})[text] = msgspec.Raw(encode(tree))
            if not self._added:
                atexit.register(self.save)
            self._added += 1

    def save(self) -> None:
        """Write down what was added, and as much of what was there as there is room for."""
        if self._folder is None or not self._new:
            return
        latest = self._read()  # others may have added to it
        kept: _Trees = {}
        for start in _KINDS:
            texts = {**latest.get(start, {}), **self._new.get(start, {})}
            kept[start] = dict(list(texts.items())[-_MOST:])
        with suppress(OSError), written_aside(self._file()) as temporary:
            temporary.write_bytes(encode((_made_by(), kept)))

    def _read(self) -> _Trees:
        with suppress(OSError, msgspec.MsgspecError):
            made_by, trees = Decoder(_Kept).decode(self._file().read_bytes())
            return trees if made_by == _made_by() else {}
        return {}

    def _file(self) -> Path:
        assert self._folder is not None, "they are kept somewhere"
        return self._folder / f"trees-{__version__}.msgpack"


@cache
def known_trees() -> KnownTrees:
    """The trees that this person's processes know."""
    return KnownTrees(person_cache())


@cache
def _decoder(start: str) -> Decoder[Any]:
    return Decoder(_KINDS[start])


@cache
def _made_by() -> str:
    """What tells the program that makes trees from what it was before any change to it."""
    here = Path(__file__).parent
    sources = [*sorted(here.glob("*.*")), *(here.parent / name for name in _ELSEWHERE)]
    return str([(each.name, found.st_size, found.st_mtime_ns) for each in sources for found in [each.stat()]])
