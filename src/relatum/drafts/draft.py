"""A draft: from raw tables to a declaration, with the evidence for each part of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from relatum.data.types import DATE, Kind
from relatum.data.written import date_pattern, dates_of
from relatum.drafts.collect import LeftOut, Raw
from relatum.drafts.dates import (
    DateParts,
    calendar_range,
    date_relationships,
    dated,
    disagreeing,
    existing_calendar,
    level_relationship,
    leveled,
    parts_of_dates,
    parts_relationship,
)
from relatum.drafts.drafted import Drafted
from relatum.drafts.hierarchies import hierarchies
from relatum.drafts.keys import proposed_key
from relatum.drafts.measures import Namer, best_first, fact_measures, lookup_averages, priced
from relatum.drafts.profile import ColumnProfile, TableProfile, profile
from relatum.drafts.proposals import LIKELY, Proposal
from relatum.drafts.relationships import (
    DraftTables,
    between_facts,
    date_rank,
    name_match,
    relate_columns,
    relate_pairs,
    relate_roles,
    shared_prefix,
)
from relatum.drafts.words import core, words
from relatum.errors import ModelError, SourceError
from relatum.model.declaration import ColumnSettings, Declaration, End, Hierarchy, Measure, Relationship, Table, frozen
from relatum.model.links import parse_link
from relatum.model.names import column_name, quoted, split_name
from relatum.model.routes import Place, RouteMap
from relatum.progress import told
from relatum.sources.database.ask import is_database
from relatum.sources.place import LAZY
from relatum.wording import counted


def _start(note: Proposal) -> End:
    """The column that a note about two like names begins with."""
    many, _, _ = parse_link(note.subject)
    return many


def _typed(address: str) -> bool:
    """Whether a file itself says that a number is a float: text does not."""
    return address.lower().endswith(LAZY) or is_database(address)


@dataclass
class _Draft:
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

    # -- steps, in order ----------------------------------------------------------------------------------------------

    def find_names(self) -> None:
        """Columns whose headings formulas could only spell in quotes have another name; the heading is kept."""
        for table in self.tables.values():
            for name, heading in table.raw.headings.items():
                self._set(table.name, name, heading=heading)
            if table.raw.numbered:
                self._note(table.name, f"{table.name} has two columns of one heading: they are numbered", "")

    def find_nulls(self) -> None:
        """Texts such as NA that stand for no value among numbers or dates."""
        for table in self.tables.values():
            if table.raw.reread is None:
                continue
            marked = {name: each for name, each in table.columns.items() if each.markers}
            sure = {name: each.markers for name, each in marked.items() if each.marks_null[0]}
            for name, column in marked.items():
                where, markers = column_name(table.name, name), ", ".join(column.markers)
                rows = f"{column.rows_of(column.markers):,} of {counted(column.rows, 'row')}"
                if name in sure:
                    evidence = f"on {rows}; {column.marks_null[1]}"
                    self._add("null", where, f"{where}: {markers} means null", 0.97, evidence)
                else:
                    said = f"{where}: {markers} may be a value or mean null"
                    shown = ", ".join(f'"{each}"' for each in column.markers)
                    self._add(
                        "null", where, said, 0.4, f"on {rows}; {column.marks_null[1]}", f"null = [{shown}] says so"
                    )
            if sure:
                self._without(table, sure, [name for name in marked if name not in sure])

    def _without(self, table: TableProfile, nulls: Mapping[str, tuple[str, ...]], undecided: Sequence[str]) -> None:
        """Take texts for null, and look at the columns again: numbers and dates are what is left."""
        data = table.raw.read(nulls)
        for name in nulls:
            table.columns[name] = ColumnProfile(table.name, name, data.column(name))
        shared = dict.fromkeys(marker for markers in nulls.values() for marker in markers)
        kept = {marker for name in undecided for marker in table.columns[name].markers}
        if len(nulls) > 1 and not kept & set(shared):
            self.nulls[table.name] = tuple(shared)
        else:
            for name, markers in nulls.items():
                self._set(table.name, name, null=markers)

    def find_types(self) -> None:
        """Dates written as text, codes that look like numbers, money read as floats."""
        for table in self.tables.values():
            for name, type_ in table.raw.types.items():
                # What a text file would be read as without being told is anybody's guess.
                if name in table.columns and not _typed(table.raw.source.address):
                    self._set(table.name, name, type=type_)
            for name, column in list(table.columns.items()):
                if name not in table.raw.types:
                    self._type(table, name, column)
                if column.type.kind is Kind.TIMESTAMP:
                    self._note(
                        table.name, f"{column_name(table.name, name)} is a moment: its date counts", column.sample()
                    )
            for name, label in table.raw.labels.items():
                if name in table.columns:
                    self._set(table.name, name, label=label)
            for remark in table.raw.data.remarks:
                self._note(table.name, remark, "")
            for name, reason in table.raw.data.left_out.items():
                self._note(table.name, f"{column_name(table.name, name)} is left out", reason)

    def _type(self, table: TableProfile, name: str, column: ColumnProfile) -> None:
        where = column_name(table.name, name)
        # What a frame or a typed file says of its columns needs no saying again.
        untyped = table.raw.frame is None and not _typed(table.raw.source.address)
        pattern, doubt = column.date_pattern
        if pattern:
            try:
                dates = dates_of(column.column, DATE, date_pattern(pattern))
            except SourceError as error:
                pattern, doubt = "", f"{where} {error.reason}"  # one of the texts that were not looked at before
        if pattern:
            self._set(table.name, name, type="date", pattern=pattern)
            table.columns[name] = ColumnProfile(table.name, name, dates)
            evidence = f"every text is a date written so: {column.sample()}"
            self._add("type", where, f"{where} is a date, written {pattern}", 0.97, evidence)
        elif doubt:
            statement = f"{where} is text that looks like a date, and is left as text"
            self._add("type", where, statement, 0.4, doubt, "state type and pattern once you know")
        elif column.zero_led and untyped:
            self._set(table.name, name, type="text")
            evidence = f"{column.zero_led} begins with a zero: a code, no number"
            self._add("type", where, f"{where} is text", 0.98, evidence)
        elif column.comma_numbers:
            statement = f"{where} is text that looks like numbers with a decimal comma"
            self._add("type", where, statement, 0.4, column.sample(), "write them with a point to have them read")
        elif column.exact is not None and untyped:
            self._set(table.name, name, type=str(column.exact))
            evidence = f"no value has more digits: {column.sample()}"
            self._add("type", where, f"{where} is {column.exact}", 0.95, evidence)

    def find_keys(self) -> None:
        """What tells each table's rows apart."""
        for table in self.tables.values():
            key, proposal = proposed_key(table)
            if proposal is not None:
                self.proposals.append(proposal)
            self.keys[table.name] = key if proposal is None or proposal.confidence >= LIKELY else ()

    def find_relationships(self) -> None:
        """Declared ones, then those that names and values speak for; two routes are resolved or left to a person."""
        self._declare_tables()
        prefixes = {name: shared_prefix(table) for name, table in self.tables.items()}
        tables = DraftTables(list(self.tables.values()), self.keys, prefixes)
        found = [*self._foreign_keys(), *relate_columns(tables), *relate_pairs(tables)]
        found += relate_roles(tables, found)
        found = list(between_facts(tables, found))
        found = self._one_target_each(tables, found)
        singles = [each for each in found if not each.active or not isinstance(each.content, Relationship)]
        pointing = {each.content.many for each in found if each.active and isinstance(each.content, Relationship)}
        # What a column has nothing in common with is worth a word only where it points nowhere else.
        singles = [each for each in singles if each.kind != "note" or _start(each) not in pointing]
        taken = {each.subject for each in found if each.kind == "relationship"}
        self.proposals += [each for each in singles if each.kind != "aside" or each.subject not in taken]
        for each in sorted((each for each in found if each.active), key=self._order):
            self._accept(each)
        self._give_roles()

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

    def _give_role(self, related: Relationship, lookup: str) -> None:
        (column,) = related.many.columns
        wanted = "_".join(core(column)) or column
        taken = self.declared.tables
        name = next(each for each in (wanted, f"{wanted}_{lookup}", f"{column}_{lookup}_role") if each not in taken)
        self.declared = self.declared.with_table(Table(name, role_of=lookup, label=" ".join(words(name)).capitalize()))
        changed = replace(related, one=End(name, related.one.columns), standby=False)
        self.declared = replace(
            self.declared,
            relationships=tuple(changed if each is related else each for each in self.declared.relationships),
        )
        said = f"{name} is a role of {lookup}, which {quoted(related.many.table)} uses more than once"
        self.proposals = [
            replace(each, subject=str(changed), statement=str(changed), content=changed,
                    evidence=f"{each.evidence.partition('; stands by')[0]}; {said}")
            if each.content is related else each
            for each in self.proposals
        ]  # fmt: skip

    def find_calendars(self) -> None:
        """A calendar over all dates of facts, or the one that is there."""
        targets = {self.declared.rows_of(each.one.table) for each in self.declared.relationships}
        facts = [table for name, table in self.tables.items() if name not in targets]
        own = [name for name, key in self.keys.items() if existing_calendar(self.tables[name], key)]
        there = self.tables[own[0]] if own else None
        facts = [table for table in facts if table is not there]
        dates, parts = self._times(facts)
        if there is not None:
            key = self.keys[there.name][0]
            self._replace(there.name, dated=True)
            self._add(
                "calendar", there.name, f"{quoted(there.name)} is a calendar", 0.97, f"a row for each date in {key}"
            )
            self._to_calendar(dates, parts, [], there.name, key, there)
            return
        keyed = [self.tables[name] for name, key in self.keys.items() if name in targets and len(key) > 1]
        skip = {table.name for table, _ in dates} | {each.columns[0].table for each in parts}
        levels = leveled([*facts, *keyed], skip)
        if dates or parts:
            # A year of a lookup says less than a date of a fact.
            levels = [each for each in levels if each.level or each.table not in targets]
        if not dates and not parts and not levels:
            return
        (calendar,) = [name for name in ("calendar", "dates", "all_dates") if name not in self.tables][:1]
        main = max(dates, key=lambda each: each[0].rows, default=None)
        through = column_name(main[0].name, main[1][0].name) if main else ""
        span, doubt = calendar_range([each for _, columns in dates for each in columns], parts, levels, through)
        self.declared = self.declared.with_table(Table(calendar, calendar=span, key=("date",)))
        used = [each for _, columns in dates for each in columns]
        used += [each for group in parts for each in group.columns] + levels
        evidence = "whole years around " + ", ".join(column_name(each.table, each.name) for each in used)
        statement = f"{calendar} from {span.first} to {span.last}" + (f", through {through}" if through else "")
        self._add("calendar", calendar, statement, 0.85 if doubt else 0.97, evidence, doubt)
        self._to_calendar(dates, parts, levels, calendar, "date", None)

    def _times(
        self, facts: list[TableProfile]
    ) -> tuple[list[tuple[TableProfile, list[ColumnProfile]]], list[DateParts]]:
        """When the rows of facts happened: by their own dates, those in parts, or those of what they point to."""
        dates, parts = dated(facts), []
        for table in facts:
            own = next((columns for each, columns in dates if each is table), [])
            found = parts_of_dates(table)
            if found is None:
                continue
            differing = disagreeing(found, own[0]) if own else 0
            if own and not differing:
                continue
            if own:
                said = f"{column_name(table.name, own[0].name)} is of another day than "
                said += f"{', '.join(each.name for each in found.columns)} on {counted(differing, 'row')}"
                self._note(table.name, said, "the parts are taken; timezone = … says on whose clocks moments are read")
                dates = [each for each in dates if each[0] is not table]
            parts.append(found)
        timed = {table.name for table, _ in dates} | {each.columns[0].table for each in parts}
        timed |= {each.table for each in leveled(facts, timed)}
        pointed = {
            each.one.table: None
            for table in facts
            if table.name not in timed
            for each in self.declared.relationships
            if each.many.table == table.name and each.match == "equal" and not each.standby
        }
        beyond = dict.fromkeys(self.declared.rows_of(name) for name in pointed)
        return [*dates, *dated([self.tables[name] for name in beyond], events=True)], parts

    def _to_calendar(
        self,
        dates: list[tuple[TableProfile, list[ColumnProfile]]],
        parts: list[DateParts],
        levels: list[ColumnProfile],
        calendar: str,
        key: str,
        there: TableProfile | None,
    ) -> None:
        """Relate dates, dates in parts, months and years to a calendar."""
        linked = {each.many for each in self.declared.relationships}
        for table, columns in dates:
            free = [each for each in columns if End(table.name, (each.name,)) not in linked]
            for each in date_relationships(table, free, calendar, key):
                self._accept(each)
        for group in parts:
            proposal = parts_relationship(group, calendar, there)
            if proposal is not None:
                self._accept(proposal)
        for column in levels:
            self._accept(level_relationship(column, calendar))

    def find_measures(self) -> None:
        """Sums, counts and averages of each fact."""
        linked = self._linked()
        ends = self._linked(keys=False)
        targets = {each.one.table for each in self.declared.relationships if each.match == "equal"}
        namer = Namer({*self.declared.tables})
        facts = [table for name, table in self.tables.items() if self.kind(name) in ("fact", "alone")]
        for table in sorted(facts, key=lambda each: -each.rows):
            found = best_first(
                fact_measures(table, ends[table.name], self.keys[table.name], self._calendar_of(table.name), namer)
            )
            for related in self.declared.relationships:
                if related.match == "as_of" and related.many.table == table.name:
                    found += priced(table, self.tables[related.one.table], namer)
            self._measures(found)
        for related in self.declared.relationships:
            if related.match == "as_of" and related.one.table not in targets:
                table = self.tables[related.one.table]
                self._measures(list(lookup_averages(table, linked[table.name], namer)))

    def find_hierarchies(self) -> None:
        """Levels of lookups, from coarse to fine."""
        linked = self._linked()
        lookups = {name: table for name, table in self.tables.items() if self.kind(name) == "lookup"}
        taken = {*self.declared.tables, *self.declared.measures}
        for found in hierarchies(lookups, self._chains(lookups), linked, taken):
            for proposal in self._in_roles(found):
                self.proposals.append(proposal)
                if proposal.active and isinstance(proposal.content, Hierarchy):
                    self.declared = self.declared.with_hierarchy(proposal.content)
        calendar = next((name for name, table in self.declared.tables.items() if table.calendar), "")
        if calendar and "time" not in {*taken, *self.declared.hierarchies}:
            levels = tuple(column_name(calendar, each) for each in ("year", "quarter", "month"))
            self._add("hierarchy", "time", " > ".join(levels), 0.99, "of the calendar")
            self.declared = self.declared.with_hierarchy(Hierarchy("time", levels))

    def _in_roles(self, found: Proposal) -> list[Proposal]:
        """A hierarchy, or the same in each role of its table where that is used in roles alone."""
        hierarchy = found.content
        assert isinstance(hierarchy, Hierarchy)
        tables = {split_name(level)[0] for level in hierarchy.levels}
        pointed = {each.one.table for each in self.declared.relationships}
        roles = [name for name, table in self.declared.tables.items() if table.role_of in tables]
        if len(tables) > 1 or not roles or tables & pointed:
            return [found]
        spread = []
        for role in roles:
            levels = tuple(column_name(role, split_name(level)[1]) for level in hierarchy.levels)
            name = f"{role}_levels"
            spread.append(replace(found, subject=name, statement=" > ".join(levels), content=Hierarchy(name, levels)))
        return spread

    # -- helpers ------------------------------------------------------------------------------------------------------

    def kind(self, name: str) -> str:
        """``fact``, ``lookup``, ``calendar`` or ``alone``."""
        table = self.declared.tables[name]
        if table.calendar is not None or table.dated:
            return "calendar"
        if any(name in (each.one.table, self.declared.rows_of(each.one.table)) for each in self.declared.relationships):
            return "lookup"
        return "fact" if any(each.many.table == name for each in self.declared.relationships) else "alone"

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

    def _foreign_keys(self) -> list[Proposal]:
        found = []
        for table in self.tables.values():
            for each in table.raw.foreign_keys:
                if each.target not in self.tables or each.target == table.name:
                    said = f"{table.name}.({', '.join(each.columns)}) points to {each.target}"
                    self._note(table.name, said, "a role of the table would be needed: role_of")
                    continue
                related = Relationship(End(table.name, each.columns), End(each.target, each.target_columns))
                found.append(
                    Proposal("relationship", str(related), str(related), 1.0, "declared by the source", "", related)
                )
        return found

    def _one_target_each(self, tables: DraftTables, found: list[Proposal]) -> list[Proposal]:
        """A column points to one table: the best one stays, the others become doubts; none where two are as good."""
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
                doubt = f"{winner.many} may as well point to {others[0][1].one}"
                best = replace(best, confidence=0.6, doubt=doubt)
            kept.append(best)
            for each, related in others:
                said = "points to {} already" if best.active else "may as well point to {}"
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
            said = f"stands by, since {related.many.table} finds {other.one.table} by another route too"
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
            ways.append((replace(related, direction="off"), "off, since another route leads on from there"))
        twin = next(
            (
                each
                for each in self.declared.relationships
                if (each.many.table, each.one.table) == (related.many.table, related.one.table) and not each.standby
            ),
            None,
        )
        if twin is not None and twin.match == related.match:
            said = f"stands by for {twin.many.columns[0]}: a formula takes it with via"
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

    def _chains(self, lookups: Mapping[str, TableProfile]) -> list[tuple[str, ...]]:
        """Lookups from fine to coarse, each that no other of them points to being the start of one."""
        steps: dict[str, list[str]] = {}
        for related in self.declared.relationships:
            if related.many.table in lookups and related.one.table in lookups and related.kind == "many_to_one":
                steps.setdefault(related.many.table, []).append(related.one.table)
        starts = [name for name in lookups if not any(name in targets for targets in steps.values())]
        chains: list[tuple[str, ...]] = []
        pending: list[tuple[str, ...]] = [(start,) for start in starts]
        while pending:
            chain = pending.pop(0)
            further = steps.get(chain[-1], [])
            if not further:
                chains.append(chain)
            pending += [(*chain, each) for each in further]
        return chains

    def _measures(self, found: list[Proposal]) -> None:
        for each in found:
            self.proposals.append(each)
            if each.active and isinstance(each.content, Measure):
                self.declared = self.declared.with_measure(each.content)


def draft_model(raws: list[Raw], left_out: list[LeftOut], name: str, timezone: str) -> Drafted:
    """Propose a model of raw tables: what is likely is declared, what is not stands among the proposals."""
    draft = _Draft(raws, name, timezone)
    steps = (
        draft.find_names,
        draft.find_nulls,
        draft.find_types,
        draft.find_keys,
        draft.find_relationships,
        draft.find_calendars,
        draft.find_measures,
        draft.find_hierarchies,
    )
    for step in told(steps, lambda each: f"looking for {each.__name__.removeprefix('find_')}"):
        step()
    return Drafted(
        draft.declared,
        tuple(draft.proposals),
        {name: draft.kind(name) for name in draft.declared.tables},
        {name: table.rows for name, table in draft.tables.items()},
        tuple(left_out),
    )
