"""A declaration in the making: what is proposed is taken in, in the first way that leaves the model valid."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from msgspec.structs import replace

from relatum.drafts.collect import Raw
from relatum.drafts.dates import dated
from relatum.drafts.measures import adds_up
from relatum.drafts.profile import profile
from relatum.drafts.proposals import Proposal
from relatum.drafts.relationships import (
    DraftTables,
    date_rank,
    name_match,
)
from relatum.drafts.words import core, own_kind_name, words
from relatum.errors import ModelError
from relatum.model.declaration import ColumnSettings, Declaration, End, Relationship, Table, frozen
from relatum.model.names import column_name, quoted
from relatum.model.routes import Place, RouteMap


@dataclass
class Making:
    """The tables that were found, what is declared of them so far, and every proposal."""

    raws: list[Raw]
    name: str
    timezone: str
    proposals: list[Proposal] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.tables = {raw.name: profile(raw) for raw in self.raws}
        self.settings: dict[str, dict[str, ColumnSettings]] = {name: {} for name in self.tables}
        self.nulls: dict[str, tuple[str, ...]] = {}
        self.keys: dict[str, tuple[str, ...]] = {}
        self.declared = Declaration(self.name, timezone=self.timezone)

    def _give_roles(self) -> None:
        """A lookup that one table uses several times has a role for each, named after the column that points to it."""
        groups: dict[tuple[str, str], list[Relationship]] = {}
        for each in self.declared.relationships:
            if each.kind == "many_to_one" and each.match == "equal" and len(each.many.columns) == 1:
                groups.setdefault((each.many.table, each.one.table), []).append(each)
        looking_up = {each.many.table for each in self.declared.relationships}
        for (_, lookup), group in groups.items():
            # What the lookup itself looks up is found through the first of them alone: a role has none of that.
            for related in group[1 if lookup in looking_up else 0 :] if len(group) > 1 else ():
                self._give_role(related, lookup)

    def _accept_own(self, proposal: Proposal) -> None:
        """Take a column that points to another row of its own table: to a role of it, named after the column."""
        related = proposal.content
        assert isinstance(related, Relationship)
        if any(each.many == related.many for each in self.declared.relationships):
            return
        if not proposal.active:
            self.proposals.append(proposal)
            return
        table = related.one.table
        name = self._role_name(related.many.columns[0], table)
        before = self.declared
        self.declared = before.with_table(Table(name, role_of=table, label=" ".join(words(name)).capitalize()))
        changed = replace(related, one=End(name, related.one.columns))
        said = f"{proposal.evidence}; {name} is a role of {table}"
        self._accept(replace(proposal, subject=str(changed), statement=str(changed), content=changed, evidence=said))
        if not any(each.one.table == name for each in self.declared.relationships):
            self.declared = before

    def _role_name(self, column: str, table: str) -> str:
        wanted = "_".join(core(column)) or column
        choices = (own_kind_name(column), wanted, f"{wanted}_{table}", f"{column}_{table}_role")
        return next(each for each in choices if each and each not in self.declared.tables)

    def _give_role(self, related: Relationship, lookup: str) -> None:
        (column,) = related.many.columns
        name = self._role_name(column, lookup)
        self.declared = self.declared.with_table(Table(name, role_of=lookup, label=" ".join(words(name)).capitalize()))
        changed = replace(related, one=End(name, related.one.columns), standby=False)
        self.declared = replace(
            self.declared,
            relationships=tuple(changed if each is related else each for each in self.declared.relationships),
        )
        said = f"{name} is a role of {lookup}, which {quoted(related.many.table)} refers to more than once"
        self.proposals = [
            replace(each, subject=str(changed), statement=str(changed), content=changed,
                    evidence=f"{each.evidence.partition('; on standby')[0]}; {said}")
            if each.content is related else each
            for each in self.proposals
        ]  # fmt: skip

    def kind(self, name: str) -> str:
        """``fact``, ``lookup``, ``calendar`` or ``alone``."""
        table = self.declared.tables[name]
        if table.calendar is not None or table.dated:
            return "calendar"
        if name in self.looked_up and not self._happens(name):
            return "lookup"
        return "fact" if any(each.many.table == name for each in self.declared.relationships) else "alone"

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
            each.many.table == name and self.declared.rows_of(each.one.table) != name and self._kept(each.one.table)
            for each in self.declared.relationships
        )
        return points or any(adds_up(table, each, self.keys[name]) for each in table.columns.values())

    def _kept(self, name: str) -> bool:
        """Whether a table is neither a calendar nor a role of one."""
        table = self.declared.tables[self.declared.rows_of(name)]
        return table.calendar is None and not table.dated

    def _add(self, kind: str, subject: str, statement: str, confidence: float, evidence: str, doubt: str = "") -> None:
        self.proposals.append(Proposal(kind, subject, statement, confidence, evidence, doubt))

    def _note(self, subject: str, statement: str, evidence: str) -> None:
        self._add("note", subject, statement, 0.0, evidence)

    def _set(self, table: str, column: str, **settings: Any) -> None:
        here = self.settings[table].get(column, ColumnSettings())
        self.settings[table][column] = replace(here, **settings)

    def _declare_tables(self) -> None:
        for name, table in self.tables.items():
            raw = table.raw
            described = Table(
                name,
                raw.source.address,
                raw.frame is not None,
                self.keys[name],
                raw.about,
                columns=frozen(self.settings[name]),
                part=raw.source.part,
                query=raw.source.query,
                null=self.nulls.get(name, ()),
                headings="numbered" if raw.numbered else "",
            )
            self.declared = self.declared.with_table(described)

    def _replace(self, name: str, **changes: Any) -> None:
        changed = replace(self.declared.tables[name], **changes)
        self.declared = replace(self.declared, tables=frozen({**self.declared.tables, name: changed}))

    def _one_target_each(self, tables: DraftTables, found: list[Proposal]) -> list[Proposal]:
        """A column points to one table: the best one stays, the rest become doubts; none where two are as good."""
        kept = [each for each in found if not isinstance(each.content, Relationship)]
        rivals: dict[End, list[tuple[Proposal, Relationship]]] = {}
        for each in found:
            if isinstance(each.content, Relationship):
                rivals.setdefault(each.content.many, []).append((each, each.content))
        paired = [
            {related.many, related.one}
            for group in rivals.values()
            for each, related in group
            if related.kind == "one_to_one" and each.active
        ]
        for group in rivals.values():
            group.sort(key=lambda pair: self._fit(tables, *pair), reverse=True)
            best, winner = group[0]
            others = [
                (each, related)
                for each, related in group[1:]
                if related.kind == "many_to_one" and each.active and related.one != winner.one
                if {related.many, related.one} not in paired
            ]
            if others and best.active and self._fit(tables, *others[0]) == self._fit(tables, best, winner):
                doubt = f"{winner.many} could also point to {others[0][1].one}"
                best = replace(best, confidence=0.6, doubt=doubt)
            kept.append(best)
            for each, related in others:
                said = "already points to {}" if best.active else "could also point to {}"
                doubt = f"{related.many} {said.format(winner.one)}"
                kept.append(replace(each, confidence=0.6, doubt=doubt))
        return kept

    def _fit(self, tables: DraftTables, proposal: Proposal, related: Relationship) -> tuple[float, float, bool, int]:
        """How well a column's target fits: by evidence, by the column's name, by the name of its own table."""
        many = self.tables[related.many.table].columns[related.many.columns[0]]
        one = self.tables[related.one.table].columns[related.one.columns[0]]
        named = related.one.table.replace("_", "") in many.name.replace("_", "").lower()
        whole = self.keys.get(related.one.table) == related.one.columns
        kin = len(set(words(related.many.table)) & set(words(related.one.table)))
        return proposal.confidence, name_match(tables, many, one), whole and named, kin

    def _order(self, proposal: Proposal) -> tuple[int, int, float, tuple[int, int, int]]:
        related = proposal.content
        assert isinstance(related, Relationship)
        many, one = self.tables[related.many.table], self.tables[related.one.table]
        rank = date_rank(many, many.columns[related.many.columns[0]])
        return many.rows, -one.rows if related.match == "equal" else one.rows, -proposal.confidence, rank

    def _accept(self, proposal: Proposal) -> None:
        """Take a relationship into the model, in the first way that leaves one route between any two tables."""
        related = proposal.content
        assert isinstance(related, Relationship)
        problem = ""
        for variant, said in self._variants(related):
            try:
                declared = self.declared.with_relationship(variant)
                RouteMap(declared)
            except ModelError as error:
                problem = problem or error.reason
                continue
            self.declared = declared
            evidence = f"{proposal.evidence}; {said}" if said else proposal.evidence
            self.proposals.append(replace(proposal, evidence=evidence, content=variant))
            return
        if self._yielding(proposal, related):
            return
        doubt = " ".join(line.strip() for line in problem.splitlines()[:3])
        doubt = doubt[:1].lower() + doubt[1:]
        self.proposals.append(replace(proposal, confidence=0.5, doubt=doubt))

    def _yielding(self, proposal: Proposal, related: Relationship) -> bool:
        """Take a relationship, and have one between lookups that opens the second route stand by."""
        reached = {str(place) for place in RouteMap(self.declared).lookups(Place(related.one.table))}
        for other in self.declared.relationships:
            if quoted(other.many.table) not in reached or other.standby or other.level:
                continue
            quiet = replace(other, standby=True)
            changed = tuple(quiet if each is other else each for each in self.declared.relationships)
            try:
                declared = replace(self.declared, relationships=changed).with_relationship(related)
                RouteMap(declared)
            except ModelError:
                continue
            self.declared = declared
            said = f"on standby, because {related.many.table} also reaches {other.one.table} by another route"
            self.proposals = [
                replace(each, content=quiet, confidence=min(each.confidence, 0.85), evidence=f"{each.evidence}; {said}")
                if each.content is other
                else each
                for each in self.proposals
            ]
            self.proposals.append(proposal)
            return True
        return False

    def _variants(self, related: Relationship) -> list[tuple[Relationship, str]]:
        ways = [(related, "")]
        if related.match == "as_of":
            ways.append((replace(related, direction="off"), "off, because another route continues from there"))
        twin = next(
            (
                each
                for each in self.declared.relationships
                if (each.many.table, each.one.table) == (related.many.table, related.one.table) and not each.standby
            ),
            None,
        )
        if twin is not None and twin.match == related.match:
            said = f"on standby behind {twin.many.columns[0]}: a formula uses it with via"
            ways.append((replace(related, standby=True), said))
        if not self._kept(related.one.table) and not related.level:
            said = "on standby, because another route leads to the calendar: a formula uses it with via"
            ways.append((replace(related, standby=True), said))
        return ways

    def _linked(self, keys: bool = True) -> dict[str, set[str]]:
        linked: dict[str, set[str]] = {name: set(key if keys else ()) for name, key in self.keys.items()}
        for related in self.declared.relationships:
            for end in (related.many, related.one):
                linked.setdefault(self.declared.rows_of(end.table), set()).update(end.columns)
        return linked

    def _calendar_of(self, fact: str) -> str:
        for related in self.declared.relationships:
            if related.many.table == fact and self.kind(related.one.table) == "calendar" and not related.standby:
                return column_name(related.one.table, related.one.columns[0])
        return ""
