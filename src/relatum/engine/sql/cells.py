"""Formulas on cells as SQL: every aggregate, nested or moved, as a relation that cells are joined to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Protocol, assert_never

from msgspec import Struct
from msgspec.structs import replace
from sqlglot import exp

from relatum.data.types import INTEGER, TEXT, Kind, Type
from relatum.engine.sql.aggregates import Given, aggregate
from relatum.engine.sql.dates import Dates
from relatum.engine.sql.families import Families
from relatum.engine.sql.orders import Orders
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import Key, Rows, frame_key, key_columns, same_key
from relatum.engine.sql.seen import Entry, Seen, Seer, SetRelation, key_in
from relatum.engine.sql.sheet import Frame, KeyColumn
from relatum.engine.sql.terms import (
    Sql,
    Value,
    aliased,
    any_of,
    case,
    column,
    copied,
    equal,
    is_there,
    less,
    none_without_rows,
    null,
    number,
)
from relatum.engine.sql.windows import comparable, counted
from relatum.language.expression import Expression, Slot
from relatum.model.routes import Place
from relatum.plan.dependencies import (
    kept_keys,
    kept_names,
    new_keys,
    node_keys,
    node_names,
)
from relatum.plan.engine import LeftOutMember
from relatum.plan.nodes import (
    Aggregation,
    Bounds,
    DateSet,
    Field,
    Formula,
    Hidden,
    Kept,
    Match,
    Named,
    Naming,
    Nested,
    PlanNode,
    RankedAmong,
    Visible,
)
from relatum.plan.nodes import (
    KeyColumn as KeyNode,
)
from relatum.plan.parts import only_aggregation, own_rows_key
from relatum.plan.slots import node_in, node_type


class Groups(Struct, frozen=True, eq=False):
    """A relation of values: what cells are compared by, and the column of the value."""

    name: str
    entries: tuple[tuple[Entry, KeyColumn], ...]
    value: str


class Reading:
    """Formulas read on the cells of a frame: a FROM to which what they need is joined.

    Parameters
    ----------
    cells : Cells
        Works out what formulas are made of.
    frame : Frame
        The cells.
    """

    def __init__(self, cells: Cells, frame: Frame) -> None:
        self.cells = cells
        self.frame = frame
        self.alias = cells.parts.alias("cell")
        self.rows = Rows(cells.parts, self.alias, cells.parts.sheet.table(frame.name, self.alias))
        self._joined: dict[PlanNode, Sql] = {}
        self._aliases: dict[object, str] = {}
        if frame.present:
            self.rows.where.append(any_of(is_there(column(self.alias, name)) for name in frame.present))

    def columns(self) -> list[Sql]:
        """The columns of the frame: its keys and named values."""
        return copied(self.alias, [*self.frame.key_names, *self.frame.names.values()])

    def key(self, key: int) -> Key:
        """One key of the cells."""
        return frame_key(self.frame, self.alias, key, self.cells.key_type(key))

    def value(self, formula: Formula) -> Value:
        """A formula's value in each cell."""
        return self.rows.value(formula.expression, self._leaf)

    def _leaf(self, expression: Expression) -> Value:
        assert isinstance(expression, Slot), "the formulas of a plan read cells through slots"
        node = node_in(expression)
        return Value(self.node(node), node_type(node), wide=False)

    def node(self, node: PlanNode) -> Sql:
        """A node's value in each cell."""
        match node:
            case Named(number_):
                return column(self.alias, self.frame.names[number_])
            case KeyNode():
                return self._key_value(node)
            case Aggregation() | Nested() | RankedAmong() | Naming():
                if node not in self._joined:
                    self._joined[node] = self.joined(self.cells.groups(node, self.frame))
                return self._joined[node].copy()
            case _:
                assert_never(node)

    def code(self, entry: Entry) -> Key:
        """What an entry of groups is compared with, in each cell."""
        if not entry.at:
            return self.key(entry.key)
        field = self.cells.fields[entry.key]
        row = self.rows.frame_row(self.frame, entry.key, field.table)
        return self.rows.key_along(row, Match(entry.key, (), entry.at, entry.table, ""))

    def joined(self, groups: Groups, *, left: bool = True) -> Sql:
        """Join groups to the cells that they belong to; where the cells are these groups, there is nothing to join."""
        if groups.name == self.frame.name and all(
            not entry.at and self.frame.keys.get(entry.key) == own for entry, own in groups.entries
        ):
            return column(self.alias, groups.value)
        # Several values of one relation need it once.
        own = (groups.name, left, tuple((entry, kept.names) for entry, kept in groups.entries))
        if own not in self._aliases:
            self._aliases[own] = self.join(groups.name, groups.entries, left=left)
        return column(self._aliases[own], groups.value)

    def join(self, name: str, entries: Iterable[tuple[Entry, KeyColumn]], *, left: bool) -> str:
        """Join a relation by its entries."""
        on = [part for entry, own in entries for part in same_key(key_in("?", own, entry.type), self.code(entry))]
        alias = self.cells.parts.alias(name)
        for part in on:
            for each in part.find_all(exp.Column):
                if each.table == "?":
                    each.set("table", exp.Identifier(this=alias, quoted=True))
        source = self.cells.parts.sheet.table(name, alias)
        if not on and left:
            on = [exp.true()]
        self.rows.join(source, on, left=left)
        return alias

    def _key_value(self, node: KeyNode) -> Sql:
        field = self.cells.fields[node.key]
        if field.column:
            own = self.key(node.key)
            if node.placed is not None:
                relation = self.cells.orders.places(field, node)
                alias = self.join(
                    relation, [(Entry(node.key, (), field.table, own.type), KeyColumn("k", "ks"))], left=True
                )
                return column(alias, "place")
            return own.value if own.state is None else case([(equal(own.state, number(0)), own.value)])
        row = self.rows.at(self.rows.frame_row(self.frame, node.key, field.table), node.route)
        if node.no_match:
            missing = self.rows.missing(row)
            return exp.false() if missing is None else missing
        return self.rows.column(row, node.column).sql


