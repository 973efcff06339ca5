"""One pass over a table: the rows that pass the filters, by group, folded as they come."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from functools import cached_property

import numpy as np
from msgspec import Struct, field

from relatum.data import groups as grouping
from relatum.data.columns import Array, Column
from relatum.data.vectors import spread
from relatum.engine.memory.blocks.drive import CHUNK_ROWS, Loops, Worker, folds_of, marks_of
from relatum.engine.memory.blocks.drive import survivors as survivors_in_blocks
from relatum.engine.memory.blocks.program import (
    FEW_GROUPS,
    Program,
    WhyNot,
    adds_by_stretch,
    program_of,
    selection_of,
)
from relatum.engine.memory.blocks.ready import loops_for
from relatum.engine.memory.distinct import GroupOfRow
from relatum.engine.memory.filters import narrowed, survivors
from relatum.engine.memory.folds import Fold, beside, fold_maker, same_counts
from relatum.engine.memory.rows import Chunk
from relatum.engine.memory.scan_task import ScanResult, ScanTask, count_lost
from relatum.engine.memory.zones import Span, spans_of
from relatum.model.routes import Route
from relatum.runtime.limits import refuse_full, refuse_late
from relatum.runtime.threads import cores, pool, shared_each, shared_map, shared_out

#: Fewer rows than these are not worth another thread.
_FEW_ROWS = 1 << 15
#: If there are too many groups for an accumulator each, this many rows are grouped at once, then their results: what
#: is held does not grow with the table. It is the same on every machine, so that float sums are.
_GROUPED_ROWS = 1 << 23

#: How many pieces are sampled to guess how many rows pass, and how many rows each piece has.
_PIECES, _PIECE_ROWS = 4, 1 << 14
#: Stretches shorter than this, or of shorter runs, are not folded by their runs.
_RUN_ROWS, _RUN_SHARE = 1 << 14, 2

#: How an action is carried out for each number of a range.
Each = Callable[[Callable[[int], None], range], None]


class _Batch(Struct):
    keys: list[list[Array]]
    columns: list[list[Column]]
    folds: list[Fold] | None = None
    rows: int = 0
    part: ScanResult | None = None
    lost: dict[tuple[int, Route], int] = field(default_factory=dict)


class Scan:
    """A pass over a table, made ready once and carried out as often as its task is asked.

    Parameters
    ----------
    task : ScanTask
        What is computed.
    """

    def __init__(self, task: ScanTask) -> None:
        self.task = task
        self.sizes = [size for _, size in task.keys]
        self.groups = math.prod(self.sizes)
        self.dense = self.groups <= grouping.DENSE_GROUPS
        floats = any(kind == "sum" and task.takes_floats(number) for kind, number in task.folds)
        self.by_stretch = floats and adds_by_stretch(self.groups)
        self.tests = narrowed([*(test.test for test in task.tests), *task.marks])
        self.spans = spans_of(self.tests, task.rows, CHUNK_ROWS)
        self._known_blocks: _Blocks | None = None

    def run(self) -> ScanResult:
        """Carry it out on all cores: in blocks where that can be, else with NumPy; the result is the same."""
        found = loops_for(self.task.rows)
        blocks = None
        if not isinstance(found, WhyNot) and self.spans:
            blocks = self._blocks(found)
            found = self._in_blocks(blocks)
            if isinstance(found, ScanResult):
                return found
        result = self._with_numpy(blocks)
        result.way = found.reason if isinstance(found, WhyNot) else ""
        return result

    def _blocks(self, loops: Loops) -> _Blocks:
        if self._known_blocks is None:
            self._known_blocks = _Blocks(self, loops)
        return self._known_blocks

    @property
    def nbytes(self) -> int:
        """About how many bytes it holds beside the table's columns."""
        held = [] if self._known_blocks is None else self._known_blocks.held
        return sum(array.nbytes for array in held if len(array) < self.task.rows)

    def _in_blocks(self, blocks: _Blocks) -> ScanResult | WhyNot:
        program = blocks.program
        if isinstance(program, WhyNot):
            return program
        marks = marks_of(program)

        def work(spans: Iterator[Span]) -> Worker:
            worker = Worker(blocks.loops, blocks.selection, program, marks)
            for span in spans:
                worker.take_in(span.start, span.stop, free=span.free)
            return worker

        workers = shared_out(work, self.spans, _refuse)
        lost = {key: sum(int(worker.lost[at]) for worker in workers) for at, key in enumerate(program.lost)}
        folds = folds_of(program, workers)
        return WhyNot("a sum of floats is not finite") if folds is None else self._occurring(folds, lost)

    def _with_numpy(self, blocks: _Blocks | None) -> ScanResult:
        total: list[Fold] | None = None
        pending = self._empty()
        lost: dict[tuple[int, Route], int] = {}
        parts: list[ScanResult] = []
        passing = self._passing if blocks is None else blocks.passing
        at_once = None if blocks is None else self._few(blocks)
        for batch in self._batches(passing) if at_once is None else [self._batch_of(at_once)]:
            _refuse()
            for key, count in batch.lost.items():
                lost[key] = lost.get(key, 0) + count
            if batch.folds is not None:
                total = self._merged(total, batch.folds)
            if batch.part is not None:
                parts.append(batch.part)
            if batch.rows:
                _append(pending, batch)
                if self._foldable(pending.rows):
                    total = self._merged(total, self._fold_batch(pending))
                    pending = self._empty()
                elif not self.dense and not self.task.keep and pending.rows >= _GROUPED_ROWS:
                    parts.append(self._numbered(*self._joined(pending), pending.rows, lost))
                    pending = self._empty()
        keys, columns = self._joined(pending)
        if parts and total is not None:
            parts.append(self._occurring(total, lost))
        if parts and not pending.rows:
            return self._together(parts, lost)
        few = total is None and grouping.SPARSE * pending.rows < self.groups
        if self.dense and not few and not self.task.keep and not parts:
            if pending.rows or total is None:
                total = self._merged(total, self._fold(keys, columns, pending.rows, self.groups, _side_by_side))
            return self._occurring(total, lost)
        last = self._numbered(keys, columns, pending.rows, lost)
        return self._together([*parts, last], lost) if parts else last

    def _together(self, parts: list[ScanResult], lost: dict[tuple[int, Route], int]) -> ScanResult:
        """The groups of several parts of the rows as those of all of them."""
        every = np.concatenate([part.codes for part in parts])
        codes, groups = grouping.number_groups(list(every.T), self.sizes, len(every))
        folds = [beside(each) for each in zip(*(part.folds for part in parts), strict=True)]
        if len(codes) < len(every):
            folds = [fold.regrouped(groups, len(codes)) for fold in folds]
        elif not grouping.ascends(groups):
            folds = [fold.at(np.argsort(groups)) for fold in folds]
        return ScanResult(codes, folds, None, [], lost)

    def _empty(self) -> _Batch:
        return _Batch([[] for _ in self.sizes], [[] for _ in self.task.arguments])

    def _foldable(self, rows: int) -> bool:
        return self.dense and not self.task.keep and (rows >= self.groups or self.by_stretch)

    # -- chunks -----------------------------------------------------------------------------------------------------

    def _passing(self, span: Span) -> Chunk:
        """The rows of a span that pass the tests."""
        return Chunk(span.start, span.stop) if span.free else survivors(self.tests, span.start, span.stop)

    def _batches(self, passing: Callable[[Span], Chunk]) -> Iterator[_Batch]:
        def batch(span: Span) -> _Batch:
            return self._batch_of(passing(span))

        return map(batch, self.spans) if len(self.spans) < 2 else pool().map(batch, self.spans)

    def _few(self, blocks: _Blocks) -> Chunk | None:
        """All rows that pass, where the loops find so few that they are worked at once; else None.

        They are fewer than groups, and too few in each stretch to be folded by their runs: no stretch of them would be
        folded alone.
        """
        most = min(self.groups, _FEW_ROWS)
        if self.by_stretch or 2 * blocks.likely_rows > most:
            return None

        chunks = shared_map(blocks.passing, self.spans, _refuse)
        rows = np.concatenate(
            [np.arange(chunk.start, chunk.stop) if chunk.rows is None else chunk.rows + chunk.start for chunk in chunks]
        )
        few = len(rows) < most and all(len(chunk) < _RUN_ROWS for chunk in chunks)
        return Chunk(0, self.task.rows, rows) if few else None

    def _batch_of(self, chunk: Chunk) -> _Batch:
        batch = self._empty()
        rows = len(chunk)
        if not rows:
            return batch
        keys = [codes.slice(chunk.start, chunk.stop, chunk.rows) for codes, _ in self.task.keys]
        columns = [argument.evaluate(chunk) for argument in self.task.arguments]
        count_lost(self.task.arguments, chunk, columns, batch.lost)
        if self._foldable(rows):
            batch.folds = self._fold(keys, columns, rows, self.groups, _in_turn)
        elif (runs := self._runs(keys, rows)) is not None:
            codes, groups = runs
            batch.part = ScanResult(codes, self._fold_groups(groups, columns, rows, len(codes), _in_turn), None, [], {})
        else:
            batch.keys = [[part] for part in keys]
            batch.columns = [[spread(column, rows)] for column in columns]
            batch.rows = rows
        return batch

    def _runs(self, keys: list[Array], rows: int) -> tuple[Array, Array] | None:
        """The groups of a stretch whose rows come group by group; None where they do not, or few rows share one.

        A fact table is mostly in the order of its number: so the stretch is folded at once, beside others.
        """
        if self.task.keep or len(keys) != 1 or rows < _RUN_ROWS or not grouping.ascends(keys[0]):
            return None
        starts = grouping.run_starts(keys[0])
        if _RUN_SHARE * len(starts) > rows:
            return None
        numbers = np.repeat(np.arange(len(starts)), np.diff(starts, append=rows))
        return keys[0][starts].astype(np.int64).reshape(-1, 1), numbers

    # -- folding ----------------------------------------------------------------------------------------------------

    def _pack(self, keys: list[Array]) -> Array | None:
        packed: Array | None = None
        for codes, size in zip(keys, self.sizes, strict=True):
            wide = codes.astype(np.int64)
            packed = wide if packed is None else packed * size + wide
        return packed

    def _fold_batch(self, batch: _Batch) -> list[Fold]:
        keys, columns = self._joined(batch)
        return self._fold(keys, columns, batch.rows, self.groups, _side_by_side)

    def _fold(self, keys: list[Array], columns: list[Column], rows: int, size: int, each: Each) -> list[Fold]:
        return self._fold_groups(self._pack(keys), columns, rows, size, each)

    def _fold_groups(self, groups: GroupOfRow, columns: list[Column], rows: int, size: int, each: Each) -> list[Fold]:
        made: list[tuple[Fold | None, Column | None]] = []
        for kind, number in self.task.folds:
            type_ = None if number is None else self.task.arguments[number].type
            column = None if number is None or not rows else columns[number]
            # Where every row has a value, the rows, which come first, are counted already.
            counted = kind == "count" and column is not None and column.nulls is None
            made.append((None if counted else fold_maker(kind, type_)(size), column))

        def take_in(at: int) -> None:
            fold, column = made[at]
            if fold is not None and rows:
                fold.add(groups, column, rows)

        # A few rows are folded before another thread has been woken.
        (each if rows >= _FEW_ROWS else _in_turn)(take_in, range(len(made)))
        rows_counted = made[0][0]
        assert rows_counted is not None
        return [same_counts(rows_counted) if fold is None else fold for fold, _ in made]

    def _merged(self, total: list[Fold] | None, part: list[Fold]) -> list[Fold]:
        if total is None:
            return part
        for mine, other in zip(total, part, strict=True):
            mine.merge(other)  # type: ignore[arg-type]
        return total

    def _joined(self, batch: _Batch) -> tuple[list[Array], list[Column]]:
        keys = [np.concatenate(parts) if parts else np.zeros(0, np.uint8) for parts in batch.keys]
        return keys, [_concatenated(parts) for parts in batch.columns] if batch.rows else []

    # -- results ----------------------------------------------------------------------------------------------------

    def _occurring(self, folds: list[Fold], lost: dict[tuple[int, Route], int]) -> ScanResult:
        counts = folds[0].counts  # type: ignore[union-attr]
        present = np.flatnonzero(counts != 0)  # truths are gone through sooner than numbers
        chosen = grouping.as_stretch(present)
        own = [fold.at(chosen) for fold in folds]
        if len(self.sizes) == 1:
            return ScanResult(present.reshape(-1, 1), own, None, [], lost)
        codes = np.empty((len(self.sizes), len(present)), np.int64)
        # Division is quicker in 32 bits.
        packed = present.astype(np.int32) if self.groups < 1 << 31 else present

        def unpack(start: int) -> None:
            part = slice(start, start + CHUNK_ROWS)
            grouping.unpack(packed[part], self.sizes, codes[:, part])

        _side_by_side(unpack, range(0, len(present), CHUNK_ROWS))
        return ScanResult(codes.T, own, None, [], lost)

    def _numbered(
        self, keys: list[Array], columns: list[Column], rows: int, lost: dict[tuple[int, Route], int]
    ) -> ScanResult:
        codes, groups = grouping.number_groups(keys, self.sizes, rows)
        folds = self._fold_groups(groups, columns, rows, len(codes), _side_by_side)
        if not self.task.keep:
            return ScanResult(codes, folds, None, [], lost)
        return ScanResult(codes, folds, groups, columns, lost)


