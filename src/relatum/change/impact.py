"""What depends on a table, column, relationship or measure: what breaks without it, and what would say less."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

from msgspec import Struct

from relatum import markup
from relatum.audit.understood import routes_used
from relatum.errors import FormulaError, ModelError
from relatum.language.mentions import Known, Mention, RequestPart, mentions, request_mentions
from relatum.model.declaration import Control, Declaration, Relationship, SavedPivot
from relatum.model.key_lines import KeyPath
from relatum.model.links import ARROWS, parse_link
from relatum.model.looks import ReportPart, StyleRule
from relatum.model.names import column_name, quoted, split_name
from relatum.model.routes import Route
from relatum.session.session import Session
from relatum.wording import listed, suggestion, visible_lines

#: The kinds of things that a model has.
Kind = Literal[
    "table", "column", "relationship", "measure", "hierarchy", "control", "pivot", "report", "part", "setting"
]


class Thing(Struct, frozen=True):
    """Something in a model. ``name`` is how a person writes it: ``sales``, ``sales.quantity``, a link, ``control 2``.

    ``kind`` is ``table``, ``column``, ``relationship``, ``measure``, ``hierarchy``, ``control``, ``pivot`` (a
    saved one), ``report``, ``part`` (of a report, or one of its figures), or ``setting``: a table's key, a column's
    order. What has no name of its own has a ``place`` in the model: ``("table", "sales", "key")``.
    """

    kind: Kind
    name: str
    place: KeyPath = ()

    def __str__(self) -> str:
        return self.name if self.kind in ("control", "setting", "part", "report") else f"{self.kind} {self.name}"


class Dependant(Struct, frozen=True):
    """Something that depends on another. ``path`` leads from it, step by step, to the thing asked about."""

    kind: Kind
    name: str
    effect: str
    path: tuple[str, ...]
    place: KeyPath = ()

    @property
    def called(self) -> str:
        """What it is called among others: its kind, unless its name begins with that, and its name."""
        return self.name if self.name.startswith(f"{self.kind} ") else f"{self.kind} {self.name}"


class Impact(Struct, frozen=True):
    """What would happen if one thing went away: what breaks, and what loses a filter or lookup but still has a value.

    A renamed thing is followed by all that names it: the same list says what is rewritten.
    """

    thing: str
    kind: Kind
    breaks: tuple[Dependant, ...]
    changes: tuple[Dependant, ...]

    def __str__(self) -> str:
        return visible_lines("\n".join(self.lines()))

    def blocks(self) -> list[markup.Block]:
        """The impact in blocks, for whatever draws them."""
        blocks: list[markup.Block] = [markup.line(f"{self.kind} {self.thing}", bold=True)]
        if not self.breaks and not self.changes:
            return [*blocks, markup.line("nothing depends on it")]
        rows: list[markup.Row] = [
            _line(markup.Text("breaks", tone="bad"), each.kind, each.name, " <- ".join(each.path[1:]))
            for each in self.breaks
        ]
        # Many measures lose the same filter: they are reported together.
        together: dict[tuple[str, str], list[str]] = {}
        for each in self.changes:
            together.setdefault((each.kind, each.effect), []).append(each.name)
        rows += [
            _line(markup.Text("changes", tone="notable"), kind, ", ".join(dict.fromkeys(names)), effect)
            for (kind, effect), names in together.items()
        ]
        return [*blocks, markup.Table([["", "kind", "name", "because of"]], rows)]

    def _repr_html_(self) -> str:
        return markup.html(self.blocks())

    def lines(self) -> Iterator[str]:
        """The impact as lines of text."""
        yield f"{self.kind} {self.thing}"
        for each in self.breaks:
            yield f"breaks   {each.called}  ({' <- '.join(each.path)})"
        for each in self.changes:
            yield f"changes  {each.called}: {each.effect}"
        if not self.breaks and not self.changes:
            yield "nothing depends on it"


def _line(what: markup.Text, kind: str, name: str, reason: str) -> markup.Row:
    return [what, kind, markup.Text(name, prose=True), markup.Text(reason, tone="faint", prose=True)]


def find_thing(declaration: Declaration, columns: dict[str, list[str]], name: str) -> Thing:
    """The thing that a name refers to.

    Raises
    ------
    ModelError
        There is nothing of that name.
    """
    if any(arrow in name for arrow in ARROWS):
        related = find_relationship(declaration, name)
        return Thing("relationship", str(related))
    if name.startswith("control "):
        number = name.removeprefix("control ")
        if not number.isdigit() or not 1 <= int(number) <= len(declaration.controls):
            raise ModelError(f"There is no {name}.", fix=f"The model has {len(declaration.controls)} controls.")
        return Thing("control", name, ("control", int(number)))
    if name.startswith("report ") and name.removeprefix("report ") in declaration.reports:
        return Thing("report", name, ("report", name.removeprefix("report ")))
    parts = split_name(name)
    if len(parts) == 1:
        named: tuple[tuple[Kind, Iterable[str]], ...] = (
            ("table", declaration.tables),
            ("measure", declaration.measures),
            ("hierarchy", declaration.hierarchies),
            ("pivot", declaration.pivots),
        )
        for kind, known in named:
            if parts[0] in known:
                return Thing(kind, quoted(parts[0]))
    if len(parts) == 2 and parts[1] in columns.get(parts[0], ()):
        return Thing("column", column_name(*parts))
    every = [*declaration.tables, *declaration.measures, *declaration.hierarchies, *declaration.pivots]
    every += [column_name(table, column) for table, own in columns.items() for column in own]
    raise ModelError(f"The model has nothing called {name}.", fix=suggestion(name, every))


def find_relationship(declaration: Declaration, link: str) -> Relationship:
    """The relationship that a link means, whichever end is named first.

    Raises
    ------
    ModelError
        There is no such relationship.
    """
    left, right, _ = parse_link(link)
    for each in declaration.relationships:
        if {each.many, each.one} == {left, right}:
            return each
    raise ModelError(
        f"There is no relationship {link}.", fix=suggestion(link, map(str, declaration.relationships), noun="link")
    )


@dataclass(frozen=True)
class Dependencies:
    """Which thing needs which others, from every formula and setting of a model."""

    session: Session
    #: What each thing needs: it breaks without any of these.
    needs: dict[Thing, dict[Thing, None]] = field(default_factory=dict)
    #: Through which relationships each formula's values can be filtered, and by which tables.
    filters: dict[Thing, dict[Thing, set[str]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._tables()
        self._relationships()
        self._formulas()
        for name, hierarchy in self.declaration.hierarchies.items():
            own = Thing("hierarchy", quoted(name))
            for level in hierarchy.levels:
                self._need(own, self._column(*split_name(level)))
        for number, control in enumerate(self.declaration.controls, 1):
            self._control(number, control)
        for name, pivot in self.declaration.pivots.items():
            self._request(Thing("pivot", quoted(name)), parts_of(pivot))
        for name, report in self.declaration.reports.items():
            for number, part in enumerate(report.part, 1):
                self._report_part(Thing("part", f"{number} of report {name}", ("report", name, number)), part)
        for thing, place, rules in styles_of(self.declaration):
            if rules:
                own = Thing("setting", f"style of {thing.name}", place)
                self._request(own, parts_of_rules(rules))
                # A rule that reads the measure or column that it is of goes with it, and is not broken by that.
                self.needs[own].pop(thing, None)

    @property
    def declaration(self) -> Declaration:
        """The model."""
        return self.session.declaration

    @cached_property
    def columns(self) -> dict[str, list[str]]:
        """The names of each table's columns."""
        return {name: list(self.session.catalog.columns(name)) for name in self.declaration.tables}

    @cached_property
    def known(self) -> Known:
        """The names that formulas can use."""
        return Known(self.columns, self.declaration.measures, self.declaration.hierarchies)

    def find(self, name: str) -> Thing:
        """The thing that a name refers to; raises a ModelError if there is none."""
        return find_thing(self.declaration, self.columns, name)

    def impact(self, name: str) -> Impact:
        """What depends on a thing, directly or through others."""
        thing = self.find(name)
        broken: dict[Thing, tuple[str, ...]] = {thing: (str(thing),)}
        pending = [thing]
        while pending:
            here = pending.pop(0)
            for other, needed in self.needs.items():
                if here in needed and other not in broken:
                    broken[other] = (str(other), *broken[here])
                    pending.append(other)
        # The columns of a table go with it, so they are not listed.
        own = {self._column(*each) for each in self._columns_of(thing)}
        breaks = [
            Dependant(each.kind, each.name, "breaks", path, each.place)
            for each, path in broken.items()
            if each != thing and each not in own
        ]
        gone = {each for each in broken if each.kind in ("relationship",)}
        changes = [
            Dependant(
                other.kind,
                other.name,
                f"no longer filtered by {listed(sorted(map(quoted, through[lost])))}",
                (str(other), *broken[lost]),
            )
            for other, through in self.filters.items()
            if other not in broken
            for lost in gone
            if lost in through
        ]
        order = ["column", "measure", "table", "hierarchy", "setting", "relationship", "control", "pivot", "part"]
        # The parts of a report have no names: they are reported in their order.
        places = {each.name: place for place, each in enumerate(self.needs) if each.kind == "part"}
        breaks.sort(key=lambda each: (order.index(each.kind), places.get(each.name, 0) if each.kind == "part" else 0))
        return Impact(thing.name, thing.kind, tuple(breaks), tuple(changes))

    def _columns_of(self, thing: Thing) -> list[tuple[str, str]]:
        if thing.kind != "table":
            return []
        (table,) = split_name(thing.name)
        return [(table, column) for column in self.columns[table]]

    # -- edges --------------------------------------------------------------------------------------------------------

    def _report_part(self, own: Thing, part: ReportPart) -> None:
        self._request(own, ((part.where, "where"),) if part.where else ())
        if part.against:
            self._request(own, ((f"0[{part.against}]", "values"),))
        self._need(own, *([Thing("pivot", quoted(part.pivot))] if part.pivot else []))
        for number, figure in enumerate(part.figures, 1):
            place = (*own.place, number)
            self._request(Thing("part", f"{own.name}, figure {number}", place), ((figure, "values"),))

    def _need(self, thing: Thing, *needed: Thing) -> None:
        self.needs.setdefault(thing, {}).update(dict.fromkeys(each for each in needed if each != thing))

    def _column(self, table: str, column: str) -> Thing:
        return Thing("column", column_name(table, column))

    def _tables(self) -> None:
        for name, table in self.declaration.tables.items():
            own = Thing("table", quoted(name))
            self._need(own)
            for column in self.columns[name]:
                self._need(self._column(name, column), own)
                if table.role_of:
                    self._need(self._column(name, column), self._column(table.role_of, column))
            if table.role_of:
                self._need(own, Thing("table", quoted(table.role_of)))
            place: KeyPath = ("table", name)
            for column in table.key if table.calendar is None else ():
                key = Thing("setting", f"key of {quoted(name)}", (*place, "key"))
                self._need(key, self._column(name, column))
            for column, each in table.columns.items():
                if each.order_by:
                    order = f"order of {column} of {quoted(name)}"
                    own_order = Thing("setting", order, (*place, "column", column, "order_by"))
                    self._need(own_order, self._column(name, each.order_by))
            through = table.calendar.through if table.calendar else ""
            if isinstance(through, str) and through:
                end = Thing("setting", f"end of the data of {quoted(name)}", (*place, "calendar", "through"))
                self._need(end, self._column(*split_name(through)))
            for column in table.per:
                self._need(own, self._column(*split_name(column)))

    def _relationships(self) -> None:
        for each in self.declaration.relationships:
            own = Thing("relationship", str(each))
            for end in (each.many, each.one):
                self._need(own, *(self._column(end.table, column) for column in end.columns))

    def _formulas(self) -> None:
        session = self.session
        for name, table in self.declaration.tables.items():
            for column, derived in table.derived.items():
                own = self._column(name, column)
                self._formula(own, derived.formula, name)
                self._routes(own, *routes_used(session, session.derived_formula(name, column), name))
            for formula in table.formulas.values():
                own = Thing("table", quoted(name))
                self._formula(own, formula)
                self._routes(own, *routes_used(session, session.formulas.formula(formula)))
        for name, measure in self.declaration.measures.items():
            own = Thing("measure", quoted(name))
            self._formula(own, measure.formula)
            self._routes(own, *routes_used(session, session.formulas.measure(name)))

    def _request(self, own: Thing, parts: Iterable[tuple[str, RequestPart]]) -> None:
        self._need(own)
        for text, part in parts:
            with suppress(FormulaError):  # check tells what is wrong with it
                self._need(own, *map(thing_of, request_mentions(text, part, self.known)))

    def _formula(self, own: Thing, text: str, home: str = "") -> None:
        for mention in mentions(text, self.known, home):
            self._need(own, thing_of(mention))

    def _routes(self, own: Thing, lookups: list[Route], filters: list[Route]) -> None:
        for route in lookups:
            for hop in route:
                if hop.relationship is not None:
                    self._need(own, Thing("relationship", str(hop.relationship)))
        through = self.filters.setdefault(own, {})
        for route in filters:
            for hop in route:
                if hop.relationship is not None:
                    related = Thing("relationship", str(hop.relationship))
                    through.setdefault(related, set()).add(route[-1].target.table)

    def _control(self, number: int, control: Control) -> None:
        own = Thing("control", f"control {number}", ("control", number))
        self._need(own, Thing("measure", quoted(control.measure)))
        for column in control.at:
            parts = split_name(column)
            if len(parts) == 2:
                self._need(own, self._column(*parts))


