"""The memory engine: which combinations a grid shows, then the values of every grain."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from relatum.data.columns import Column, text_column
from relatum.engine.memory.aggregates import AGGREGATE_KERNELS
from relatum.engine.memory.evaluate import Evaluator
from relatum.engine.memory.evidence import MemoryEvidence
from relatum.engine.memory.frames import Frame
from relatum.engine.memory.kernels import KERNELS
from relatum.engine.memory.ranks import RANKING_KERNELS
from relatum.engine.memory.rows import RowReader
from relatum.engine.memory.shown import Shown
from relatum.engine.memory.store import MemoryStore
from relatum.errors import RequestError
from relatum.language.expression import is_plain
from relatum.language.register import AGGREGATES, RANKINGS, SCALARS, refuse_missing
from relatum.plan.engine import Answer, Cells
from relatum.plan.nodes import Derivation, Plan
from relatum.plan.reads import reads_of

refuse_missing("memory", [(SCALARS, KERNELS), (AGGREGATES, AGGREGATE_KERNELS), (RANKINGS, RANKING_KERNELS)])


class MemoryEngine:
    """Answers plans from arrays in memory.

    Parameters
    ----------
    store : MemoryStore
        The loaded tables and derived columns.
    """

    def __init__(self, store: MemoryStore) -> None:
        self.store = store

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan."""
        reads = reads_of(plan)
        # What relationships compare is read where a join is not found in the cache.
        kept = reads.keys if self.store.joins is not None else ()
        self.store.read_ahead([each for each in reads.columns if each not in kept], reads.texts)
        evaluator = Evaluator(self.store, plan.fields, len(plan.axes))
        ranking = [formula for top in plan.tops for formula, _ in top.by]
        evaluator.prepare([*ranking, *(each for grain in plan.grains for each in (*grain.formulas, *grain.orders))])
        cells = []
        finder = Shown(plan, evaluator)
        shown = finder.grains()
        field_of = {top.others: top.key for top in plan.tops}
        for grain, codes in zip(plan.grains, shown, strict=True):
            frame = Frame(len(codes), {key: codes[:, at] for at, key in enumerate(grain.keys)})
            values = tuple(evaluator.values(formula, frame) for formula in grain.formulas)
            orders = tuple(evaluator.values(formula, frame) for formula in grain.orders)
            keys = tuple(field_of[key] if key in grain.others else key for key in grain.keys)
            cells.append(Cells(keys, codes, values, orders, frozenset(field_of[key] for key in grain.others)))
        opened = {closing.key: finder.opened(closing.key) for closing in plan.closings}
        members = tuple(self.store.members(field.table, field.column) for field in plan.fields[: len(plan.axes)])
        return Answer(tuple(cells), members, tuple(dict.fromkeys(evaluator.losses())), tuple(finder.left_out), opened)

    def query(self, plan: Plan) -> str:
        """The query that answers a plan: memory is asked none."""
        raise RequestError(
            "The tables are in memory, so there is no query to show.",
            fix='Choose an engine: engine="duckdb", or --engine duckdb in the shell.',
        )

    def look(self, plan: Plan, cell: Mapping[int, int]) -> MemoryEvidence:
        """Look into one cell of a plan."""
        return MemoryEvidence(self.store, plan, cell)


def derived_column(store: MemoryStore, derivation: Derivation) -> Column:
    """The values of a derived column: one for each row of its table.

    Parameters
    ----------
    store : MemoryStore
        The tables, with the derived columns that this one needs.
    derivation : Derivation
        The column.

    Returns
    -------
    Column
        As long as the table.

    Raises
    ------
    DataError, ValueOverflowError
        A value cannot be worked out exactly.
    """
    if is_plain(derivation.formula.expression):
        return _in_use(RowReader(store, derivation.table).whole(derivation.formula.expression))
    rows = store.tables.data[derivation.table].rows
    evaluator = Evaluator(store, derivation.fields, 0)
    return _in_use(evaluator.values(derivation.formula, Frame(rows, {0: np.arange(rows)})))


def _in_use(column: Column) -> Column:
    """A column whose texts are just those that some row has, and so its members."""
    if column.dictionary is None:
        return column
    return text_column(column.type, column.values.astype(np.int64), column.dictionary, column.nulls)
