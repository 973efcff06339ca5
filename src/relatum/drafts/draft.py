"""A draft: from raw tables to a declaration, with the evidence for each part of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from relatum.data.date_patterns import date_pattern, dates_of
from relatum.data.types import DATE, INTEGER
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
from relatum.drafts.making import Making
from relatum.drafts.measures import Namer, adds_up, best_first, fact_measures, lookup_averages, priced, sold
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import LIKELY, Proposal
from relatum.drafts.relationships import (
    DraftTables,
    between_facts,
    pointed_to_as_text,
    relate_columns,
    relate_pairs,
    relate_roles,
    relate_selves,
    shared_prefix,
)
from relatum.drafts.words import is_beginning
from relatum.errors import SourceError
from relatum.model.declaration import End, Hierarchy, Measure, Relationship, Table
from relatum.model.links import parse_link
from relatum.model.names import column_name, quoted, split_name
from relatum.progress import reported
from relatum.sources.database.ask import is_database
from relatum.sources.read import BY_COLUMN
from relatum.wording import counted

#: A table with this part of the rows of the largest has many.
_MANY_ROWS = 0.02


def _start(note: Proposal) -> End:
    """The column that a note about two like names begins with."""
    many, _, _ = parse_link(note.subject)
    return many


def _typed(address: str) -> bool:
    """Whether a file itself says that a number is a float: text does not."""
    return address.lower().endswith(BY_COLUMN) or is_database(address)


class _Draft(Making):
    """The steps of a draft, each of which takes what the ones before found."""

    # -- steps, in order ----------------------------------------------------------------------------------------------

    def find_names(self) -> None:
        """Columns whose headings formulas could only spell in quotes have another name; the heading is kept."""
        for table in self.tables.values():
            for name, heading in table.raw.headings.items():
                self._set(table.name, name, heading=heading)
            if table.raw.numbered:
                self._note(table.name, f"{table.name} has several columns with the same heading: they are numbered", "")

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
                    said = f"{where}: {markers} may be a value or may mean null"
                    shown = ", ".join(f'"{each}"' for each in column.markers)
                    self._add(
                        "null", where, said, 0.4, f"on {rows}; {column.marks_null[1]}", f"set null = [{shown}] if so"
                    )
            if sure:
                self._without(table, sure, [name for name in marked if name not in sure])

    def _without(self, table: TableProfile, nulls: Mapping[str, tuple[str, ...]], undecided: Sequence[str]) -> None:
        """Read texts as null, and look at the columns again: only numbers and dates may remain."""
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
                # Without a declared type, how a text file is read is a guess.
                if name in table.columns and not _typed(table.raw.source.address):
                    self._set(table.name, name, type=type_)
            for name, column in list(table.columns.items()):
                if name not in table.raw.types:
                    self._type(table, name, column)
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
                dates = dates_of(column.as_text(), DATE, date_pattern(pattern))
            except SourceError as error:
                pattern, doubt = "", f"{where} {error.reason}"  # one of the texts that were not looked at before
        if pattern:
            self._set(table.name, name, type="date", pattern=pattern)
            table.columns[name] = ColumnProfile(table.name, name, dates)
            evidence = f"every value is a date of this form: {column.sample()}"
            self._add("type", where, f"{where} is a date, written {pattern}", 0.97, evidence)
        elif doubt:
            statement = f"{where} is text that looks like a date; it stays text"
            self._add("type", where, statement, 0.4, doubt, "set type and pattern once you know")
        elif column.zero_led and untyped:
            self._set(table.name, name, type="text")
            evidence = f"{column.zero_led} begins with a zero: a code, not a number"
            self._add("type", where, f"{where} is text", 0.98, evidence)
        elif column.comma_numbers:
            statement = f"{where} is text that looks like numbers with a decimal comma"
            self._add(
                "type",
                where,
                statement,
                0.4,
                column.sample(),
                "write them with a decimal point to read them as numbers",
            )
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
        self._align_types()
        self._declare_tables()
        prefixes = {name: shared_prefix(table) for name, table in self.tables.items()}
        tables = DraftTables(list(self.tables.values()), self.keys, prefixes)
        found = [*self._foreign_keys(own=False), *relate_columns(tables), *relate_pairs(tables)]
        found += relate_roles(tables, found)
        selves = list(relate_selves(tables))
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
        declared = {each.content.many for each in selves if isinstance(each.content, Relationship)}
        for each in self._foreign_keys(own=True):
            if isinstance(each.content, Relationship) and each.content.many not in declared:
                selves.append(each)
        for each in selves:
            self._accept_own(each)

    def find_calendars(self) -> None:
        """A calendar over all dates of facts, or the one that is there."""
        targets = self.looked_up
        facts = [table for name, table in self.tables.items() if self.kind(name) in ("fact", "alone")]
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
        dates = self._happenings(dates)
        keyed = [self.tables[name] for name, key in self.keys.items() if name in targets and len(key) > 1]
        skip = {table.name for table, _ in dates} | {each.columns[0].table for each in parts}
        levels = leveled([*facts, *keyed], skip)
        if dates or parts:
            # A year of a lookup says less than a date of a fact.
            levels = [each for each in levels if each.level or each.table not in targets]
        if not dates and not parts and not levels:
            return
        (calendar,) = [name for name in ("calendar", "dates", "all_dates") if name not in self.tables][:1]
        mostly = self._weighty(dates)
        main = max(mostly, key=lambda each: each[0].rows, default=None)
        through = column_name(main[0].name, main[1][0].name) if main else ""
        span, doubt = calendar_range([each for _, columns in mostly for each in columns], parts, levels, through)
        self.declared = self.declared.with_table(Table(calendar, calendar=span, key=("date",)))
        used = [each for _, columns in mostly for each in columns]
        used += [each for group in parts for each in group.columns] + levels
        evidence = "whole years around " + ", ".join(column_name(each.table, each.name) for each in used)
        statement = f"{calendar} from {span.first} to {span.last}" + (f", through {through}" if through else "")
        self._add("calendar", calendar, statement, 0.85 if doubt else 0.97, evidence, doubt)
        self._to_calendar(dates, parts, levels, calendar, "date", None)

    def _happenings(
        self, dates: list[tuple[TableProfile, list[ColumnProfile]]]
    ) -> list[tuple[TableProfile, list[ColumnProfile]]]:
        """Dates without those of births and beginnings, where others are there."""
        found = []
        for table, columns in dates:
            kept = [each for each in columns if not is_beginning(each.name)]
            found += [(table, kept)] if kept else []
        if not found:
            return dates
        for _, columns in dates:
            for each in columns:
                if is_beginning(each.name):
                    where = column_name(each.table, each.name)
                    self._note(
                        where, f"{where} is not related to the calendar: it is the date on which something began", ""
                    )
        return found

    def _weighty(
        self, dates: list[tuple[TableProfile, list[ColumnProfile]]]
    ) -> list[tuple[TableProfile, list[ColumnProfile]]]:
        """The dates of tables that have amounts or many rows: the calendar spans those."""
        most = max((table.rows for table, _ in dates), default=0)
        return [
            (table, columns)
            for table, columns in dates
            if table.rows >= _MANY_ROWS * most
            or any(adds_up(table, each, self.keys[table.name]) for each in table.columns.values())
        ]

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
                said = f"{column_name(table.name, own[0].name)} is a different day from "
                said += f"{', '.join(each.name for each in found.columns)} on {counted(differing, 'row')}"
                self._note(table.name, said, "the parts are used; set timezone = … if timestamps need another zone")
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
        beyond = dict.fromkeys(each for each in map(self.declared.rows_of, pointed) if each not in timed)
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
        facts = [
            table
            for name, table in self.tables.items()
            if self.kind(name) == "fact" or (self.kind(name) == "alone" and (table.rows > 1 or len(self.tables) == 1))
        ]
        for table in sorted(facts, key=lambda each: -each.rows):
            key, calendar = self.keys[table.name], self._calendar_of(table.name)
            within = table.name in self.looked_up
            found = [*sold(table, namer), *fact_measures(table, ends[table.name], key, calendar, namer, surely=within)]
            found = best_first(found)
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

    def _foreign_keys(self, *, own: bool) -> list[Proposal]:
        """The keys that the source declares: to other tables, or to other rows of their ``own`` table."""
        found = []
        for table in self.tables.values():
            for each in table.raw.foreign_keys:
                if (each.target == table.name) is not own:
                    continue
                if each.target not in self.tables:
                    said = f"{table.name}.({', '.join(each.columns)}) points to {each.target}"
                    self._note(table.name, said, "it is not in the data")
                    continue
                related = Relationship(End(table.name, each.columns), End(each.target, each.target_columns))
                found.append(
                    Proposal(
                        kind="relationship",
                        subject=str(related),
                        statement=str(related),
                        confidence=1.0,
                        evidence="declared by the source",
                        doubt="",
                        content=related,
                    )
                )
        return found

    def _align_types(self) -> None:
        """Whole numbers that name what has texts for its key are texts too: 101 beside 101N."""
        tables = DraftTables(list(self.tables.values()), self.keys, dict.fromkeys(self.tables, ""))
        for many_table in tables.tables:
            if many_table.raw.frame is not None or _typed(many_table.raw.source.address):
                continue
            for name, many in list(many_table.columns.items()):
                pointed = pointed_to_as_text(tables, many) if many.type == INTEGER and many.distinct else None
                if pointed is not None:
                    one, found = pointed
                    where, target = column_name(many_table.name, name), column_name(one.table, one.name)
                    many_table.columns[name] = ColumnProfile(many_table.name, name, many.as_text())
                    self._set(many_table.name, name, type="text")
                    said = f"{target} is text, and has {found} that it contains"
                    self._add("type", where, f"{where} is text", 0.95, said)

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
    """Propose a model of raw tables: what is likely is declared, the rest is listed as proposals."""
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
    for step in reported(steps, lambda each: f"looking for {each.__name__.removeprefix('find_')}"):
        step()
    return Drafted(
        draft.declared,
        tuple(draft.proposals),
        {name: draft.kind(name) for name in draft.declared.tables},
        {name: table.rows for name, table in draft.tables.items()},
        tuple(left_out),
    )