class Beside(Protocol):
    """Computes what depends on other members of a cell, and the notes on those left out."""

    def ranked(self, node: RankedAmong, frame: Frame) -> Groups:
        """The figures of current members among those that cells see."""
        ...

    def kept(self, kept: Kept, frame: Frame) -> SetRelation:
        """The members that cells keep."""
        ...

    def note_unmatched(
        self, text_: str, visible: Visible, formula: Formula, frame: Frame, *, condition: bool = False
    ) -> None:
        """Have it noted where a formula has a value for no match of a grain, which is left out."""
        ...


class Cells:
    """Works out the nodes of a plan; ``beside``, given afterwards, those that depend on other members.

    Parameters
    ----------
    parts : Parts
        What selects are made of.
    fields : sequence of Field
        The plan's keys.
    """

    def __init__(self, parts: Parts, fields: Sequence[Field]) -> None:
        self.parts = parts
        self.fields = fields
        #: The relation of hidden members, for each key that holds sets of them.
        self.hidden: dict[int, SetRelation] = {}
        self._groups: dict[tuple[PlanNode, str], Groups] = {}
        self._sets: dict[tuple[object, Place, str], SetRelation] = {}
        self.beside: Beside
        self.orders = Orders(parts)
        self._projected: dict[tuple[str, frozenset[int]], Frame] = {}
        self._one: Frame | None = None
        self.families = Families(parts, lambda what, place: self._set(what, place, None))

    def key_type(self, key: int) -> Type:
        """The type of a key's column."""
        if key in self.hidden:
            return INTEGER
        field = self.fields[key]
        if field.type is not None:
            return TEXT if field.type.kind is Kind.NULL else field.type
        return self.parts.stored(field.table).row_type

    def one(self) -> Frame:
        """The frame of one cell, which has no key."""
        if self._one is None:
            select = exp.Select(expressions=[aliased(number(1), "one")])
            self._one = Frame(self.parts.sheet.add("whole", select), {})
        return self._one

    def frame(
        self, hint: str, select: Sql, keys: Mapping[int, KeyColumn], names: Mapping[int, str] | None = None
    ) -> Frame:
        """A relation of cells."""
        return Frame(self.parts.sheet.add(hint, select), keys, names or {})

    def project(self, frame: Frame, keys: frozenset[int]) -> Frame:
        """The distinct cells by some of the keys."""
        kept = frozenset(key for key in keys if key in frame.keys)
        if kept == frozenset(frame.keys) and not frame.names and not frame.present:
            return frame
        if not kept:
            # A frame without cells asks for nothing; reading one cell anyway does no harm.
            return self.one()
        if (frame.name, kept) not in self._projected:
            own = {key: frame.keys[key] for key in sorted(kept)}
            reading = Reading(self, replace(frame, keys=own, names={}))
            made = self.frame("cells", reading.rows.select(*reading.columns(), distinct=True), own)
            self._projected[frame.name, kept] = made
        return self._projected[frame.name, kept]

    def with_values(
        self, frame: Frame, formulas: Sequence[Formula], hint: str = "values", comment: str = ""
    ) -> tuple[Frame, list[str]]:
        """A frame with the values of formulas as further columns."""
        reading = Reading(self, frame)
        values = [reading.value(formula) for formula in formulas]
        names = [f"v{at}" for at in range(len(values))]
        columns = [aliased(typed(value).sql, name) for value, name in zip(values, names, strict=True)]
        select = reading.rows.select(*reading.columns(), *columns)
        return Frame(self.parts.sheet.add(hint, select, comment), frame.keys, frame.names), names

    # -- nodes --------------------------------------------------------------------------------------------------------

    def groups(self, node: Aggregation | Nested | RankedAmong | Naming, frame: Frame) -> Groups:
        """The relation of a node's values, for the cells of a frame at least."""
        key = (node, "" if isinstance(node, Aggregation) and is_fixed(node.bounds) else frame.name)
        if key not in self._groups:
            self._groups[key] = self._made(node, frame)
        return self._groups[key]

    def _made(self, node: Aggregation | Nested | RankedAmong | Naming, frame: Frame) -> Groups:
        match node:
            case Aggregation():
                self.parts.work_out(node)
                if self.families.has(node):
                    shared = self.families.shared(node)
                    return Groups(shared.name, shared.entries, shared.value)
                return self._aggregation(node, self._narrow(node, frame))
            case Nested():
                return self._nested(node, self._narrow(node, frame))
            case RankedAmong():
                return self.beside.ranked(node, frame)
            case Naming():
                return self._naming(node, frame)
            case _:
                assert_never(node)

    def _narrow(self, node: PlanNode, frame: Frame) -> Frame:
        return frame if node_names(node) else self.project(frame, node_keys(node))

    def _naming(self, node: Naming, frame: Frame) -> Groups:
        for number_, value in zip(node.numbers, node.values, strict=True):
            frame, (name,) = self._named(frame, value, number_)
            frame = replace(frame, names={**frame.names, number_: name})
        done, (name,) = self.with_values(frame, [node.body])
        return Groups(done.name, self.plain(frame), name)

    def _named(self, frame: Frame, value: Formula, number_: int) -> tuple[Frame, list[str]]:
        reading = Reading(self, frame)
        name = f"n{number_}"
        others = [each for each in reading.columns() if each.alias != name]
        kept = {key: own for key, own in frame.names.items() if own != name}
        select = reading.rows.select(*others, aliased(typed(reading.value(value)).sql, name))
        return Frame(self.parts.sheet.add("named", select), frame.keys, kept), [name]

    def plain(self, frame: Frame) -> tuple[tuple[Entry, KeyColumn], ...]:
        """The keys of a frame as entries."""
        return tuple(
            (Entry(key, (), self.fields[key].table, self.key_type(key)), own) for key, own in frame.keys.items()
        )

    # -- aggregates over rows -----------------------------------------------------------------------------------------

    def seer(self, frame: Frame | None) -> Seer:
        """Makes the rows that the cells of a frame see; None where no set depends on cells."""
        return Seer(self.parts, lambda what, place: self._set(what, place, frame))

    def _set(self, what: DateSet | Kept | Hidden, place: Place, frame: Frame | None) -> SetRelation:
        match what:
            case Hidden(key=key):
                return self.hidden[key]
            case Kept():
                alike = "" if _is_free(what) or frame is None else frame.name
                own = (replace_match(what), Place(what.match.table), alike)
                if own not in self._sets:
                    self._sets[own] = self.beside.kept(what, frame or self.one())
                return self._sets[own]
            case DateSet():
                fixed = frame is None or _dates_fixed(what)
                dated = (replace(what, route=()), place, "" if fixed or frame is None else frame.name)
                if dated not in self._sets:
                    self._sets[dated] = Dates(self.parts, self.seer(frame)).relation(what, place)
                return self._sets[dated]
            case _:
                assert_never(what)

    def _aggregation(self, node: Aggregation, frame: Frame) -> Groups:
        self.parts.look_at(node.bounds.source, node.bounds.restrictions)
        seen = self.seer(frame).see(node.bounds, (), node.bounds.pinned)
        rows = seen.rows
        leaf = rows.reader(seen.start)
        values = [rows.value(argument, leaf) for argument in node.arguments]
        stored = self.parts.stored(node.bounds.source)
        hint = f"{node.function}_of_{node.bounds.source}"
        row = stored.row if node.function == "sole_row" else stored.order
        given = Given(self.parts.dialect, values, node.type, node.fraction, lambda: row(seen.start.alias))
        if not node.bounds.pinned:
            keys, entries = entry_columns(seen)
            return Groups(self.parts.sheet.add(hint, self._totalled(rows, keys, node.function, given)), entries, "v")
        return self._pinned(node, seen, given, hint)

    def _totalled(self, rows: Rows, keys: Sequence[Sql], function: str, given: Given) -> exp.Select:
        """An aggregate of each group of rows; without keys of all, where there are some."""
        total = typed(Value(aggregate(function, given), given.type)).sql
        select = rows.select(*keys, aliased(total, "v"), grouped=len(keys))
        if not keys:
            none_without_rows(select)
        return select

    def _pinned(self, node: Aggregation, seen: Seen, given: Given, hint: str) -> Groups:
        """An aggregate over the rows with the first or last value that cells see."""
        keys, entries = entry_columns(seen)
        columns = [aliased(value.sql, f"a{at}") for at, value in enumerate(given.values)]
        name = self._settled(node.bounds, seen, keys, [*columns, aliased(given.order(), "row_order")])
        rows = Rows(self.parts, "r", self.parts.sheet.table(name, "r"))
        values = [Value(column("r", f"a{at}"), each.type, each.wide) for at, each in enumerate(given.values)]
        own = replace(given, values=values, order=lambda: column("r", "row_order"))
        select = self._totalled(rows, copied("r", [each.alias for each in keys]), node.function, own)
        return Groups(self.parts.sheet.add(hint, select), entries, "v")

    def _settled(self, bounds: Bounds, seen: Seen, keys: Sequence[Sql], columns: Sequence[Sql]) -> str:
        """The rows with the first or last value of pinned columns, among those that a cell sees."""
        names = [each.alias for each in (*keys, *columns)]
        made = [*keys, *columns]
        for at, pin in enumerate(seen.pins):
            made.append(aliased(pin.value, f"p{at}"))
            made.append(aliased(number(0) if pin.state is None else pin.state, f"p{at}s"))
            names += [f"p{at}", f"p{at}s"]
        name = self.parts.sheet.add(f"rows_of_{bounds.source}", seen.rows.select(*made))
        for at, (pin, edge) in enumerate(zip(seen.pins, bounds.pinned, strict=True)):
            rows = Rows(self.parts, "r", self.parts.sheet.table(name, "r"))
            real = case(
                [
                    (
                        equal(column("r", f"p{at}s"), number(0)),
                        comparable(self.parts.dialect, column("r", f"p{at}"), pin.type),
                    )
                ]
            )
            best = self.parts.dialect.smallest(real, pin.type, edge.edge == "last")
            window = exp.Window(this=best, partition_by=[column("r", each.alias) for each in keys])
            marked = rows.select(*copied("r", names), aliased(window, "best"))
            rows = Rows(self.parts, "r", self.parts.sheet.table(self.parts.sheet.add("settled", marked), "r"))
            rows.where = [equal(column("r", f"p{at}s"), number(0)), equal(column("r", f"p{at}"), column("r", "best"))]
            name = self.parts.sheet.add("edge", rows.select(*copied("r", names)))
        return name

    # -- members of a cell --------------------------------------------------------------------------------------------

    def members(self, visible: Visible, frame: Frame, unmatched: bool = False) -> Frame:
        """The members that each cell sees: finer cells, with the new keys."""
        for bounds, matches in visible.parts:
            # Rows that are members themselves are noted by what is asked of them.
            noted = bool(frame.keys) or own_rows_key(bounds, matches) is None
            groups, own = self.part_members(bounds, matches, frame, noted=noted)
            reading = Reading(self, frame)
            alias = reading.join(groups.name, groups.entries, left=False)
            columns = reading.columns()
            keys = dict(frame.keys)
            for match, kept in zip(matches, own, strict=True):
                columns.append(aliased(column(alias, kept.value), f"k{match.key}"))
                keys[match.key] = KeyColumn(f"k{match.key}", None)
                if kept.state is None:
                    continue
                if unmatched or self.parts.nullable(Place(match.table), match.column) or not match.column:
                    columns.append(aliased(column(alias, kept.state), f"k{match.key}s"))
                    keys[match.key] = KeyColumn(f"k{match.key}", f"k{match.key}s")
                if not unmatched:
                    reading.rows.where.append(less(column(alias, kept.state), number(2)))
            frame = self.frame("members", reading.rows.select(*columns), keys, frame.names)
        return frame

    def part_members(
        self, bounds: Bounds, matches: Sequence[Match], frame: Frame, *, noted: bool = True
    ) -> tuple[Groups, list[KeyColumn]]:
        """The distinct members on the rows within bounds, by the cells that see them; ``noted`` if rows that a
        condition leaves out are to be noted.
        """
        if noted:
            self.parts.look_at(bounds.source, bounds.restrictions)
        seen = self.seer(frame).see(bounds, matches, bounds.pinned)
        keys, entries = entry_columns(seen)
        own: list[KeyColumn] = []
        columns: list[Sql] = []
        for match, key in zip(matches, seen.extra, strict=True):
            made, kept = key_columns(key, f"m{match.key}")
            columns += made
            own.append(kept)
        rows = seen.rows
        if bounds.pinned:
            name = self._settled(bounds, seen, keys, columns)
            rows = Rows(self.parts, "r", self.parts.sheet.table(name, "r"))
            keys, columns = (copied("r", [each.alias for each in part]) for part in (keys, columns))
        name = self.parts.sheet.add(f"members_of_{bounds.source}", rows.select(*keys, *columns, distinct=True))
        return Groups(name, entries, ""), own

    def _nested(self, node: Nested, frame: Frame) -> Groups:
        inner = only_aggregation(node)
        if inner is not None:
            return self._over_groups(node, inner, frame)
        if node.drops:
            self.beside.note_unmatched(node.text, node.visible, node.arguments[0], frame)
        members = self.members(node.visible, frame)
        reading = Reading(self, members)
        arguments = [typed(reading.value(argument)) for argument in node.arguments]
        conditions = [reading.value(condition).sql for condition in node.conditions]
        columns = [aliased(value.sql, f"a{at}") for at, value in enumerate(arguments)]
        columns.append(aliased(self._member_order(node, reading), "row_order"))
        reading.rows.where += conditions
        name = self.parts.sheet.add("per_member", reading.rows.select(*reading.columns(), *columns), node.text)
        return self._folded(node, name, frame, arguments)

    def _member_order(self, node: Nested, reading: Reading) -> Sql:
        """What puts members in order where they are rows: ``first`` and ``last`` go by it."""
        match = node.visible.parts[0][1][0]
        if match.column:
            return number(0)
        row = reading.rows.frame_row(reading.frame, match.key, match.table)
        return self.parts.stored(match.table).order(row.alias)

    def _folded(self, node: Nested, name: str, frame: Frame, arguments: Sequence[Value]) -> Groups:
        rows = Rows(self.parts, "m", self.parts.sheet.table(name, "m"))
        values = [Value(column("m", f"a{at}"), each.type) for at, each in enumerate(arguments)]
        if node.drops:
            rows.where.append(is_there(column("m", "a0")))
        given = Given(self.parts.dialect, values, node.type, node.fraction, lambda: column("m", "row_order"))
        select = self._totalled(rows, copied("m", frame.key_names), node.function, given)
        return Groups(self.parts.sheet.add(f"{node.function}_per", select, node.text), self.plain(frame), "v")

    def _over_groups(self, node: Nested, inner: Aggregation, frame: Frame) -> Groups:
        """A ``per`` of one aggregate: its groups are the members that have a value."""
        new = new_keys(node.visible)
        groups = self.groups(inner, frame)
        rows = Rows(self.parts, "m", self.parts.sheet.table(groups.name, "m"))
        rows.where.append(is_there(column("m", groups.value)))
        keys, entries = [], []
        for entry, own in groups.entries:
            if entry.key in new:
                if own.state is not None:
                    none = Rows(self.parts, "m", self.parts.sheet.table(groups.name, "m"))
                    none.where = [is_there(column("m", groups.value)), equal(column("m", own.state), number(2))]
                    self.parts.remark(LeftOutMember(node.text, entry.table), none.select(counted()))
                    rows.where.append(less(column("m", own.state), number(2)))
                continue
            keys += copied("m", own.names)
            entries.append((entry, own))
        value = Value(column("m", groups.value), inner.type)
        given = Given(self.parts.dialect, [value], node.type, node.fraction, lambda: number(0))
        select = self._totalled(rows, keys, node.function, given)
        return Groups(self.parts.sheet.add(f"{node.function}_per", select, node.text), tuple(entries), "v")


