"""What a draft knows so far, handed on from step to step: tables, their keys, a declaration and every proposal."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from relatum.drafts.dates import dated
from relatum.drafts.measures import adds_up
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import Proposal
from relatum.model.declaration import ColumnSettings, Declaration, Relationship, Table, frozen
from relatum.model.names import column_name
from relatum.model.words import words


class Scheme(Struct, frozen=True, eq=False):
    """The tables that were found, what is declared of them so far, and every proposal.

    Each step takes one and returns another. Until the tables are declared, what is known of their columns is in
    ``settings`` and ``nulls``.
    """

    tables: Mapping[str, TableProfile]
    declared: Declaration
    settings: Mapping[str, Mapping[str, ColumnSettings]] = {}
    nulls: Mapping[str, tuple[str, ...]] = {}
    keys: Mapping[str, tuple[str, ...]] = {}
    proposals: tuple[Proposal, ...] = ()

    def bare(self, column: ColumnProfile) -> str:
        """A column's name without the prefix of its table: ``lo_custkey`` is ``custkey``."""
        return column.name[len(self.tables[column.table].prefix) :]

    # -- what comes of it when something is added ---------------------------------------------------------------------

    def proposing(self, *proposals: Proposal) -> Scheme:
        """With more proposals."""
        return replace(self, proposals=(*self.proposals, *proposals)) if proposals else self

    def adding(
        self, kind: str, subject: str, statement: str, confidence: float, evidence: str, doubt: str = ""
    ) -> Scheme:
        """With a proposal that has no content of its own."""
        return self.proposing(Proposal(kind, subject, statement, confidence, evidence, doubt))

    def noting(self, subject: str, statement: str, evidence: str) -> Scheme:
        """With a note."""
        return self.adding("note", subject, statement, 0.0, evidence)

    def setting(self, table: str, column: str, **settings: Any) -> Scheme:
        """With something said of a column."""
        columns = self.settings.get(table, {})
        said = replace(columns.get(column, ColumnSettings()), **settings)
        return replace(self, settings={**self.settings, table: {**columns, column: said}})

    def with_columns(self, table: str, columns: Iterable[ColumnProfile]) -> Scheme:
        """With columns of a table that were read in another way."""
        profile = self.tables[table]
        changed = TableProfile(profile.raw, {**profile.columns, **{each.name: each for each in columns}})
        return replace(self, tables={**self.tables, table: changed})

    def with_table(self, table: Table) -> Scheme:
        """With a table declared, or declared otherwise."""
        return replace(self, declared=self.declared.with_table(table))

    def with_tables_declared(self) -> Scheme:
        """With all tables declared as they were found."""
        scheme = self
        for name, table in self.tables.items():
            raw = table.raw
            described = Table(
                name,
                raw.source.address,
                raw.frame is not None,
                self.keys[name],
                raw.about,
                columns=frozen(self.settings.get(name, {})),
                part=raw.source.part,
                query=raw.source.query,
                null=self.nulls.get(name, ()),
                headings="numbered" if raw.numbered else "",
            )
            scheme = scheme.with_table(described)
        return scheme

    def with_exchanged(self, old: Relationship, new: Relationship) -> Declaration:
        """The declaration with one relationship in the place of another."""
        related = tuple(new if each is old else each for each in self.declared.relationships)
        return replace(self.declared, relationships=related)

    # -- what it says -------------------------------------------------------------------------------------------------

    def kind(self, name: str) -> str:
        """``fact``, ``lookup``, ``calendar`` or ``alone``."""
        table = self.declared.tables[name]
        if table.calendar is not None or table.dated:
            return "calendar"
        if name in self.looked_up and not self._happens(name):
            return "lookup"
        return "fact" if any(each.many.table == name for each in self.declared.relationships) else "alone"

    def has_calendar_rows(self, name: str) -> bool:
        """Whether a table is a calendar, or a role of one."""
        return self.kind(self.declared.rows_of(name)) == "calendar"

    @property
    def looked_up(self) -> set[str]:
        """The tables that others point to, roles and what they are roles of."""
        pointed = {each.one.table for each in self.declared.relationships}
        return pointed | {self.declared.rows_of(each) for each in pointed}

    def _happens(self, name: str) -> bool:
        """Whether the rows of a table are things that happened: they have a date, and amounts or things of their own.

        An invoice is looked up by its lines, and has a day, a customer and a total.
        """
        if name not in self.tables:
            return False
        table = self.tables[name]
        (_, days), *_ = dated([table], events=True) or [(table, [])]
        ends = [each for each in days if not set(words(each.name)) & {"end", "until", "to"}]
        if not ends or len(self.keys[name]) > 1:
            return False
        points = any(
            each.many.table == name
            and self.declared.rows_of(each.one.table) != name
            and not self.has_calendar_rows(each.one.table)
            for each in self.declared.relationships
        )
        return points or any(adds_up(table, each, self.keys[name]) for each in table.columns.values())

    def linked(self, *, keys: bool) -> dict[str, set[str]]:
        """The columns of each table that relationships use, and ``keys`` too if wanted."""
        linked: dict[str, set[str]] = {name: set(key if keys else ()) for name, key in self.keys.items()}
        for related in self.declared.relationships:
            for end in (related.many, related.one):
                linked.setdefault(self.declared.rows_of(end.table), set()).update(end.columns)
        return linked

    def calendar_of(self, fact: str) -> str:
        """The column of a calendar that a fact is related to; empty if it is related to none."""
        for related in self.declared.relationships:
            if related.many.table == fact and self.kind(related.one.table) == "calendar" and not related.standby:
                return column_name(related.one.table, related.one.columns[0])
        return ""
