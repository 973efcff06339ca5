"""Fonts for the signs that a chart has: one that holds each of them, or a note."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable
from functools import cache

from matplotlib import font_manager, ft2font

#: Stands in for any sign, as a box: no font to choose.
_LAST_RESORT = "Last Resort High-Efficiency"


@cache
def _coverage(path: str) -> frozenset[int]:
    try:
        return frozenset(ft2font.FT2Font(path).get_charmap())
    except (OSError, RuntimeError):
        return frozenset()


@cache
def _known() -> dict[str, str]:
    """The files of fonts, plain ones, by name."""
    found: dict[str, str] = {}
    for each in font_manager.fontManager.ttflist:
        if each.style == "normal" and each.weight in (400, "normal", "regular", "book") and each.name != _LAST_RESORT:
            found.setdefault(each.name, each.fname)
    return found


def fonts_for(texts: Iterable[str], wanted: str) -> tuple[list[str], str]:
    """Fonts that together hold every sign of some texts, and a note where none does.

    Parameters
    ----------
    texts : iterable of str
        What is written.
    wanted : str
        The fonts of the theme, with commas between.
    """
    signs = {ord(sign) for text in texts for sign in text if not sign.isspace()}
    known = _known()
    named = [name.strip(" '\"") for name in wanted.split(",")]
    chosen = [name for name in named if name in known] or ["DejaVu Sans"]
    if "DejaVu Sans" not in chosen:
        chosen.append("DejaVu Sans")
    missing = set(signs)
    for name in chosen:
        missing -= _coverage(known[name]) if name in known else set()
    for name, path in sorted(known.items()):
        if missing & _coverage(path) and "STIX" not in name and not name.startswith("cm"):
            chosen.append(name)
            missing -= _coverage(path)
    if not missing:
        return chosen, ""
    scripts = sorted({unicodedata.name(chr(sign), "UNKNOWN").split(" ")[0].title() for sign in missing})
    return chosen, f"no font on this machine has the characters of {', '.join(scripts)}"