def entry_columns(seen: Seen) -> tuple[list[Sql], tuple[tuple[Entry, KeyColumn], ...]]:
    """The entries of rows as columns of a SELECT."""
    columns: list[Sql] = []
    entries = []
    for at, (entry, key) in enumerate(seen.entries):
        made, kept = key_columns(key, f"g{at}")
        columns += made
        entries.append((entry, kept))
    return columns, tuple(entries)


def typed(value: Value) -> Value:
    """A value of a type that the database also knows: an untyped null gets the type that represents it."""
    if value.type.kind is Kind.NULL:
        return Value(null(TEXT), value.type)
    return value


def is_fixed(bounds: Bounds) -> bool:
    """Whether the rows that cells see can be known without knowing the cells."""
    return all(map(_is_free, bounds.kept)) and all(map(_dates_fixed, bounds.dates))


def _is_free(kept: Kept | Hidden) -> bool:
    return isinstance(kept, Hidden) or not (kept_keys(kept) or kept_names(kept))


def _dates_fixed(dates: DateSet) -> bool:
    return all(map(_is_free, dates.kept)) and all(map(_dates_fixed, dates.within))


def replace_match(kept: Kept) -> Kept:
    """A kept set apart from where it is used."""
    return replace(kept, match=replace(kept.match, route=()))
