"""What can go wrong, in sentences: what, where, why, and what to do about it.

One class for each stage between a person's text and a number. The fields are kept apart, so that a
program can read them; ``str(error)`` joins them for a person.
"""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from relatum.wording import pointed, visible, visible_lines


class Span(Struct, frozen=True):
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
        text = visible_lines(self.sentence())
        if self.path is None:
            return text
        path = visible(str(self.path))
        return f"{path}:{self.line}: {text}" if self.line is not None else f"{path}: {text}"

    def sentence(self) -> str:
        """What, why and what to do, without where."""
        return f"{self.reason}\n{self.fix}" if self.fix else self.reason

    def locate(self, path: Path | str, line: int | None) -> None:
        """Add the file and line of the fault, unless they are known already."""
        if self.path is None:
            self.path, self.line = path, line


class SourceError(RelatumError, ValueError):
    """Data that cannot be read: a missing file, a ragged row, a heading used twice."""


class HeadingError(SourceError):
    """Data with a column that has no heading, or two columns with the same one: formulas could not name them."""


class MissingSourceError(SourceError):
    """Missing data: no such file, or no such table in a database or workbook."""


class ChangedDataError(SourceError):
    """Data on an engine that has changed since it was read."""


class ModelError(RelatumError, ValueError):
    """An invalid model: an unknown name, a wrong type, two routes between two tables."""


class DataError(RelatumError, ValueError):
    """Data that contradicts the model: a key that is not unique, ends of a relationship that can never match."""


class FormulaError(RelatumError, ValueError):
    """A formula that cannot be understood, with the exact part of the text that is wrong.

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
        return f"{where}{self.reason}\n{pointed(self.text, self.span.start, self.span.stop)}" + (
            f"\n{self.fix}" if self.fix else ""
        )


class RequestError(RelatumError, ValueError):
    """An invalid request: an unknown column on an axis, two values with the same label, too many cells."""


class LimitError(SourceError, RequestError):
    """More than a limit allows: rows, columns, cells, memory, time. The error says how many, and how to raise it."""


class StoppedError(RelatumError):
    """A question that was stopped before it was answered."""


class ArgumentError(ModelError, RequestError, TypeError):
    """An argument that a call does not accept. The error names it, quotes the value and says what was expected."""


class ValueOverflowError(RelatumError, OverflowError):
    """A whole number or decimal that does not fit in 64 bits. Relatum stops rather than show a wrong number."""

    @classmethod
    def of_result(cls) -> ValueOverflowError:
        """The error for what a formula comes to, wherever it was worked out."""
        return cls("A result does not fit in 64 bits.", fix="Turn the operand into a float by dividing it by 1.")
