"""Colours: contrast, mixtures, and the theme with everything that it does not state filled in."""

from __future__ import annotations

from functools import cache
from typing import Any, Literal, get_args

import msgspec
from msgspec import Struct

from relatum.model.colours import channels, whole
from relatum.model.looks import Theme, ThemeColours

Mode = Literal["light", "dark"]
MODES: tuple[Mode, ...] = get_args(Mode)

#: Our own colours. Those of series differ for eyes that confuse red and green, or blue and yellow, too; texts have a
#: contrast of 4.5 and more on the page, on heads and on totals. The tests hold both.
LIGHT = ThemeColours(
    page="#ffffff",
    text="#1d2a2c",
    head="#e4edec",
    head_text="#16373a",
    total="#f2f5f3",
    null="#66716f",
    negative="#8c1d2c",
    line="#b9c6c4",
    accent="#00656b",
    good="#0b6b3a",
    bad="#a1203a",
    notable="#7a5300",
    faint="#66716f",
    low="#f6e7c4",
    middle="#f4f5f2",
    high="#7fbcb8",
    series=("#007177", "#b68b1a", "#2d1e66", "#7e90d2", "#60000a", "#906b25", "#1b4b65", "#6d4c00"),
)
DARK = ThemeColours(
    page="#14191a",
    text="#e3eae8",
    head="#22302f",
    head_text="#d5e8e5",
    total="#1d2625",
    null="#9aa8a5",
    negative="#f29aa4",
    line="#3f4c4b",
    accent="#6cc8cb",
    good="#7fd3a0",
    bad="#f29aa4",
    notable="#e3bd6a",
    faint="#9aa8a5",
    low="#5a4a1f",
    middle="#2a3130",
    high="#1f6a68",
    series=("#64c2c8", "#d4dd79", "#5889cc", "#bd6683", "#8d8714", "#5ff0d9", "#bc9289", "#a8b76d"),
)
FONT = "'Noto Sans', 'DejaVu Sans', sans-serif"
SIZE = 10.0


class Paint(Struct, frozen=True):
    """One colour in both modes, ``#rrggbb`` each."""

    light: str
    dark: str

    def of(self, mode: Mode) -> str:
        """The colour in one mode."""
        match mode:
            case "light":
                return self.light
            case "dark":
                return self.dark


def colours_of(theme: Theme, mode: Mode) -> ThemeColours:
    """A theme's colours in one mode, the usual ones where it states none."""
    match mode:
        case "light":
            return _filled(LIGHT, theme.light)
        case "dark":
            return _filled(DARK, theme.dark)


@cache
def _filled(usual: ThemeColours, own: ThemeColours) -> ThemeColours:
    stated: dict[str, Any] = {}
    for name, value in msgspec.structs.asdict(own).items():
        if value:
            stated[name] = whole(value) if isinstance(value, str) else tuple(map(whole, value))
    return msgspec.structs.replace(usual, **stated)


def paint(colour: str, theme: Theme) -> Paint:
    """A colour of a rule: a word of the theme, or the same in both modes."""
    if colour.startswith("#"):
        return Paint(whole(colour), whole(colour))
    return Paint(*(getattr(colours_of(theme, mode), colour) for mode in MODES))


def series(theme: Theme, number: int) -> Paint:
    """The colour of a series by its number."""
    every = [colours_of(theme, mode).series for mode in MODES]
    return Paint(*(each[number % len(each)] for each in every))


@cache
def mixed(one: str, other: str, part: float) -> str:
    """A colour between two: ``part`` of the way from the first to the second."""
    pairs = zip(channels(one), channels(other), strict=True)
    return "#" + "".join(f"{round(255 * (a + (b - a) * part)):02x}" for a, b in pairs)
