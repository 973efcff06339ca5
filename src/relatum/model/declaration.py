"""The declaration: everything a person states about a model, as immutable records.

An edit returns a new declaration; a refused edit leaves the old one as it was.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import date
from types import MappingProxyType
from typing import Literal, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from relatum.errors import ModelError
from relatum.model.looks import PLAIN, USUAL, Format, Report, StyleRule, Theme
from relatum.model.names import column_name, literal, quoted, split_name
from relatum.runtime.limits import read_limits
from relatum.wording import suggestion

T = TypeVar("T")
_REPLACE = "Choose another name, or pass replace=True."

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")


class End(Struct, frozen=True):
    """One end of a relationship: a table and the columns that are compared."""

    table: str
    columns: tuple[str, ...]

    def __str__(self) -> str:
        if len(self.columns) == 1:
            return column_name(self.table, self.columns[0])
        return f"{quoted(self.table)}.({', '.join(map(quoted, self.columns))})"


class Relationship(Struct, frozen=True):
    """Many rows of ``many`` point to one row of ``one``.

    ``kind`` is ``many_to_one``, ``one_to_one``, or ``many_to_many``, where ``many`` is just the left end and ``one``
    the right one. ``direction`` is ``down`` (filters travel from the one side to the many side), ``both``, or ``off``
    (none do; the relationship only answers lookups); for many to many ``left``, ``right`` or ``both``: where filters
    travel to. ``match`` is ``equal``, or ``as_of``: the last column then finds the latest value that is not after it.
    With ``level`` the one side's columns need not be unique: they imply a table of their distinct values. A
    ``standby`` relationship is used only where a formula says ``via``.
    """

    many: End
    one: End
    direction: str = "down"
    match: str = "equal"
    level: bool = False
    kind: str = "many_to_one"
    standby: bool = False

    def __str__(self) -> str:
        arrow = {"many_to_one": "->", "one_to_one": "<->", "many_to_many": ">-<"}[self.kind]
        return f"{self.many} {arrow} {self.one}"


class ColumnSettings(Struct, frozen=True):
    """What a person adds to one column: a type to read it as, a label, the column its members are sorted by.

    ``heading`` is the column's name in the source, where the model gives it another; ``pattern`` is how the source
    writes a date as text, a date pattern of Unicode CLDR. ``null`` are the texts that mean null in this column, beside
    those of its table. ``format`` is how its members are written, a number or date pattern; ``colours`` gives members,
    as they are written, a colour wherever they are drawn, and ``style`` has rules for them. ``hidden`` is a column that
    formulas can name and that no list for people has.
    """

    type: str = ""
    label: str = ""
    order_by: str = ""
    about: str = ""
    heading: str = ""
    pattern: str = ""
    null: tuple[str, ...] = ()
    format: str = ""
    colours: Mapping[str, str] = field(default_factory=lambda: MappingProxyType({}))
    style: tuple[StyleRule, ...] = ()
    hidden: bool = False


#: What the entry of a derived column can say besides its formula: settings as any column has them.
BESIDE_FORMULA = ("label", "format", "order_by")


class Derived(Struct, frozen=True):
    """A derived column: a formula that has a value for each row of its table.

    Its label, format and order are among the settings of the table's columns; ``stated`` names those that the model
    file says beside the formula.
    """

    name: str
    formula: str
    about: str = ""
    stated: tuple[str, ...] = ()


class CalendarRange(Struct, frozen=True):
    """A calendar to generate: every date of a range, with its years, months and weeks.

    ``through`` is where the data ends: a fact's date column, as ``sales.sold_on``, or a date.
    """

    first: date
    last: date
    fiscal_year_starts: int = 1
    week_starts: str = "monday"
    through: str | date = ""


class Table(Struct, frozen=True):
    """A table: where its rows come from and what is stated about its columns.

    ``calendar`` is one to generate; ``dated`` says that the table's own key is a date, which makes it a calendar too.
    A derived table has one row per member of the columns ``per``, with ``formulas`` by name. ``part`` is the sheet or
    table of a workbook or database that ``source`` names, ``query`` what to ask the database instead. ``null`` are the
    texts that mean null in it, ``footer`` says how many lines at the end of a text file are not rows, ``headings`` that
    equal and missing headings are numbered. A role has a ``label``, and labels of its own for ``columns``.
    """

    name: str
    source: str = ""
    frame: bool = False
    key: tuple[str, ...] = ()
    about: str = ""
    role_of: str = ""
    calendar: CalendarRange | None = None
    dated: bool = False
    per: tuple[str, ...] = ()
    formulas: Mapping[str, str] = field(default_factory=lambda: MappingProxyType({}))
    columns: Mapping[str, ColumnSettings] = field(default_factory=lambda: MappingProxyType({}))
    derived: Mapping[str, Derived] = field(default_factory=lambda: MappingProxyType({}))
    part: str = ""
    query: str = ""
    null: tuple[str, ...] = ()
    footer: int = 0
    headings: Literal["", "numbered"] = ""
    label: str = ""


EngineKind = Literal["memory", "duckdb", "postgresql", "spark"]


class EngineChoice(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which engine holds a model's data and answers: its kind, its address, and the schema of its tables.

    In a file ``engine = "duckdb"`` says the kind alone.
    """

    kind: EngineKind
    address: str = ""
    schema: str = ""


