"""The SQL engine: a plan as one query, and the query's rows as an answer."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
from msgspec import Struct
from sqlglot import exp

from relatum.data.buffers import array_values, in_one_piece, positions_array
from relatum.data.columns import Array, Column
from relatum.data.types import INTEGER, TEXT, Kind, Type
from relatum.engine.openings import opened_members
from relatum.engine.sql.aggregates import AGGREGATE_FORMS
from relatum.engine.sql.cells import Cells, Reading, is_fixed
from relatum.engine.sql.decode import codes_of, held, member_codes
from relatum.engine.sql.dialects import Dialect
from relatum.engine.sql.evidence import SqlEvidence
from relatum.engine.sql.losses import Counted, counted_losses, counting
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rankings import cells_of
from relatum.engine.sql.rows import Rows
from relatum.engine.sql.scalars import FORMS
from relatum.engine.sql.sheet import Frame, KeyColumn, Sheet, Statement
from relatum.engine.sql.shown import SettledTop, Shown
from relatum.engine.sql.tables import Known
from relatum.engine.sql.terms import (
    Sql,
    aliased,
    all_of,
    any_of,
    cast,
    column,
    copied,
    equal,
    is_there,
    less,
    minus,
    negated,
    null,
    number,
    plus,
    sql_type,
    united,
)
from relatum.engine.sql.windows import comparable
from relatum.errors import LimitError, ValueOverflowError
from relatum.language.expression import is_plain
from relatum.language.register import AGGREGATES, RANKINGS, SCALARS, refuse_missing
from relatum.plan.engine import Answer, Evidence, LeftOut, Loss, Tied
from relatum.plan.engine import Cells as CellsOf
from relatum.plan.few import formulas_of
from relatum.plan.nodes import Derivation, GridGrain, Plan
from relatum.plan.parts import aggregations

refuse_missing(
    "SQL",
    [
        (SCALARS, FORMS),
        (AGGREGATES, AGGREGATE_FORMS),
        (RANKINGS, dict.fromkeys(("rank", "running", "previous", "next"))),
    ],
)


#: Rows of a query with this number or one below tell of the ties of a top, of the members that it hides, and count what
#: is to be noted; those from -1 on count the members of a top.
_TIES, _HIDDEN, _REMARKS = -300, -600, -1000


class Database(Protocol):
    """Where queries are answered."""

    @property
    def dialect(self) -> Dialect:
        """What it writes differently."""
        ...

    @property
    def opened(self) -> int:
        """How often it has been opened: tables sent before the last opening are gone."""
        ...

    def ask(self, statement: Statement) -> Any:
        """The answer of a query, as an Arrow table."""
        ...

    def send(self, rows: Any) -> Callable[[str], Sql]:
        """Send rows, an Arrow table, to be read from under an alias."""
        ...


class Compiled(Struct, frozen=True, eq=False):
    """A plan as a query; ``orders`` and ``values`` are how many columns of each a grain has at most.

    ``remarks`` are what the query counts where it holds, ``counted`` what another query counts.
    """

    statement: Statement
    values: tuple[Type, ...]
    orders: tuple[tuple[Type, ...], ...]
    keys: tuple[int, ...]
    remarks: tuple[Loss, ...]
    counted: tuple[Counted, ...]


class Worker:
    """Works out derived columns and tables within the query of a plan."""

    def derived_column(self, parts: Parts, derivation: Derivation) -> str:
        """The relation of a derived column's values, by row."""
        rows, start = Rows.of(parts, derivation.table)
        row = rows.row(start)
        if is_plain(derivation.formula.expression):
            value = rows.value(derivation.formula.expression, rows.reader(start))
            select = rows.select(aliased(row, "k0"), aliased(value.sql, "v"))
            return parts.sheet.add(derivation.column, select)
        cells = cells_of(parts, derivation.fields)
        name = parts.sheet.add(f"rows_of_{derivation.table}", rows.select(aliased(row, "k0")))
        frame = Frame(name, {0: KeyColumn("k0", None)})
        reading = Reading(cells, frame)
        value = reading.value(derivation.formula)
        select = reading.rows.select(*reading.columns(), aliased(value.sql, "v"))
        return parts.sheet.add(derivation.column, select)

    def derived_table(self, parts: Parts, table: str, plan: Plan, columns: tuple[str, ...]) -> str:
        """The rows of a derived table: members with a value, numbered in the order of its grain."""
        cells = cells_of(parts, plan.fields)
        (grain,) = plan.grains
        (frame,) = Shown(plan, cells).grains()
        reading = Reading(cells, frame)
        values = [reading.value(formula).sql for formula in grain.formulas]
        made: list[Sql] = []
        order: list[Sql] = []
        for key in grain.keys:
            own = reading.key(key)
            assert own.state is not None, "shown members have a state"
            reading.rows.where.append(less(own.state, number(2)))
            order += [
                exp.Ordered(this=comparable(parts.dialect, own.value.copy(), own.type)),
                exp.Ordered(this=own.state.copy()),
            ]
            made.append(exp.Case(ifs=[exp.If(this=equal(own.state.copy(), number(0)), true=own.value.copy())]))
        made += values
        if values:
            reading.rows.where.append(any_of(is_there(each.copy()) for each in values))
        number_of_row = exp.Window(this=exp.Anonymous(this="ROW_NUMBER"), order=exp.Order(expressions=order))
        named = [aliased(sql, name) for sql, name in zip(made, columns, strict=True)]
        return parts.sheet.add(table, reading.rows.select(*named, aliased(number_of_row, Parts.row_column)))


