"""What each cell of a grid looks like under the style rules that apply to it, and the legend of those rules."""

from __future__ import annotations

from functools import cached_property

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from relatum.data.columns import Array, Column
from relatum.data.types import Kind
from relatum.data.vectors import there
from relatum.model.colours import LEGIBLE, contrast, text_on
from relatum.model.looks import StyleRule
from relatum.pivot.result import Result
from relatum.present.numbers import Writer
from relatum.present.paint import MODES, Mode, Paint, colours_of, mixed, paint, series

#: The number of steps of a shade, and the letters used for them where there is no colour.
SHADES, SHADE_LETTERS = 64, "ABCDE"


class Look(Struct, frozen=True):
    """How one cell or head looks. ``bar`` is where a bar starts and stops, as parts of the cell's width.

    ``letter`` stands for a colour where there is none, ``word`` is the theme's word for the colour, if it is one.
    """

    colour: Paint | None = None
    fill: Paint | None = None
    bold: bool | None = None
    mark: str = ""
    bar: tuple[float, float] | None = None
    bar_paint: Paint | None = None
    letter: str = ""
    word: str = ""

    def marked(self, text: str, *, letters: bool = False) -> str:
        """A text with its mark before it; with ``letters``, the letter where there is no mark."""
        mark = self.mark or (self.letter if letters else "")
        return f"{mark} {text}" if mark and text else text

    def text_colour(self, mode: Mode) -> str:
        """The colour of its text in one mode: as stated where it reads on the fill, else what does, else none."""
        ground = self.fill.of(mode) if self.fill is not None else ""
        if self.colour is not None and (not ground or contrast(self.colour.of(mode), ground) >= LEGIBLE):
            return self.colour.of(mode)
        return text_on(ground) if ground else ""


PLAIN_LOOK = Look()


class LegendEntry(Struct, frozen=True):
    """A line of the legend: an example of a look, and what it means; for shades, their ends."""

    look: Look
    text: str
    shades: tuple[Paint, ...] = ()
    ends: tuple[str, ...] = ()

    @property
    def line(self) -> str:
        """What it says, with the ends of shades."""
        return f"{self.text}: {self.ends[0]} to {self.ends[-1]}" if self.ends else self.text


