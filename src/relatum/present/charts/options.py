"""What a person may say about a chart beside its kind."""

from __future__ import annotations

import re
from collections.abc import Sequence

from msgspec import Struct

from relatum.errors import RequestError
from relatum.present.charts.frame import Frame, Series
from relatum.present.paint import Mode

_HOLE = re.compile(r"\{([^{}]+)\}")


class ChartOptions(Struct, frozen=True):
    """Options of a chart; empty ones are chosen automatically.

    Parameters
    ----------
    value : str
        The label of the value to draw (default: the first one).
    labels : str
        What is on each mark: a template with labels of values in braces, ``"{revenue} · {share}"``; ``none`` for
        nothing. By default, the value where there is room.
    colour : str
        The label of a value whose numbers colour the marks.
    target : str
        The label of a value that is drawn as a mark on each bar.
    title : str
        The title (default: the values).
    mode : str
        ``light`` or ``dark``.
    size : tuple of float
        Width and height in inches.
    bare : bool
        Without title, filters and notes: these are where the chart is shown.
    """

    value: str = ""
    labels: str = ""
    colour: str = ""
    target: str = ""
    title: str = ""
    mode: Mode = "light"
    size: tuple[float, float] | None = None
    bare: bool = False


def check_options(options: ChartOptions, frame: Frame) -> None:
    """Raise a RequestError for an option that names a value the grid does not have, or an invalid mode or size."""
    for label in (options.value, options.colour, options.target, *_HOLE.findall(options.labels)):
        if label and label != "none":
            frame.value_number(label)
    if options.labels and options.labels != "none" and not _HOLE.search(options.labels):
        raise RequestError(
            f"The labels {options.labels!r} do not name a value.",
            fix=f"Write values in braces: '{{{frame.result.values[0].label}}}'.",
        )
    if options.mode not in ("light", "dark"):
        raise RequestError(f"mode must be light or dark, not {options.mode}.")
    if options.size is not None and not all(1 <= each <= 100 for each in options.size):
        raise RequestError("The width and height of a chart must be 1 to 100 inches.")


def template_values(options: ChartOptions) -> list[str]:
    """The labels of the values that are on marks."""
    return _HOLE.findall(options.labels)


def mark_texts(frame: Frame, one: Series, template: str) -> Sequence[str]:
    """What is on each mark of a series."""
    if template == "none":
        return [""] * len(one.cells)
    if not template:
        return ["" if cell.null or not cell.there else cell.look.marked(cell.text) for cell in one.cells]
    same = [each for each in frame.series if each.member == one.member]
    names = _HOLE.findall(template)
    beside = {}
    for name in names:
        number = frame.value_number(name)
        found = next((each for each in same if each.value == number), None)
        beside[name] = found if found is not None else frame.of_value(number)[0]
    return [
        ""
        if not one.cells[at].there or one.cells[at].null
        else _HOLE.sub(lambda hole, at=at: beside[hole[1]].cells[at].text, template)  # type: ignore[misc]
        for at in range(len(one.cells))
    ]