class Measure(Struct, frozen=True):
    """A named formula that has a value in any filter context.

    ``format`` is its number pattern, ``writing`` what else there is to say about how its values are written; ``label``
    heads them where a request gives no other.
    """

    name: str
    formula: str
    format: str = ""
    about: str = ""
    unrelated: str = "blank"
    label: str = ""
    writing: Format = PLAIN
    style: tuple[StyleRule, ...] = ()

    @property
    def written(self) -> Format:
        """How its values are written."""
        return Format(pattern=self.format).over(self.writing)


class Control(Struct, frozen=True):
    """A control total: the value a measure must have in a context."""

    measure: str
    at: Mapping[str, object]
    equals: object
    tolerance: float = 0

    @property
    def condition(self) -> str:
        """The condition that its context says: ``calendar.year = 2023``."""
        return " and ".join(f"{column} = {literal(value)}" for column, value in self.at.items())


class Hierarchy(Struct, frozen=True):
    """Columns from coarse to fine, each as ``table.column``; on an axis the hierarchy's name means all of them."""

    name: str
    levels: tuple[str, ...]
    about: str = ""


class SavedPivot(Struct, frozen=True):
    """A request kept in the model, its parts the texts that a pivot is asked in."""

    name: str
    rows: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    values: tuple[str, ...] = ()
    where: str = ""
    keep: str = ""
    totals: bool = True
    show_empty: bool = False
    values_on: str = ""
    about: str = ""
    style: tuple[StyleRule, ...] = ()