class _Blocks:
    """How the compiled loops carry a scan out: which rows they let pass, and the program that folds these."""

    def __init__(self, scan: Scan, loops: Loops) -> None:
        self.loops = loops
        self.selection = selection_of(scan.tests, scan.task.rows)
        self._scan = scan
        likely = scan.task.rows if scan.groups <= FEW_GROUPS else self.likely_rows
        self.program = program_of(scan.task, likely, cores(), len(scan.spans))

    @property
    def held(self) -> list[Array]:
        """The arrays that the loops read."""
        return [*self.selection.held, *(self.program.held if isinstance(self.program, Program) else ())]

    def passing(self, span: Span) -> Chunk:
        """The rows of a span that pass the tests."""
        if span.free:
            return Chunk(span.start, span.stop)
        return survivors_in_blocks(self.loops, self.selection, span.start, span.stop)

    @cached_property
    def likely_rows(self) -> int:
        """About how many rows pass, by those of a few pieces here and there."""
        spans = self._scan.spans
        if not self._scan.tests:
            return self._scan.task.rows
        rows = sum(span.stop - span.start for span in spans)
        pieces = [_middle(span) for span in spans[:: -(-len(spans) // _PIECES)]]
        passing = sum(len(self.passing(piece)) for piece in pieces)
        return passing * rows // sum(piece.stop - piece.start for piece in pieces)


def _middle(span: Span) -> Span:
    start = max(span.start, (span.start + span.stop - _PIECE_ROWS) // 2)
    return Span(start, min(start + _PIECE_ROWS, span.stop), span.free)


def _append(pending: _Batch, batch: _Batch) -> None:
    for known, part in zip(pending.keys, batch.keys, strict=True):
        known.extend(part)
    for collected, column in zip(pending.columns, batch.columns, strict=True):
        collected.extend(column)
    pending.rows += batch.rows


def _concatenated(parts: list[Column]) -> Column:
    if len(parts) == 1:
        return parts[0]
    nulls = None
    if any(part.nulls is not None for part in parts):
        nulls = np.concatenate([np.zeros(len(part), np.bool_) if part.nulls is None else part.nulls for part in parts])
    return Column(
        parts[0].type,
        np.concatenate([part.values for part in parts]),
        nulls,
        parts[0].dictionary,
        min(part.lower for part in parts),
        max(part.upper for part in parts),
    )


def _in_turn(action: Callable[[int], None], numbers: range) -> None:
    for number in numbers:
        action(number)


def _side_by_side(action: Callable[[int], None], numbers: range) -> None:
    shared_each(action, numbers, _refuse)


def _refuse() -> None:
    """Raise an error where a scan takes too long, or too much memory."""
    refuse_late()
    refuse_full()