class Looks:
    """The looks of a grid's cells and members.

    Parameters
    ----------
    result : Result
        The grid.
    writers : tuple of Writer
        How its values are written; the ends of shades are written so.
    """

    def __init__(self, result: Result, writers: tuple[Writer, ...]) -> None:
        self.result, self.writers = result, writers
        self.theme = result.theme
        self.legend: list[LegendEntry] = []
        self._letters: dict[StyleRule, str] = {}
        self._cells = {number: self._layers(number) for number in range(len(result.values))}
        self._members = [self._members_of(at) for at in range(len(result.axes))]

    @cached_property
    def _whole(self) -> NDArray[np.bool_]:
        """For each cell whether it is at the full grain, where no member is totalled over."""
        cells = self.result.cells
        whole = np.zeros(sum(len(each.codes) for each in cells), np.bool_)
        start = 0
        for each in cells:
            if len(each.keys) == len(self.result.fields) and not each.others:
                whole[start : start + len(each.codes)] = True
            start += len(each.codes)
        return whole

    def cell(self, value: int, at: int) -> Look:
        """The look of one cell of a value."""
        look = PLAIN_LOOK
        for layer in self._cells[value]:
            look = layer.put(look, at)
        return look

    def styled(self, value: int) -> bool:
        """Whether a value has any rule."""
        return bool(self._cells[value])

    def member(self, axis: int, code: int) -> Look:
        """The look of a member's head."""
        if code < 0:
            return PLAIN_LOOK
        look = PLAIN_LOOK
        for rule, holds in self._members[axis]:
            if holds[code]:
                look = _over(look, self._of(rule))
        return look

    # -- rules --------------------------------------------------------------------------------------------------------

    def _members_of(self, axis: int) -> list[tuple[StyleRule, Array]]:
        found = []
        for each in self.result.member_rules:
            if each.axis == axis:
                found.append((each.rule, each.holds))
                name = self.result.axes[axis].label
                listed = ", ".join(map(str, each.rule.members))
                if each.holds.any():
                    self._tell(each.rule, each.rule.about or f"{name}: {each.rule.when or listed or 'every member'}")
        return found

    def _layers(self, value: int) -> list[_Layer]:
        layers: list[_Layer] = []
        for each in self.result.rules:
            if each.value != value:
                continue
            rule = each.rule
            column = self.result.column_of(value)
            if rule.shades:
                layers.append(self._shaded(rule, value, column))
            elif rule.bar:
                layers.append(self._barred(rule, column))
            else:
                holds = None
                if each.condition is not None:
                    judged = self.result.column_of(each.condition)
                    holds = judged.values.astype(np.bool_) & there(judged)
                label = self.result.values[value].heading
                if holds is None or holds.any():
                    self._tell(rule, rule.about or (rule.when or f"every {label}"))
                layers.append(_Flat(self._of(rule), holds))
        return layers

    def _tell(self, rule: StyleRule, text: str) -> None:
        look = self._of(rule)
        if all(entry.text != text or entry.look != look for entry in self.legend):
            self.legend.append(LegendEntry(look, text))

    def _of(self, rule: StyleRule) -> Look:
        """The look that a rule gives."""
        coloured = bool(rule.colour or rule.fill)
        letter = ""
        if coloured and not rule.mark:
            letter = self._letters.setdefault(rule, chr(ord("a") + len(self._letters) % 26))
        return Look(
            paint(rule.colour, self.theme) if rule.colour else None,
            paint(rule.fill, self.theme) if rule.fill else None,
            {"": None, "bold": True, "normal": False}[rule.weight],
            rule.mark,
            letter=letter,
            word="" if rule.colour.startswith("#") else rule.colour,
        )

    def _shaded(self, rule: StyleRule, value: int, column: Column) -> _Layer:
        numbers, known = self._numbers(column)
        stops = rule.between or self._ends(numbers, known, len(rule.shades))
        paints = tuple(paint(each, self.theme) for each in rule.shades)
        places = np.interp(numbers, stops, np.linspace(0, 1, len(stops))) if stops else np.zeros(len(numbers))
        write = self.writers[value]
        ends = tuple(map(write.near, stops))
        text = rule.about or f"{self.result.values[value].heading}, low to high"
        self.legend.append(LegendEntry(PLAIN_LOOK, text, paints, ends))
        return _Shaded(places, known, paints)

    def _barred(self, rule: StyleRule, column: Column) -> _Layer:
        numbers, known = self._numbers(column)
        low, high = rule.between or self._ends(numbers, known, 2) or (0.0, 1.0)
        if not rule.between:
            low, high = min(low, 0.0), max(high, 0.0)
        span = (high - low) or 1.0
        zero = min(max((0.0 - low) / span, 0.0), 1.0)
        places = np.clip((numbers - low) / span, 0, 1)
        colour = paint(rule.bar, self.theme) if isinstance(rule.bar, str) else series(self.theme, 0)
        faint = Paint(*(mixed(colours_of(self.theme, mode).page, colour.of(mode), 0.35) for mode in MODES))
        return _Barred(zero, places, known, faint)

    def _numbers(self, column: Column) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        """A value's numbers, and which cells are drawn: those with a number, at the full grain."""
        known = self._whole & there(column)
        numbers = np.asarray(column.values, np.float64)
        if column.type.kind is Kind.DECIMAL:
            numbers = numbers / 10.0**column.type.scale
        return numbers, known & np.isfinite(numbers)

    @staticmethod
    def _ends(numbers: NDArray[np.float64], known: NDArray[np.bool_], count: int) -> tuple[float, ...]:
        """The lowest and highest number, and where there are three stops the middle between them."""
        if not known.any():
            return ()
        low, high = float(numbers[known].min()), float(numbers[known].max())
        high = high if high > low else low + 1
        return (low, high) if count == 2 else (low, (low + high) / 2, high)


class _Flat(Struct, frozen=True, eq=False):
    look: Look
    holds: NDArray[np.bool_] | None

    def put(self, look: Look, at: int) -> Look:
        return look if self.holds is not None and not self.holds[at] else _over(look, self.look)


class _Shaded(Struct, frozen=True, eq=False):
    places: NDArray[np.float64]
    known: NDArray[np.bool_]
    paints: tuple[Paint, ...]

    def put(self, look: Look, at: int) -> Look:
        if not self.known[at]:
            return look
        place = round(float(self.places[at]) * SHADES) / SHADES
        return replace(look, fill=_between(self.paints, place), letter=SHADE_LETTERS[min(int(place * 5), 4)])


class _Barred(Struct, frozen=True, eq=False):
    zero: float
    places: NDArray[np.float64]
    known: NDArray[np.bool_]
    paint: Paint

    def put(self, look: Look, at: int) -> Look:
        if not self.known[at]:
            return look
        start, stop = sorted((self.zero, float(self.places[at])))
        return replace(look, bar=(round(start, 3), round(stop, 3)), bar_paint=self.paint)


_Layer = _Flat | _Shaded | _Barred


def _between(paints: tuple[Paint, ...], place: float) -> Paint:
    """The colour at a place from 0 to 1 along two or three."""
    steps = len(paints) - 1
    at = min(int(place * steps), steps - 1)
    return Paint(*(mixed(paints[at].of(mode), paints[at + 1].of(mode), place * steps - at) for mode in MODES))


def _over(look: Look, other: Look) -> Look:
    """A look with another put on it: what the later one states holds."""
    return Look(
        colour=other.colour or look.colour,
        fill=other.fill or look.fill,
        bold=look.bold if other.bold is None else other.bold,
        mark=other.mark or look.mark,
        bar=look.bar,
        bar_paint=look.bar_paint,
        letter=other.letter or look.letter,
        word=other.word if other.colour is not None else look.word,
    )