class SqlEngine:
    """Answers plans by queries.

    Parameters
    ----------
    database : Database
        Answers queries.
    tables : Known
        The tables, and facts about them.
    """

    def __init__(self, database: Database, tables: Known) -> None:
        self.database = database
        self.tables = tables
        self.compiled = lru_cache(maxsize=256)(self._compiled)
        self._counts: dict[Counted, int] = {}

    def look(self, plan: Plan, cell: Mapping[int, int]) -> Evidence:
        """Look into one cell of a plan."""
        return SqlEvidence(self, plan, cell)

    def parts(self, dialect: Dialect | None = None) -> Parts:
        """What a query is made of; values that are computed one by one have room for every number."""
        return Parts(Sheet(self.tables.names()), self.tables, dialect or self.database.dialect.roomy, Worker())

    def asked(self, sheet: Sheet, select: exp.Select | exp.Union) -> Any:
        """The answer to a query."""
        return self.database.ask(sheet.statement(select, self.database.dialect))

    def send(self, rows: Any) -> Callable[[str], Sql]:
        """Rows sent to the database, to be read from under an alias."""
        return self.database.send(rows)

    def run(self, plan: Plan) -> Answer:
        """The values of every grain of a plan."""
        dialect = self.database.dialect
        try:
            return self._answer(plan, dialect)
        except ValueOverflowError:
            if dialect.roomy is dialect:
                raise
            return self._answer(plan, dialect.roomy)

    def _answer(self, plan: Plan, dialect: Dialect) -> Answer:
        compiled = self.compiled(plan, dialect, self.database.opened)
        found = self.database.ask(compiled.statement)
        counts = self._count(compiled.counted)
        losses = [loss for each in compiled.counted for loss in each.losses(counts[each])]
        return _Decoder(plan, compiled, self.tables, found).answer(losses)

    def _count(self, counted: Sequence[Counted]) -> Mapping[Counted, int]:
        """Rows that are left out, counted once for as long as the data is the same."""
        wanted = [each for each in counted if each not in self._counts]
        if wanted:
            parts = self.parts()
            whole, groups = counting(parts, wanted)
            found = self.asked(parts.sheet, whole)
            for record in found.to_pylist():
                for place, each in enumerate(groups[int(record["g"])]):
                    self._counts[each] = int(record[f"n{place}"])
        return self._counts

    def query(self, plan: Plan) -> str:
        """The query that answers a plan."""
        return self.compiled(plan, self.database.dialect, self.database.opened).statement.whole

    def _compiled(self, plan: Plan, dialect: Dialect, opened: int) -> Compiled:
        """A plan as a query over the tables as they are after a number of openings."""
        parts = self.parts(dialect)
        cells = cells_of(parts, plan.fields)
        ranking = [formula for top in plan.tops for formula, _ in top.by]
        every = [*ranking, *(each for grain in plan.grains for each in (*grain.formulas, *grain.orders))]
        cells.families.prepare(node for node in aggregations(every, formulas_of) if is_fixed(node.bounds))
        shown = Shown(plan, cells)
        frames = shown.grains()
        values = _widest([[formula.expression.type for formula in grain.formulas] for grain in plan.grains])
        orders = tuple(tuple(formula.expression.type for formula in grain.orders) for grain in plan.grains)
        keys = tuple(dict.fromkeys(key for grain in plan.grains for key in grain.keys))
        branching = _Branching(cells)
        branches = [branching.grain(number_, grain, frame) for number_, (grain, frame) in enumerate(
            zip(plan.grains, frames, strict=True))]  # fmt: skip
        for at, settled in enumerate(shown.settled):
            branches += [branching.top(-1 - at, settled), branching.ties(_TIES - at, settled)]
            if plan.tells_hidden:
                branches.append(branching.hidden(_HIDDEN - at, settled))
        # Reading the values has found what is to be counted.
        remarks = tuple(loss for loss, _ in parts.remarks)
        branches += [branching.count(_REMARKS - at, select) for at, (_, select) in enumerate(parts.remarks)]
        layout = _Layout(keys, values, orders, 3 if shown.settled else 1 if remarks else 0, cells, branches)
        selects = [each.rows.select(*layout.columns(each)) for each in branches]
        statement = parts.sheet.statement(united(selects, distinct=False), parts.dialect)
        return Compiled(statement, values, orders, keys, remarks, tuple(counted_losses(parts, parts.aggregated)))


