"""What one pass over a table is asked, and what comes of it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from relatum.data.columns import Array, Column
from relatum.data.joins import JoinIndex
from relatum.data.types import Kind, Type
from relatum.engine.memory.blocks.forms import Form
from relatum.engine.memory.filters import PartTest, RowFilter
from relatum.engine.memory.folds import Fold, FoldKind
from relatum.engine.memory.rows import Chunk, Evaluate
from relatum.engine.memory.store import RowCodes
from relatum.model.routes import Route


class Argument(Struct, frozen=True, eq=False):
    """An aggregate's argument: its type, how to evaluate it, and the lookups in it that some rows do not find.

    ``form`` is how the compiled loops work it out, None where they cannot.
    """

    type: Type
    evaluate: Evaluate
    lookups: tuple[tuple[Route, JoinIndex], ...]
    form: Form | None = None


class ScanTask(Struct, frozen=True, eq=False):
    """What one pass over a table computes.

    ``folds`` are pairs of a fold's kind and the number of its argument, None for rows themselves. With ``keep`` the
    surviving rows' groups and arguments are handed back too. ``marks`` are tests for members that are kept.
    """

    rows: int
    tests: Sequence[PartTest]
    marks: Sequence[RowFilter]
    keys: Sequence[tuple[RowCodes, int]]
    arguments: Sequence[Argument]
    folds: Sequence[tuple[FoldKind, int | None]]
    keep: bool

    def takes_floats(self, number: int | None) -> bool:
        """Whether an argument, given by its number, is a float."""
        return number is not None and self.arguments[number].type.kind is Kind.FLOAT


class ScanResult(Struct, eq=False):
    """Groups that occur, with a code for each key; folds by group; and kept rows with the group of each.

    ``way`` is empty where compiled loops did it in blocks, else why NumPy did.
    """

    codes: Array
    folds: list[Fold]
    groups: Array | None
    columns: list[Column]
    lost: dict[tuple[int, Route], int]
    way: str = ""


def count_lost(
    arguments: Sequence[Argument], chunk: Chunk, columns: Sequence[Column], lost: dict[tuple[int, Route], int]
) -> None:
    """Count the rows of a chunk on which an argument has no value because a lookup found nothing."""
    for number, (argument, column) in enumerate(zip(arguments, columns, strict=True)):
        if not argument.lookups or column.nulls is None:
            continue
        missing = np.broadcast_to(column.nulls, len(chunk))
        for route, index in argument.lookups:
            failed = missing & (chunk.of(index.positions) == index.size)
            lost[number, route] = lost.get((number, route), 0) + int(failed.sum())
            missing = missing & ~failed
