"""The shape that a writer gives numbers, for programs that write them themselves: spreadsheets and pages."""

from __future__ import annotations

import math
import re
from decimal import Decimal
from functools import lru_cache
from typing import Any

from babel.numbers import get_decimal_symbol, get_group_symbol
from msgspec import Struct

from relatum.data.digits import exactly
from relatum.present.numbers import Writer

_CORE = re.compile(r"\d(?:.*\d)?", re.DOTALL)
_SAMPLE = Decimal("1234567.89")
#: The digits that a spreadsheet keeps of a number.
SHEET_DIGITS = 15


class Shape(Struct, frozen=True):
    """How numbers are written: prefix and suffix, digits, separators.

    ``power`` is the power of ten that they are divided by, ``percent`` the one that they are multiplied by; ``least``
    and ``most`` are the digits after the point, ``whole`` the fewest before it, ``significant`` how many digits count,
    0 for all. ``groups`` are the sizes of the last group of digits and of those before.
    """

    prefix: str
    suffix: str
    minus_prefix: str
    minus_suffix: str
    decimal: str
    group: str
    groups: tuple[int, int]
    whole: int
    least: int
    most: int
    power: int
    percent: int
    significant: int
    zero: str
    blank: str


@lru_cache(maxsize=64)
def shape_of(write: Writer) -> Shape | None:
    """The shape of the numbers that a writer writes; None where it is not a plain one (exponents, durations, dates)."""
    number = write.number
    if number is None or number.exp_prec is not None or "@" in number.pattern:
        return None
    sample = _SAMPLE.scaleb(write.power)
    ends: list[str] = []
    for value in (sample, -sample):
        text = write(value)
        core = _CORE.search(text)
        assert core is not None, "a number has digits"
        ends += [text[: core.start()], text[core.end() :]]
    least, most = number.frac_prec
    return Shape(
        prefix=ends[0],
        suffix=ends[1],
        minus_prefix=ends[2],
        minus_suffix=ends[3],
        decimal=get_decimal_symbol(write.locale),
        group=get_group_symbol(write.locale),
        groups=number.grouping if number.grouping[0] < 100 else (0, 0),
        whole=number.int_prec[0],
        least=least,
        most=most,
        power=write.power,
        percent=number.scale,
        significant=write.format.digits,
        zero=write.format.zero,
        blank=write.blank,
    )


class SheetNumber(Struct, frozen=True):
    """A number for a spreadsheet: what the cell holds, the format code that shows it, and what it was divided by.

    ``places`` are the digits after the point that it is rounded to, negative for tens and hundreds, where no code
    rounds it so; None where it is held in full.
    """

    number: float
    code: str
    divided: int = 1
    places: int | None = None


def sheet_number(write: Writer, value: Any, mark: str = "") -> SheetNumber | None:
    """A number for a spreadsheet, which shows it as the writer does; None where it can only be a text.

    A spreadsheet takes separators from where it runs: the code says where they are, and which groups there are.
    """
    if write.time:
        return _sheet_time(write, value, mark)
    shape = shape_of(write)
    if shape is None or isinstance(value, bool) or (isinstance(value, float) and not math.isfinite(value)):
        return None
    exact = Decimal(repr(value)) if isinstance(value, float) else Decimal(value)
    if not isinstance(value, float) and len(exact.normalize().as_tuple().digits) > SHEET_DIGITS:
        return None
    texts = [write(abs(value)), write(-abs(value))] if value else [write(value)]
    if value == 0 and shape.zero:
        return SheetNumber(0.0, f"{_quoted(_marked(mark, shape.zero))};;{_quoted(_marked(mark, shape.zero))}")
    divided = 10**shape.power if shape.power % 3 else 1
    scale = 1 if shape.percent in (0, 2) else 10**shape.percent
    commas = "," * (shape.power // 3) if divided == 1 else ""
    codes = [_section(shape, text, commas, mark) for text in texts]
    places = None
    with exactly():
        if shape.significant and exact:
            # No format code rounds to tens or hundreds, so the cell holds the rounded number.
            rounded, _ = write.rounded(exact.scaleb(-write.power))
            if rounded.scaleb(write.power) != exact and rounded.adjusted() - shape.significant + 1 > 0:
                exact = rounded.scaleb(write.power)
                places = shape.significant - 1 - exact.adjusted()
        return SheetNumber(float(exact * scale / divided), ";".join(codes), divided, places)


def _marked(mark: str, text: str) -> str:
    return f"{mark} {text}" if mark else text


def _section(shape: Shape, text: str, commas: str, mark: str) -> str:
    core = _CORE.search(text)
    assert core is not None, "a number has digits"
    whole, _, fraction = core[0].partition(shape.decimal) if shape.decimal in core[0] else (core[0], "", "")
    ends = [_ends(_marked(mark, text[: core.start()]), shape),
            _ends(text[core.end() :], shape)]  # fmt: skip
    if shape.groups == (3, 3):
        places = "#,##" + "0" * max(shape.whole, 1)
    elif not shape.groups[0]:
        places = "0" * max(shape.whole, 1)
    else:
        places = re.sub(r"\D+", lambda found: "".join(f"\\{each}" for each in found[0]), re.sub(r"\d", "0", whole))
    point = "." + "0" * len(fraction) if fraction else ""
    return ends[0] + places + point + commas + ends[1]


def _ends(text: str, shape: Shape) -> str:
    """What is beside the digits, as literal text; a percent sign stays one where numbers are shares."""
    if shape.percent == 2 and "%" in text:
        before, _, after = text.partition("%")
        return f"{_quoted(before)}%{_quoted(after)}"
    return _quoted(text)


def _quoted(text: str) -> str:
    return "".join(f'"{part}"' if part != '"' else '\\"' for part in re.split(r'(")', text) if part)


_TIME_CODES = {"h:mm": "[h]:mm", "h:mm:ss": "[h]:mm:ss", "m:ss": "[m]:ss", "mm:ss": "[mm]:ss", "hh:mm": "[hh]:mm"}
_DAYS = {"seconds": 86400, "minutes": 1440, "hours": 24, "days": 1}


def _sheet_time(write: Writer, value: Any, mark: str) -> SheetNumber | None:
    code = _TIME_CODES.get(write.time)
    if code is None or value < 0:
        return None
    days = float(Decimal(str(value)) / _DAYS[write.format.duration])
    # A spreadsheet cuts times where this rounds them: the stored time is the one shown.
    smallest = 86400 if write.time.endswith("ss") else 1440
    return SheetNumber(round(days * smallest + 1e-9) / smallest, _quoted(f"{mark} " if mark else "") + code)