def parts_of(pivot: SavedPivot) -> Iterator[tuple[str, RequestPart]]:
    """The texts of a saved pivot with what each of them is."""
    for axis in (*pivot.rows, *pivot.columns):
        yield axis, "axis"
    for value in pivot.values:
        yield value, "values"
    if pivot.where:
        yield pivot.where, "where"
    if pivot.keep:
        yield pivot.keep, "keep"
    yield from parts_of_rules(pivot.style)


def parts_of_rules(rules: Iterable[StyleRule]) -> Iterator[tuple[str, RequestPart]]:
    """The texts of style rules with what each of them is."""
    for rule in rules:
        if rule.when:
            yield rule.when, "values"
        if rule.field:
            yield rule.field, "axis"


def styles_of(declaration: Declaration) -> Iterator[tuple[Thing, KeyPath, tuple[StyleRule, ...]]]:
    """The measures and columns with their style rules, and where in the model these are."""
    for name, measure in declaration.measures.items():
        yield Thing("measure", quoted(name)), ("measure", name, "style"), measure.style
    for table in declaration.tables.values():
        for name, column in table.columns.items():
            place = ("table", table.name, "column", name, "style")
            yield Thing("column", column_name(table.name, name)), place, column.style


def thing_of(mention: Mention) -> Thing:
    """The thing that a mention in a formula names."""
    if mention.kind == "column":
        return Thing("column", column_name(mention.table, mention.name))
    return Thing(mention.kind, quoted(mention.name))
