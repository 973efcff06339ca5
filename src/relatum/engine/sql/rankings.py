"""Members put beside one another: ranks, running sums, neighbours, and the best of them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlglot import exp

from relatum.data.types import FLOAT, INTEGER, Type
from relatum.engine.sql.cells import Cells, Groups, Reading, typed
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import Key, Rows, same_key
from relatum.engine.sql.seen import Entry, SetRelation, key_in
from relatum.engine.sql.sheet import Frame, KeyColumn
from relatum.engine.sql.terms import (
    Sql,
    aliased,
    at_most,
    bigint,
    blank,
    case,
    coalesce,
    column,
    copied,
    equal,
    is_null,
    is_there,
    number,
)
from relatum.engine.sql.unmatched import note_unmatched
from relatum.engine.sql.windows import call_window, comparable, counted, ordered, window
from relatum.language.expression import MemberOrder
from relatum.model.names import column_name
from relatum.plan.dependencies import kept_keys, kept_names, node_keys, node_names
from relatum.plan.engine import NullWinner
from relatum.plan.few import formulas_of
from relatum.plan.nodes import Field, Formula, Kept, Match, RankedAmong, Visible
from relatum.plan.nodes import KeyColumn as KeyNode
from relatum.plan.parts import decisive, lie_within, own_rows_key


class Rankings:
    """Works out what depends on other members of a cell.

    Parameters
    ----------
    cells : Cells
        Works out the formulas that members are put in order by.
    """

    def __init__(self, cells: Cells) -> None:
        self.cells = cells
        self.parts = cells.parts

    def ranked(self, node: RankedAmong, frame: Frame) -> Groups:
        """The figures of current members among those that cells see."""
        keys = node_keys(node)
        inside = node.formula.keys | (node.by.keys if node.by else frozenset())
        outer = keys - ({node.current} if isinstance(node.current, int) else frozenset())
        if isinstance(node.current, int) and node.current in inside:
            outer = keys
        narrow = frame if node_names(node) else self.cells.project(frame, outer)
        self.note_unmatched(node.text, node.visible, node.formula, narrow)
        members = self.cells.members(node.visible, narrow)
        ((_, (match,)),) = node.visible.parts
        reading = Reading(self.cells, members)
        value = typed(reading.value(node.formula))
        columns = [aliased(value.sql, "v")]
        if node.by is not None:
            columns.append(aliased(typed(reading.value(node.by)).sql, "b"))
        places = self._member_places(node, reading, match)
        columns += [aliased(place, f"o{at}") for at, place in enumerate(places)]
        name = self.parts.sheet.add("ranked", reading.rows.select(*reading.columns(), *columns), node.text)
        ranked = self._figures(node, name, narrow, members.keys[match.key], len(places), value.type)
        own = (Entry(match.key, (), match.table, self.cells.key_type(match.key)), members.keys[match.key])
        entries = (*self.cells.plain(narrow), own)
        return self._at_current(node, frame, Groups(ranked, entries, "r"))

    def _member_places(self, node: RankedAmong, reading: Reading, match: Match) -> list[Sql]:
        if node.function not in ("previous", "next"):
            return []
        if not match.column:
            row = reading.rows.frame_row(reading.frame, match.key, match.table)
            return [self.parts.stored(match.table).order(row.alias)]
        field = self.cells.fields[match.key]
        if node.order != MemberOrder():
            key = KeyNode(match.key, (), field.table, field.column, INTEGER, False, node.order)
            return [reading.node(key)]
        own = reading.key(match.key)
        return [number(0) if own.state is None else own.state, comparable(self.parts.dialect, own.value, own.type)]

    def _figures(self, node: RankedAmong, name: str, narrow: Frame, own: KeyColumn, places: int, type_: Type) -> str:
        rows = Rows(self.parts, "m", self.parts.sheet.table(name, "m"))
        cells = narrow.key_names
        kept = [*cells, *own.names]
        dialect = self.parts.dialect
        value = column("m", "v")
        by = (
            [ordered(self.parts.dialect, column("m", "b"), node.by.expression.type, node.descending)]
            if node.by is not None
            else []
        )
        match node.function:
            case "rank":
                order = [ordered(self.parts.dialect, value.copy(), type_, True)]
                ranks = window(call_window("RANK"), cells, order)
                figure: Sql = case([(is_there(value), bigint(ranks))])
            case "running":
                exact = type_ == INTEGER
                spec = exp.WindowSpec(kind="RANGE", start="UNBOUNDED", start_side="PRECEDING", end="CURRENT ROW")
                total = window(dialect.summed(value, exact), cells, by, spec)
                figure = dialect.finite(total) if node.type == FLOAT else dialect.total(total, node.type)
            case "previous" | "next":
                order = [*by, *(exp.Ordered(this=column("m", f"o{at}"), nulls_first=False) for at in range(places))]
                if not places:
                    order = by
                name_ = "LAG" if node.function == "previous" else "LEAD"
                figure = window(call_window(name_, value), cells, order)
            case _:
                raise AssertionError(f"{node.function} ranks")
        select = rows.select(*copied("m", kept), aliased(figure, "r"))
        return self.parts.sheet.add(node.function, select, node.text)

    def _at_current(self, node: RankedAmong, frame: Frame, groups: Groups) -> Groups:
        """The figures of the current members of cells."""
        if node_names(node):
            whole = frame
        else:
            whole = self.cells.project(frame, node_keys(node))
        reading = Reading(self.cells, whole)
        *outer, (entry, own) = groups.entries
        if isinstance(node.current, int):
            current = reading.key(node.current)
        else:
            row = reading.value(node.current)
            state = case([(is_null(row.sql), number(2))], number(0))
            current = Key(coalesce(row.sql.copy(), blank(entry.type)), state, entry.type)
        alias = self.parts.alias("ranked")
        on = [part for each, kept in outer for part in same_key(key_in(alias, kept, each.type), reading.code(each))]
        on += same_key(key_in(alias, own, entry.type), current)
        reading.rows.join(self.parts.sheet.table(groups.name, alias), on, left=False)
        select = reading.rows.select(*reading.columns(), aliased(column(alias, groups.value), "v"))
        return Groups(self.parts.sheet.add("current", select), self.cells.plain(whole), "v")

    # -- kept members -------------------------------------------------------------------------------------------------

    def kept(self, kept: Kept, frame: Frame) -> SetRelation:
        """The members that cells keep."""
        narrow = frame if kept_names(kept) else self.cells.project(frame, kept_keys(kept))
        formula = formulas_of(kept)[0]
        self.note_unmatched(kept.text, kept.members, formula, narrow, condition=kept.best is None)
        members = self._valued_rows(kept, narrow) or self.cells.members(kept.members, narrow)
        key = kept.match.key
        own = members.keys[key]
        ties = kept.best.ties if kept.best is not None else ()
        valued, names = self.cells.with_values(
            members, [formula, *(each for each, _ in ties)], "kept_values", kept.text
        )
        rows = Rows(self.parts, "m", self.parts.sheet.table(valued.name, "m"))
        cells = narrow.key_names
        kept_columns = [*cells, *own.names]
        if kept.best is None:
            rows.where.append(column("m", names[0]))
            name = self.parts.sheet.add("kept", rows.select(*copied("m", kept_columns)), kept.text)
        else:
            formulas = [(kept.formula, kept.best.edge == "top"), *ties]
            by = [(name, formula, down) for name, (formula, down) in zip(names, formulas, strict=True)]
            name = self.best(valued.name, cells, by, kept.best.number, kept_columns, kept.text)
            if kept.match.column and own.state is not None:
                null_kept = Rows(self.parts, "m", self.parts.sheet.table(name, "m"))
                null_kept.where.append(equal(column("m", own.state), number(1)))
                shown = column_name(kept.match.table, kept.match.column)
                self.parts.remark(NullWinner(kept.text, shown), null_kept.select(counted()))
        return SetRelation(name, self.cells.plain(narrow), own.names)

    def _valued_rows(self, kept: Kept, frame: Frame) -> Frame | None:
        """The rows of a table at which an aggregate has a value without which a member is not kept.

        None where none says so by itself, or it sees rows that are not visible as members.
        """
        key = own_rows_key(*kept.members.parts[0]) if len(kept.members.parts) == 1 else None
        if key is None or frame.keys or frame.names:
            return None
        ((bounds, _),) = kept.members.parts
        for node in decisive(formulas_of(kept)[0]):
            match node.bounds.matches:
                case (Match(key=own, at=(), column="") as match,) if own == key and self.cells.families.has(node):
                    groups = self.cells.groups(node, frame)
                    ((_, found),) = groups.entries
                    if found.state is None and lie_within(node.bounds, match, bounds):
                        return Frame(groups.name, {key: found})
        return None

    def best(
        self,
        relation: str,
        cells: Sequence[str],
        by: Sequence[tuple[str, Formula, bool]],
        most: int,
        columns: Sequence[str],
        comment: str = "",
    ) -> str:
        """The rows of a relation that are among the best of their cell; ties at the edge all are."""
        rows = Rows(self.parts, "m", self.parts.sheet.table(relation, "m"))
        order = [
            ordered(self.parts.dialect, column("m", name), formula.expression.type, down) for name, formula, down in by
        ]
        place = window(call_window("RANK"), list(cells), order)
        rows.where.append(is_there(column("m", by[0][0])))
        ranked = rows.select(*copied("m", columns), aliased(place, "place"))
        name = self.parts.sheet.add("places", ranked)
        rows = Rows(self.parts, "m", self.parts.sheet.table(name, "m"))
        rows.where.append(at_most(column("m", "place"), number(most)))
        return self.parts.sheet.add("best", rows.select(*copied("m", columns)), comment)

    def note_unmatched(
        self, text_: str, visible: Visible, formula: Formula, frame: Frame, *, condition: bool = False
    ) -> None:
        """Have it noted where a formula has a value for no match of a grain, which is left out."""
        note_unmatched(self.cells, text_, visible, formula, frame, condition=condition)


def cells_of(parts: Parts, fields: Sequence[Field]) -> Cells:
    """The evaluator of a plan's nodes."""
    cells = Cells(parts, fields)
    cells.beside = Rankings(cells)
    return cells