def _widest(types: Sequence[Sequence[Type]]) -> tuple[Type, ...]:
    """The types of values; a grain that has none says nothing."""
    found: list[Type] = []
    for each in types:
        for at, type_ in enumerate(each):
            if at == len(found):
                found.append(type_)
            elif found[at].kind is Kind.NULL:
                found[at] = type_
    return tuple(found)


def _best(settled: SettledTop) -> Sql:
    """Whether a ranked member is among the best."""
    place = exp.LTE(this=column("m", "place"), expression=number(settled.top.number))
    return all_of([is_there(column("m", "v0")), place])


class _Branch(Struct, frozen=True, eq=False):
    """Rows of the answer: the number of what they are, where they come from, and the columns that they have."""

    number: int
    rows: Rows
    made: Mapping[str, Sql]


class _Branching:
    """Makes the branches of a query."""

    def __init__(self, cells: Cells) -> None:
        self.cells = cells

    def grain(self, number_: int, grain: GridGrain, frame: Frame) -> _Branch:
        """The cells of one grain."""
        reading = Reading(self.cells, frame)
        values = [reading.value(formula).sql for formula in grain.formulas]
        orders = [reading.value(formula).sql for formula in grain.orders]
        made = {f"v{at}": value for at, value in enumerate(values)}
        made.update({f"o{number_}_{at}": value for at, value in enumerate(orders)})
        for key in grain.keys:
            own = reading.key(key)
            made[f"k{key}"] = own.value
            if own.state is not None:
                made[f"k{key}s"] = own.state
        return _Branch(number_, reading.rows, made)

    def top(self, number_: int, settled: SettledTop) -> _Branch:
        """How many different members a top leaves out, how many it chooses from, and how many of these had a value."""
        rows = self._rows(settled.ranked)
        out, state = negated(_best(settled)), column("m", f"k{settled.top.key}s")
        real = exp.Case(
            ifs=[exp.If(this=all_of([out, equal(state, number(0))]), true=column("m", f"k{settled.top.key}"))]
        )
        null_ = exp.Case(ifs=[exp.If(this=all_of([out.copy(), equal(state.copy(), number(1))]), true=number(1))])
        made: dict[str, Sql] = {
            "n0": plus(
                exp.Count(this=exp.Distinct(expressions=[real])),
                exp.Coalesce(this=exp.Max(this=null_), expressions=[number(0)]),
            ),
            "n1": exp.Count(this=exp.Star()),
            "n2": exp.Count(this=column("m", "v0")),
        }
        return _Branch(number_, rows, made)

    def ties(self, number_: int, settled: SettledTop) -> _Branch:
        """Under how many outer members ties let more stay than a top names; of one, the last place and its members."""
        rows = self._rows(settled.ranked)
        rows.where.append(_best(settled))
        outer = [each for key in settled.top.outer for each in (f"k{key}", f"k{key}s")]
        last, count = exp.Max(this=column("m", "place")), exp.Count(this=exp.Star())
        kept = rows.select(*copied("m", outer), aliased(last, "place"), aliased(count, "members"), grouped=len(outer))
        kept.set("having", exp.Having(this=exp.GT(this=count.copy(), expression=number(settled.top.number))))
        found = self._rows(self.cells.parts.sheet.add("tied", kept))
        shared = plus(minus(column("m", "members"), column("m", "place")), number(1))
        made: dict[str, Sql] = {
            "n0": exp.Count(this=exp.Star()),
            "n1": exp.Max(this=column("m", "place")),
            "n2": exp.Max(this=shared),
        }
        return _Branch(number_, found, made)

    def hidden(self, number_: int, settled: SettledTop) -> _Branch:
        """The members that a top hides, each under its outer ones."""
        names = [each for key in (*settled.top.outer, settled.top.key) for each in (f"k{key}", f"k{key}s")]
        made: dict[str, Sql] = {name: column("m", name) for name in names}
        return _Branch(number_, self._rows(settled.hidden), made)

    def _rows(self, relation: str) -> Rows:
        return Rows(self.cells.parts, "m", self.cells.parts.sheet.table(relation, "m"))

    def count(self, number_: int, select: exp.Select) -> _Branch:
        """A count of something to be noted."""
        sheet = self.cells.parts.sheet
        name = sheet.add("noted", select)
        rows = Rows(self.cells.parts, "n", sheet.table(name, "n"))
        return _Branch(number_, rows, {"n0": column("n", "n")})


