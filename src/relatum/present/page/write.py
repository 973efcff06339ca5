"""A page as one file: data, style and script inside it, and a rule for browsers that nothing else may run or load."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Mapping
from html import escape
from importlib import resources
from typing import Any

import msgspec

from relatum.model.looks import Theme
from relatum.present.paint import FONT, SIZE, colours_of


def page_html(document: Mapping[str, Any], theme: Theme) -> str:
    """The page of a grid.

    Parameters
    ----------
    document : mapping
        What the script is given.
    theme : Theme
        Fonts and colours.
    """
    script = _shipped("page.js")
    style = _shipped("page.css") + theme_css(theme)
    # Between script tags nothing is escaped: a text that ends them is kept from being one.
    data = msgspec.json.encode(document).decode().replace("<", "\\u003c")
    rule = f"default-src 'none'; img-src data:; style-src 'unsafe-inline'; script-src '{_digest(script)}'"
    return (
        f'<!doctype html>\n<html lang="{escape(str(document["locale"]), quote=True)}"><head><meta charset="utf-8">'
        f'<meta http-equiv="Content-Security-Policy" content="{rule}">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(str(document['title']))}</title><style>{style}</style></head>"
        f'<body><div id="page"></div><script type="application/json" id="page-data">{data}</script>'
        f"<script>{script}</script></body></html>\n"
    )


def live_html(title: str, locale: str, theme: Theme) -> tuple[str, str]:
    """The empty page of a live model, which asks its host for everything, and the rule that it is sent with.

    Parameters
    ----------
    title : str
        The model's name.
    locale : str
        Its language and country.
    theme : Theme
        Fonts and colours.
    """
    script = _shipped("live.js")
    style = _shipped("live.css") + theme_css(theme)
    rule = (
        f"default-src 'none'; connect-src 'self'; img-src data: blob:; style-src 'unsafe-inline'; "
        f"script-src '{_digest(script)}'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    )
    page = (
        f'<!doctype html>\n<html lang="{escape(locale.replace("_", "-"), quote=True)}"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1"><link rel="icon" href="data:,">'
        f"<title>{escape(title)}</title><style>{style}</style></head>"
        f'<body><div id="live"></div><script>{script}</script></body></html>\n'
    )
    return page, rule


def widget_files() -> tuple[str, str]:
    """The script of a notebook's widget, and its style, which reaches no further than the widget."""
    return _shipped("widget.js"), f"@scope (.relatum-live) {{{_shipped('widget.css')}}}"


def _shipped(name: str) -> str:
    return resources.files("relatum.present.page").joinpath(name).read_text(encoding="utf-8")


def _digest(script: str) -> str:
    return "sha256-" + base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()


def theme_css(theme: Theme, root: str = ":root") -> str:
    """A theme as variables of a style sheet, for light and dark; ``root`` selects what they are stated for."""
    font = theme.font or FONT
    fixed = {
        "font": font,
        "number-font": theme.number_font or font,
        "size": f"{(theme.size or SIZE) * 4 / 3:.1f}px",
    }
    light, dark = (_variables(theme, mode) for mode in ("light", "dark"))
    names = "".join(f"--{name}:{value};" for name, value in fixed.items())
    return f'{root}{{{names}{light}}}{root}[data-mode="dark"]{{{dark}}}@media print{{{root}{{{light}}}}}'


def _variables(theme: Theme, mode: Any) -> str:
    colours = colours_of(theme, mode)
    named = ("page", "text", "head", "total", "null", "negative", "accent", "faint", "good", "bad", "notable")
    found = {name: getattr(colours, name) for name in named}
    found |= {"line-colour": colours.line, "head-text": colours.head_text}
    return "".join(f"--{name}:{value};" for name, value in found.items())
