"""Figures as files."""

from __future__ import annotations

import warnings
from io import BytesIO
from typing import Any

from relatum.wording import visible

DOTS_PER_INCH = 130
#: Fonts have no glyphs for the marks of control characters: one glyph is used for all.
_ONE_MARK = dict.fromkeys(range(0x2400, 0x2422), 0xFFFD)


def drawable(text: str) -> str:
    """A text from data, safe to draw: control and direction characters become visible marks.

    Examples
    --------
    >>> drawable("ivy\\u202etxt.exe"), drawable("oak\\x07")
    ('ivy�txt.exe', 'oak�')
    """
    text = text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"
    return text if text.isprintable() else visible(text).translate(_ONE_MARK)


#: A text of more signs has no place in a picture.
_LONGEST = 300
#: The endings of pictures, each with what is said in the file about the drawing: no date, so that it is the same again.
PICTURES: dict[str, dict[str, None]] = {".png": {}, ".svg": {"Date": None}, ".pdf": {"CreationDate": None}}
#: Settings of every picture: the same drawing gets the same ids each time, and ``$`` in a text is not mathematics.
DRAWN: Any = {"svg.hashsalt": "relatum", "text.parse_math": False}


def picture_bytes(figure: Any, ending: str) -> bytes:
    """A figure as PNG, SVG or PDF, by the ending of a file; the same figure gives the same bytes.

    Parameters
    ----------
    figure : matplotlib.figure.Figure
        What is drawn.
    ending : str
        ``.png``, ``.svg`` or ``.pdf``.
    """
    from matplotlib import rc_context  # noqa: PLC0415 - heavy, and needed where a figure is written

    out = BytesIO()
    with rc_context(DRAWN), warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing from font")  # a note says so, in words
        figure.savefig(
            out, format=ending[1:], dpi=DOTS_PER_INCH, facecolor=figure.get_facecolor(), metadata=PICTURES[ending]
        )
    return out.getvalue()
