"""Figures as files."""

from __future__ import annotations

import re
import warnings
from io import BytesIO
from typing import Any

from relatum.wording import visible

DOTS_PER_INCH = 130
_CONTROLS = re.compile(rb"[\x00-\x08\x0b\x0c\x0e-\x1f]")


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
    # Without a salt of its own, the same drawing has other names inside each time.
    with rc_context({"svg.hashsalt": "relatum"}), warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing from font")  # a note says so, in words
        figure.savefig(out, format=ending[1:], dpi=DOTS_PER_INCH, facecolor=figure.get_facecolor(), metadata=dated)
    if ending != ".svg":
        return out.getvalue()
    # XML has no place for controls: what stands in data as such is shown as a mark.
    return _CONTROLS.sub(lambda found: visible(found[0].decode()).encode(), out.getvalue())
