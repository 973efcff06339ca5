"""The figure that a chart is drawn on: its fonts, colours, headings and notes."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from matplotlib import rc_context
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Rectangle
from matplotlib.ticker import Formatter
from msgspec import Struct, field

from relatum.model.looks import ThemeColours
from relatum.present.charts.fonts import fonts_for
from relatum.present.charts.frame import Frame, Series
from relatum.present.charts.options import ChartOptions
from relatum.present.numbers import Writer
from relatum.present.paint import FONT, SIZE, colours_of
from relatum.present.pictures import DRAWN, drawable, picture_bytes

#: Room around the plot, and for each line of text above and below it, in inches.
_EDGE, _LINE = 0.22, 0.21


class Canvas(Struct):
    """A figure, with the marks that are drawn on it, those of every value, and one set of colours and sizes.

    ``values`` are the numbers of those that its title names, where these are not the ones of its marks. ``placed`` is
    what is done once everything has its place: it takes a renderer that measures texts.
    """

    frame: Frame
    whole: Frame
    options: ChartOptions
    figure: Figure
    colours: ThemeColours
    size: float
    notes: list[str] = field(default_factory=list)
    values: list[int] = field(default_factory=list)
    keys: list[tuple[str, str, str, str, Any]] = field(default_factory=list)
    placed: list[Callable[[Any], None]] = field(default_factory=list)

    @property
    def all_series(self) -> tuple[Series, ...]:
        """The series of every value, those that are not drawn themselves among them."""
        return self.whole.series

    def axes(self, *, grid: str = "") -> Any:
        """The plot of a figure that has one; ``grid`` is the axis that lines cross."""
        plot = self.figure.add_subplot()
        self.dress(plot, grid=grid)
        return plot

    def dress(self, plot: Any, *, grid: str = "") -> None:
        """Give a plot the colours of the theme."""
        plot.set_facecolor(self.colours.page)
        for side in plot.spines.values():
            side.set_visible(False)
        plot.tick_params(length=0, colors=self.colours.text, labelsize=self.size)
        plot.set_axisbelow(True)
        if grid:
            plot.grid(visible=True, axis=grid, color=self.colours.line, linewidth=0.5)

    def number_axis(self, axis: Any, write: Writer, heading: str) -> None:
        """An axis of numbers, written as the value is, in the same unit."""
        axis.set_major_formatter(_Ticks(write))
        axis.set_label_text(heading, color=self.colours.faint, fontsize=self.size)

    def key(self, colour: str, text: str, hatch: str = "", marker: str = "", dash: Any = "-") -> None:
        """Add a line to the legend: a square, or with a ``marker`` a piece of a line, drawn as the line is."""
        if (colour, text, hatch, marker, dash) not in self.keys:
            self.keys.append((colour, text, hatch, marker, dash))


class _Ticks(Formatter):
    """Writes the numbers along an axis as its values are written."""

    def __init__(self, write: Writer) -> None:
        self.write = write

    def __call__(self, x: float, pos: int | None = None) -> str:
        return self.write.near(x)

    def format_ticks(self, values: Any) -> list[str]:
        return self.write.ticks([float(each) for each in values])


class Picture(Figure):
    """A figure that shows itself in a notebook, whether or not a backend for notebooks is in use."""

    def _repr_png_(self) -> bytes:
        return picture_bytes(self, ".png")


@contextmanager
def canvas(
    frame: Frame, whole: Frame, options: ChartOptions, size: tuple[float, float], texts: Sequence[str]
) -> Iterator[Canvas]:
    """A figure to draw on, with fonts that hold the texts; afterwards heads, legend and notes are put around it."""
    theme = frame.result.theme
    colours = colours_of(theme, options.mode)
    fonts, note = fonts_for(texts, theme.font or FONT)
    with rc_context({**DRAWN, "font.family": fonts, "svg.fonttype": "path", "hatch.linewidth": 0.7}):
        figure = Picture(figsize=options.size or size, facecolor=colours.page, layout=None)
        made = Canvas(frame, whole, options, figure, colours, (theme.size or SIZE) * 0.85)
        if note:
            made.notes.append(note)
        yield made
        _surround(made)


def _surround(made: Canvas) -> None:
    """Title and filters above, legend and notes below; the plot gets the rest."""
    figure = made.figure
    width, height = figure.get_size_inches()
    top = 0.06 if made.options.bare else _EDGE
    if not made.options.bare:
        top = _heading(made, top)
    top += _legend(made, top)
    bottom = 0.04 if made.options.bare else _EDGE
    for note in () if made.options.bare else reversed(made.notes):
        figure.text(_EDGE / width, bottom / height, note, color=made.colours.faint, fontsize=made.size * 0.9)
        bottom += _LINE
    figure.subplots_adjust(
        left=_EDGE / width, right=1 - _EDGE / width, top=1 - (top + 0.12) / height, bottom=(bottom + 0.02) / height
    )
    renderer: Any = FigureCanvasAgg(figure).get_renderer()  # type: ignore[no-untyped-call]
    _fit(made, top + 0.12, bottom + 0.02, renderer)
    with _unseen_glyphs():
        for place in made.placed:
            place(renderer)


@contextmanager
def _unseen_glyphs() -> Iterator[None]:
    """Texts are measured whose signs no font has: a note says so, in words."""
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph .* missing from font")
        yield


def _heading(made: Canvas, top: float) -> float:
    """Title and filters; how far down they reach, in inches."""
    frame, figure = made.frame, made.figure
    width, height = figure.get_size_inches()
    drawn = dict.fromkeys(frame.heading(number) for number in made.values or [each.value for each in frame.series])
    title = made.options.title or ", ".join(drawn)
    figure.text(_EDGE / width, 1 - top / height, title, color=made.colours.text, fontsize=made.size * 1.25,
                fontweight="bold", va="top")  # fmt: skip
    top += _LINE * 1.3
    for line in map(drawable, frame.result.request.filters):
        figure.text(_EDGE / width, 1 - top / height, line, color=made.colours.faint, fontsize=made.size, va="top")
        top += _LINE
    return top


def _legend(made: Canvas, top: float) -> float:
    """Draw the legend from the left in as many lines as it needs; how high it is, in inches."""
    if not made.keys:
        return 0.0
    figure = made.figure
    width, height = figure.get_size_inches()
    x, y = _EDGE, top + 0.06
    square = 0.12
    for colour, text, hatch, marker, dash in made.keys:
        wide = square + 0.08 + len(text) * made.size * 0.0088 + 0.25
        if x + wide > width - _EDGE and x > _EDGE:
            x, y = _EDGE, y + _LINE
        if marker:
            middle = 1 - (y + square / 2) / height
            x += 0.1
            figure.lines.append(
                Line2D([(x - 0.14) / width, (x + square / 2) / width, (x + square + 0.04) / width], [middle] * 3,
                       color=colour, marker=marker, markevery=[1], markersize=5, linewidth=1.6, linestyle=dash,
                       transform=figure.transFigure, figure=figure)
            )  # fmt: skip
        else:
            figure.patches.append(_square_of(made, colour, hatch, (x, y), square))
        figure.text((x + square + 0.07) / width, 1 - (y + square / 2) / height, text, color=made.colours.text,
                    fontsize=made.size, va="center_baseline")  # fmt: skip
        x += wide
    return y + _LINE - top + 0.05


def _square_of(made: Canvas, colour: str, hatch: str, corner: tuple[float, float], side: float) -> Rectangle:
    width, height = made.figure.get_size_inches()
    return Rectangle(
        (corner[0] / width, 1 - (corner[1] + side) / height),
        side / width,
        side / height,
        facecolor=colour,
        edgecolor=made.colours.text if hatch else colour,
        hatch=hatch or None,
        linewidth=0.4,
        transform=made.figure.transFigure,
        figure=made.figure,
    )


def _fit(made: Canvas, top: float, bottom: float, renderer: Any) -> None:
    """Move the plots in until their labels are inside the figure."""
    figure = made.figure
    width, height = figure.get_size_inches()
    for _ in range(2):
        with _unseen_glyphs():
            found = [plot.get_tightbbox(renderer) for plot in figure.axes if plot.get_visible()]
        boxes = [box for box in found if box is not None]
        if not boxes:
            return
        dpi = figure.dpi
        left = _EDGE - min(box.x0 for box in boxes) / dpi
        low = bottom - min(box.y0 for box in boxes) / dpi
        over_right = max(box.x1 for box in boxes) / dpi - (width - _EDGE)
        over_top = max(box.y1 for box in boxes) / dpi - (height - top)
        now = figure.subplotpars
        new_left, new_right = now.left + left / width, now.right - over_right / width
        new_bottom, new_top = now.bottom + low / height, now.top - over_top / height
        if new_right - new_left < 0.1 or new_top - new_bottom < 0.1:
            made.notes.append("the labels leave too little room: use a larger size")
            return
        figure.subplots_adjust(left=new_left, right=new_right, bottom=new_bottom, top=new_top)
