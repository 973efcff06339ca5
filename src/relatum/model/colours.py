"""Colours as numbers: how they are read beside each other."""

from __future__ import annotations

from functools import cache


def channels(colour: str) -> tuple[float, float, float]:
    """Red, green and blue, from 0 to 1."""
    return tuple(int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5))  # type: ignore[return-value]


def _luminance(colour: str) -> float:
    parts = (each / 12.92 if each <= 0.04045 else ((each + 0.055) / 1.055) ** 2.4 for each in channels(colour))
    return sum(weight * each for weight, each in zip((0.2126, 0.7152, 0.0722), parts, strict=True))


#: The least contrast of texts (Web Content Accessibility Guidelines 2.2, 1.4.3, level AA).
LEGIBLE = 4.5


@cache
def contrast(one: str, other: str) -> float:
    """The contrast ratio of two colours, 1 to 21 (Web Content Accessibility Guidelines 2.2, 1.4.3)."""
    darker, lighter = sorted((_luminance(one), _luminance(other)))
    return (lighter + 0.05) / (darker + 0.05)


@cache
def text_on(fill: str) -> str:
    """Black or white, whichever reads better on a colour."""
    return max(("#000000", "#ffffff"), key=lambda each: contrast(each, fill))


def whole(colour: str) -> str:
    """#rgb as #rrggbb."""
    return "#" + "".join(2 * digit for digit in colour[1:]) if len(colour) == 4 else colour.lower()