class Declaration(Struct, frozen=True):
    """A whole model as stated. All mappings keep the order in which a person wrote them."""

    name: str = "model"
    locale: str = "en"
    currency: str = "EUR"
    timezone: str = "UTC"
    tables: Mapping[str, Table] = field(default_factory=lambda: MappingProxyType({}))
    relationships: tuple[Relationship, ...] = ()
    measures: Mapping[str, Measure] = field(default_factory=lambda: MappingProxyType({}))
    hierarchies: Mapping[str, Hierarchy] = field(default_factory=lambda: MappingProxyType({}))
    controls: tuple[Control, ...] = ()
    pivots: Mapping[str, SavedPivot] = field(default_factory=lambda: MappingProxyType({}))
    reports: Mapping[str, Report] = field(default_factory=lambda: MappingProxyType({}))
    theme: Theme = USUAL
    theme_source: str = ""
    limits: Mapping[str, int | str] = field(default_factory=lambda: MappingProxyType({}))
    engine: EngineChoice = EngineChoice("memory")

    @property
    def bounds(self) -> dict[str, int]:
        """The limits that it states, as numbers."""
        return read_limits(self.limits)

    def table(self, name: str) -> Table:
        """The table of that name, or an error with the nearest one."""
        if name not in self.tables:
            raise ModelError(f"There is no table {name}.", fix=suggestion(name, self.tables, noun="table"))
        return self.tables[name]

    def rows_of(self, name: str) -> str:
        """The table that holds the rows of ``name``: itself, or the one it is a role of."""
        return self.table(name).role_of or name

    def label(self, table: str, column: str) -> str:
        """A column's heading in a grid; for a role it includes the role, so that no two roles share a heading."""
        described, owner = self.tables[table], self.tables[self.rows_of(table)]
        own = described.columns.get(column)
        if own is not None and own.label:
            return own.label
        shared = owner.columns.get(column)
        label = shared.label if shared is not None and shared.label else column
        if not described.role_of:
            return label
        ordinary = label[:1].isupper() and label[1:2].islower()  # a word, and no code such as IATA
        rest = label[:1].lower() + label[1:] if ordinary else label
        return f"{described.label or table.replace('_', ' ')} {rest}"

    def settings(self, table: str, column: str) -> ColumnSettings:
        """What is said about a column; for a role, what the table says whose rows it shows."""
        return self.tables[self.rows_of(table)].columns.get(column, ColumnSettings())

    def with_table(self, table: Table, *, replacing: bool = False) -> Declaration:
        """This declaration with one table more, or with another of its name in its place."""
        self._refuse_taken(table.name, "table", replacing)
        return replace(self, tables=frozen({**self.tables, table.name: table}))

    def with_derived(
        self, table: str, derived: Derived, settings: Mapping[str, str] | None = None, *, replacing: bool = False
    ) -> Declaration:
        """This declaration with one derived column more, or with another of its name in its place.

        ``settings`` are what is said beside its formula: its label, format, or the column that orders its members.
        """
        refuse_name(derived.name, "column")
        current = self.table(table)
        if current.role_of:
            raise ModelError(
                f"{table} is a role of {current.role_of}: its columns are those of {current.role_of}.",
                fix=f"Add {derived.name} to {current.role_of}.",
            )
        if derived.name in current.derived and not replacing:
            raise ModelError(f"{table} already has a derived column {derived.name}.", fix=_REPLACE)
        given = {name: value for name, value in (settings or {}).items() if value}
        former = current.derived.get(derived.name)
        own = replace(
            current.columns.get(derived.name, ColumnSettings()),
            **{**dict.fromkeys(former.stated if former is not None else (), ""), **given},
        )
        columns = {**current.columns, derived.name: own}
        if own == ColumnSettings():
            del columns[derived.name]
        added = replace(derived, stated=tuple(given))
        changed = replace(current, derived=frozen({**current.derived, derived.name: added}), columns=frozen(columns))
        return replace(self, tables=frozen({**self.tables, table: changed}))

    def with_relationship(self, relationship: Relationship, *, replacing: bool = False) -> Declaration:
        """This declaration with one relationship more, or with another between the same columns in its place."""
        for end in (relationship.many, relationship.one):
            self.table(end.table)
        ends = {relationship.many, relationship.one}
        same = [each for each in self.relationships if {each.many, each.one} == ends]
        if not replacing and any(str(relationship) == str(other) for other in same):
            raise ModelError(f"The relationship {relationship} already exists.", fix=_REPLACE)
        if relationship.many.table == relationship.one.table:
            raise ModelError(
                f"The relationship {relationship} relates a table to itself.",
                fix=f'Add a role of the table with role_of = "{relationship.one.table}", and relate to that.',
            )
        if replacing and same:
            changed = tuple(relationship if each is same[0] else each for each in self.relationships)
            return replace(self, relationships=changed)
        return replace(self, relationships=(*self.relationships, relationship))

    def with_measure(self, measure: Measure, *, replacing: bool = False) -> Declaration:
        """This declaration with one measure more, or with another of its name in its place."""
        self._refuse_taken(measure.name, "measure", replacing)
        return replace(self, measures=frozen({**self.measures, measure.name: measure}))

    def with_hierarchy(self, hierarchy: Hierarchy, *, replacing: bool = False) -> Declaration:
        """This declaration with one hierarchy more, or with another of its name in its place."""
        self._refuse_taken(hierarchy.name, "hierarchy", replacing)
        if len(hierarchy.levels) < 2:
            raise ModelError(f"The hierarchy {hierarchy.name} needs at least two levels, from coarse to fine.")
        for level in hierarchy.levels:
            parts = split_name(level)
            if len(parts) != 2:
                raise ModelError(
                    f"The hierarchy {hierarchy.name} names {level}, which is not a column.", fix="Write table.column."
                )
            self.table(parts[0])
            if hierarchy.levels.count(level) > 1:
                raise ModelError(f"The hierarchy {hierarchy.name} names {level} twice.")
        return replace(self, hierarchies=frozen({**self.hierarchies, hierarchy.name: hierarchy}))

    def with_pivot(self, pivot: SavedPivot, *, replacing: bool = False) -> Declaration:
        """This declaration with one saved pivot more, or with another of its name in its place."""
        self._refuse_taken(pivot.name, "pivot", replacing)
        if not pivot.values:
            example = f'"{next(iter(self.measures), "a formula")}"'
            raise ModelError(f"The pivot {pivot.name} has no values.", fix=f"Add values = [{example}].")
        refuse_choice(pivot.values_on, ("", "rows", "columns"), "values_on")
        return replace(self, pivots=frozen({**self.pivots, pivot.name: pivot}))

    def pivot(self, name: str) -> SavedPivot:
        """The saved pivot of that name, or an error with the nearest one."""
        if name not in self.pivots:
            known = suggestion(name, self.pivots, noun="pivot") if self.pivots else "The model has no saved pivots."
            raise ModelError(f"Unknown saved pivot {name}.", fix=known)
        return self.pivots[name]

    def with_report(self, name: str, report: Report) -> Declaration:
        """This declaration with one report more; its parts name saved pivots that are there."""
        for number, part in enumerate(report.part):
            if part.pivot and part.pivot not in self.pivots:
                known = (
                    suggestion(part.pivot, self.pivots, noun="pivot")
                    if self.pivots
                    else "The model has no saved pivots."
                )
                raise ModelError(
                    f"Part {number + 1} of the report {name} shows the pivot {part.pivot}, which does not exist.",
                    fix=known,
                    place=("part", number, "pivot"),
                )
        return replace(self, reports=frozen({**self.reports, name: report}))

    def report(self, name: str) -> Report:
        """The report of that name, or an error with the nearest one."""
        if name not in self.reports:
            known = suggestion(name, self.reports, noun="report") if self.reports else "The model has no reports."
            raise ModelError(f"Unknown report {name}.", fix=known)
        return self.reports[name]

    def _refuse_taken(self, name: str, noun: str, replacing: bool) -> None:
        refuse_name(name, noun)
        names: tuple[tuple[str, Mapping[str, object]], ...] = (
            ("table", self.tables),
            ("measure", self.measures),
            ("hierarchy", self.hierarchies),
            ("pivot", self.pivots),
        )
        for other, taken in names:
            if name in taken and other == noun:
                if replacing:
                    continue
                raise ModelError(f"The {noun} {name} already exists.", fix=_REPLACE)
            if name in taken:
                raise ModelError(
                    f"{name} is already the name of a {other}.",
                    fix="Tables, measures, hierarchies and saved pivots share one namespace.",
                )

    def with_control(self, control: Control, *, replacing: bool = False) -> Declaration:
        """This declaration with one control more, or with another of the same measure and context in its place."""
        if control.measure not in self.measures:
            raise ModelError(
                f"A control names the measure {control.measure}, which does not exist.",
                fix=suggestion(control.measure, self.measures, noun="measure"),
            )
        kept = [
            each for each in self.controls if not replacing or (each.measure, each.at) != (control.measure, control.at)
        ]
        return replace(self, controls=(*kept, control))


def frozen(mapping: Mapping[str, T]) -> Mapping[str, T]:
    """A read-only view of a copy of ``mapping``."""
    return MappingProxyType(dict(mapping))


def refuse_name(name: str, noun: str) -> None:
    """Raise an error for a name that no formula could spell."""
    if not name or name != name.strip() or any(character in name for character in "\n\r\t"):
        raise ModelError(
            f"{name!r} is not a valid name for a {noun}.",
            fix="A name cannot begin or end with a space or contain line breaks.",
        )


def refuse_choice(value: str, allowed: Iterable[str], what: str) -> None:
    """Raise an error unless ``value`` is one of the words ``allowed``."""
    words = list(allowed)
    if value not in words:
        raise ModelError(
            f"{what} is {value!r}; it can be {' or '.join(words)}.", fix=suggestion(value, words), place=(what,)
        )