class _Layout:
    """The columns that all branches of a query have; ``counts`` are those of what tops and remarks count.

    Which branch a row is of is said where there are several, and the state of a key where some branch has one.
    """

    def __init__(
        self,
        keys: tuple[int, ...],
        values: tuple[Type, ...],
        orders: tuple[tuple[Type, ...], ...],
        counts: int,
        cells: Cells,
        branches: Sequence[_Branch],
    ) -> None:
        self.keys, self.values, self.orders, self.counts, self.cells = keys, values, orders, counts, cells
        self.several = len(branches) > 1
        self.stated = {key for key in keys if any(f"k{key}s" in each.made for each in branches)}

    def columns(self, branch: _Branch) -> list[Sql]:
        """The columns of a branch, null where it has none of its own."""
        made = branch.made
        columns = [aliased(number(branch.number), "g")] if self.several else []
        for key in self.keys:
            type_ = self.cells.key_type(key)
            columns.append(self._column(f"k{key}", type_, made))
            if key in self.stated:
                real = {f"k{key}s": number(0)} if f"k{key}" in made else {}
                columns.append(self._column(f"k{key}s", INTEGER, {**real, **made}))
        for at, type_ in enumerate(self.values):
            columns.append(self._column(f"v{at}", type_, made))
        for grain, types in enumerate(self.orders):
            columns += [self._column(f"o{grain}_{at}", type_, made) for at, type_ in enumerate(types)]
        columns += [self._column(f"n{at}", INTEGER, made) for at in range(self.counts)]
        return columns

    def _column(self, name: str, type_: Type, made: Mapping[str, Sql]) -> Sql:
        if name not in made:
            return aliased(null(type_), name)
        value = made[name]
        if type_.kind is Kind.NULL:
            return aliased(null(TEXT), name)
        return aliased(value if type_ == TEXT else cast(value, sql_type(type_)), name)


