"""Figures as files."""

from __future__ import annotations

import warnings
from io import BytesIO
from typing import Any

from relatum.wording import visible

DOTS_PER_INCH = 130
#: Fonts have no signs for the marks of controls: one stands for all.
_ONE_MARK = dict.fromkeys(range(0x2400, 0x2422), 0xFFFD)


def drawable(text: str) -> str:
    """A text out of data as a picture may have it: what is no sign, or turns the rest around, is as a mark.

    Examples
    --------
    >>> drawable("ivy\\u202etxt.exe"), drawable("oak\\x07")
    ('ivy�txt.exe', 'oak�')
    """
    text = text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"
    return text if text.isprintable() else visible(text).translate(_ONE_MARK)


#: A text of more signs has no place in a picture.
_LONGEST = 300
#: How every picture is drawn: the same drawing has the same names inside each time, and a text is no mathematics.
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
    dated = {".png": {}, ".svg": {"Date": None}, ".pdf": {"CreationDate": None}}[ending]
    with rc_context(DRAWN), warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing from font")  # a note says so, in words
        figure.savefig(out, format=ending[1:], dpi=DOTS_PER_INCH, facecolor=figure.get_facecolor(), metadata=dated)
    return out.getvalue()
