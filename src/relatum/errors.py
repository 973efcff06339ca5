"""What can go wrong, in sentences: what, where, why, and what to do about it.

One class for each stage between a person's text and a number. The fields are kept apart, so that a
program can read them; ``str(error)`` joins them for a person.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Span:
    """A stretch of a formula's text: offsets of its first character and of the one after its last."""

    start: int
    stop: int

    def to(self, other: Span) -> Span:
        """The stretch from the start of this span to the end of another."""
        return Span(self.start, max(self.stop, other.stop))


class RelatumError(Exception):
    """The root of every error that Relatum raises on purpose.

    ``reason`` says what and why, ``fix`` what to do. ``path`` and ``line`` say where, once known; ``place`` is the
    key of the model file at fault, from which :meth:`locate` finds the line.
    """

    def __init__(
        self,
        reason: str,
        *,
        fix: str = "",
        path: Path | str | None = None,
        line: int | None = None,
        place: tuple[str | int, ...] = (),
    ) -> None:
        super().__init__(reason)
        self.reason = reason
        self.fix = fix
        self.path = path
        self.line = line
        self.place = place

    def __str__(self) -> str:
        text = self.sentence()
        if self.path is None:
            return text
        return f"{self.path}:{self.line}: {text}" if self.line is not None else f"{self.path}: {text}"

    def sentence(self) -> str:
        """What, why and what to do, without where."""
        return f"{self.reason}\n{self.fix}" if self.fix else self.reason

    def locate(self, path: Path | str, line: int | None) -> None:
        """Say in which file, and on which line of it, the fault stands, unless that is known already."""
        if self.path is None:
            self.path, self.line = path, line


class SourceError(RelatumError, ValueError):
    """Data that cannot be read: a missing file, a ragged row, a heading used twice."""


class ModelError(RelatumError, ValueError):
    """A model that does not hold together: an unknown name, a wrong type, two routes between two tables."""


class DataError(RelatumError, ValueError):
    """Data that contradicts the model: a key that is not unique, ends of a relationship that can never match."""


class FormulaError(RelatumError, ValueError):
    """A formula that cannot be understood, with the exact stretch of text that is at fault.

    ``owner`` is what the formula belongs to (``measure revenue``), ``text`` the formula, ``span`` the stretch.
    """

    def __init__(self, reason: str, *, text: str, span: Span, fix: str = "", owner: str = "") -> None:
        super().__init__(reason, fix=fix)
        self.text = text
        self.span = span
        self.owner = owner

    def sentence(self) -> str:
        """The owner and the reason, the formula with carets under the fault, and what to do."""
        where = f"{self.owner}: " if self.owner else ""
        return f"{where}{self.reason}\n{pointed(self.text, self.span)}" + (f"\n{self.fix}" if self.fix else "")


class QuestionError(RelatumError, ValueError):
    """A question that cannot be asked: an unknown column on an axis, two values with one label, too many cells."""


class ValueOverflowError(RelatumError, OverflowError):
    """A whole number or decimal that does not fit 64 bits. Relatum stops rather than show a wrong number."""


def pointed(text: str, span: Span, width: int = 100) -> str:
    """The line of ``text`` that holds ``span``, with a caret under each of its characters."""
    start = min(span.start, len(text))
    line_start = text.rfind("\n", 0, start) + 1
    line_stop = text.find("\n", start)
    line_stop = len(text) if line_stop < 0 else line_stop
    line = text[line_start:line_stop]
    column = start - line_start
    length = max(1, min(span.stop, line_stop) - start)
    if len(line) > width:
        cut = max(0, min(column - width // 3, len(line) - width))
        line = ("…" if cut else "") + line[cut : cut + width] + ("…" if cut + width < len(line) else "")
        column = column - cut + (1 if cut else 0)
        length = min(length, max(1, len(line) - column))
    line = line.replace("\t", " ")
    return f"    {line}\n    {' ' * column}{'^' * length}"


def nearest(name: str, choices: Iterable[str]) -> str | None:
    """The choice most like ``name``, or None when none is close."""
    options = list(choices)
    for option in options:
        if option.lower() == name.lower():
            return option
    close = difflib.get_close_matches(name, options, n=1, cutoff=0.6)
    return close[0] if close else None


def suggestion(name: str, choices: Iterable[str], *, noun: str = "name") -> str:
    """One sentence that helps after an unknown name: the nearest choice, or the choices when they are few."""
    options = sorted(set(choices))
    close = nearest(name, options)
    if close is not None:
        return f"Did you mean {close}?"
    if not options:
        return f"There is no {noun} yet."
    return f"Known: {listed(options)}."


def listed(items: Sequence[str], most: int = 12) -> str:
    """Items joined by commas, cut after ``most`` of them with a count of the rest."""
    shown = ", ".join(items[:most])
    return shown if len(items) <= most else f"{shown} and {len(items) - most} more"


def counted(number: int, noun: str, plural: str = "") -> str:
    """A number with its noun: ``1 row``, ``1,204 rows``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