class _Decoder:
    """Turns the rows of a query into an answer."""

    def __init__(self, plan: Plan, compiled: Compiled, tables: Known, found: Any) -> None:
        self.plan = plan
        self.compiled = compiled
        self.tables = tables
        self.found = {name: in_one_piece(found.column(name)) for name in found.column_names}
        several = self.found.get("g")
        self.grains = np.zeros(found.num_rows, np.int64) if several is None else array_values(several.cast(pa.int64()))
        self.members = tuple(tables.members(field.table, field.column) for field in plan.fields[: len(plan.axes)])

    def answer(self, losses: Sequence[Loss]) -> Answer:
        """The answer, with what its aggregates left out."""
        plan = self.plan
        field_of = {top.others: top.key for top in plan.tops}
        cells = []
        for number_, grain in enumerate(plan.grains):
            rows = np.flatnonzero(self.grains == number_)
            if len(rows) > plan.cell_limit:
                raise LimitError(
                    f"The grid would have {len(rows):,} combinations; the limit is {plan.cell_limit:,}.",
                    fix="Use a coarser column, filter, or raise the limit: cells under [limits], --limit-cells, "
                    "cell_limit.",
                )
            codes = [self._codes(key, rows, key in grain.others) for key in grain.keys]
            table = np.stack(codes, axis=1) if codes else np.zeros((len(rows), 0), np.int64)
            order = np.lexsort(table.T[::-1]) if codes else np.arange(len(rows))
            rows, table = rows[order], table[order]
            values = tuple(self._column(f"v{at}", each.expression.type, rows) for at, each in enumerate(grain.formulas))
            orders = tuple(
                self._column(f"o{number_}_{at}", each.expression.type, rows) for at, each in enumerate(grain.orders)
            )
            keys = tuple(field_of[key] if key in grain.others else key for key in grain.keys)
            cells.append(CellsOf(keys, table, values, orders, frozenset(field_of[key] for key in grain.others)))
        opened = {closing.key: self._opened(closing.key) for closing in plan.closings}
        noted = tuple(dict.fromkeys([*self._remarks(), *losses]))
        return Answer(tuple(cells), self.members, noted, tuple(self._left_out()), opened)

    def _remarks(self) -> list[Loss]:
        """What is to be noted of values: of what some was counted."""
        counts = {int(self.grains[row]): int(self.found["n0"][int(row)].as_py() or 0)
                  for row in np.flatnonzero(self.grains <= _REMARKS)}  # fmt: skip
        return [loss for at, loss in enumerate(self.compiled.remarks) if counts.get(_REMARKS - at)]

    def _left_out(self) -> list[LeftOut]:
        result = []
        for at, top in enumerate(self.plan.tops):
            hidden, competing, valued = self._counts(-1 - at)
            ties = self._counts(_TIES - at)
            tied = Tied(*ties) if ties[0] == 1 else Tied(ties[0]) if ties[0] else None
            codes = None
            if self.plan.tells_hidden:
                rows = np.flatnonzero(self.grains == _HIDDEN - at)
                codes = np.stack([self._codes(key, rows, False) for key in (*top.outer, top.key)], axis=1)
            result.append(LeftOut(top.key, hidden, bool(competing) and not valued, tied, codes))
        return result

    def _counts(self, number_: int) -> tuple[int, int, int]:
        (row,) = np.flatnonzero(self.grains == number_)
        one, other, last = (int(self.found[f"n{at}"][int(row)].as_py() or 0) for at in range(3))
        return one, other, last

    def _codes(self, key: int, rows: Array, others: bool) -> Array:
        taken = self._taken(f"k{key}", rows)
        if others:
            return array_values(taken.cast(pa.int64())).astype(np.int64) - 1
        type_ = self.plan.fields[key].type or TEXT
        if f"k{key}s" not in self.found:
            return member_codes(in_one_piece(taken), self.members[key], type_)
        return codes_of(taken, self._taken(f"k{key}s", rows), self.members[key], type_)

    def _column(self, name: str, type_: Type, rows: Array) -> Column:
        return held(self._taken(name, rows), type_)

    def _taken(self, name: str, rows: Array) -> Any:
        return self.found[name].take(positions_array(rows))

    def _opened(self, key: int) -> Any:
        closing = next(each for each in self.plan.closings if each.key == key)
        return opened_members(closing, self.members[key])
