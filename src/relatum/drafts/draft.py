"""A draft: from raw tables to a declaration, with the evidence for each part of it."""

from __future__ import annotations

from collections.abc import Collection

from msgspec.structs import replace

from relatum.drafts.calendars import find_calendars
from relatum.drafts.collect import LeftOut, Raw
from relatum.drafts.columns import align_types, find_names, find_nulls, find_types
from relatum.drafts.drafted import Drafted
from relatum.drafts.hierarchies import hierarchies
from relatum.drafts.keys import proposed_key
from relatum.drafts.links import find_relationships
from relatum.drafts.measures import Namer, best_first, fact_measures, lookup_averages, priced, sold
from relatum.drafts.profile import profile
from relatum.drafts.proposals import LIKELY, Proposal
from relatum.drafts.scheme import Scheme
from relatum.model.declaration import Declaration, Hierarchy, Measure
from relatum.model.names import column_name, split_name
from relatum.runtime.progress import reported


def find_keys(scheme: Scheme) -> Scheme:
    """What tells each table's rows apart: with that, whole numbers that point to texts are texts."""
    keys: dict[str, tuple[str, ...]] = {}
    for table in scheme.tables.values():
        key, proposal = proposed_key(table)
        if proposal is not None:
            scheme = scheme.proposing(proposal)
        keys[table.name] = key if proposal is None or proposal.confidence >= LIKELY else ()
    return align_types(replace(scheme, keys=keys)).with_tables_declared()


def find_measures(scheme: Scheme) -> Scheme:
    """Sums, counts and averages of each fact."""
    declared, tables = scheme.declared, scheme.tables
    linked, ends = scheme.linked(keys=True), scheme.linked(keys=False)
    targets = {each.one.table for each in declared.relationships if each.match == "equal"}
    prices = [each for each in declared.relationships if each.match == "as_of"]
    namer = Namer({*declared.tables})
    found: list[Proposal] = []
    for table in sorted((table for table in tables.values() if _counts(scheme, table.name)), key=lambda it: -it.rows):
        key, calendar = scheme.keys[table.name], scheme.calendar_of(table.name)
        within = table.name in scheme.looked_up
        measures = [*sold(table, namer), *fact_measures(table, ends[table.name], key, calendar, namer, surely=within)]
        found += best_first(measures)
        for related in prices:
            if related.many.table == table.name:
                found += priced(table, tables[related.one.table], namer)
    for related in prices:
        if related.one.table not in targets:
            found += lookup_averages(tables[related.one.table], linked[related.one.table], namer)
    for each in found:
        if each.active and isinstance(each.content, Measure):
            declared = declared.with_measure(each.content)
    return replace(scheme, declared=declared).proposing(*found)


def _counts(scheme: Scheme, name: str) -> bool:
    """Whether a table's rows are facts: they point to lookups, or there are several and nothing points to them."""
    kind = scheme.kind(name)
    return kind == "fact" or (kind == "alone" and (scheme.tables[name].rows > 1 or len(scheme.tables) == 1))


def find_hierarchies(scheme: Scheme) -> Scheme:
    """Levels of lookups, from coarse to fine."""
    declared = scheme.declared
    lookups = {name: table for name, table in scheme.tables.items() if scheme.kind(name) == "lookup"}
    taken = {*declared.tables, *declared.measures}
    for found in hierarchies(lookups, _chains(scheme, lookups), scheme.linked(keys=True), taken):
        for proposal in _in_roles(scheme, found):
            scheme = scheme.proposing(proposal)
            if proposal.active and isinstance(proposal.content, Hierarchy):
                declared = declared.with_hierarchy(proposal.content)
    calendar = next((name for name, table in declared.tables.items() if table.calendar), "")
    if calendar and "time" not in {*taken, *declared.hierarchies}:
        levels = tuple(column_name(calendar, each) for each in ("year", "quarter", "month"))
        scheme = scheme.adding("hierarchy", "time", " > ".join(levels), 0.99, "of the calendar")
        declared = declared.with_hierarchy(Hierarchy("time", levels))
    return replace(scheme, declared=declared)


def _chains(scheme: Scheme, lookups: Collection[str]) -> list[tuple[str, ...]]:
    """Lookups from fine to coarse, each that no other of them points to being the start of one."""
    steps: dict[str, list[str]] = {}
    for related in scheme.declared.relationships:
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


def _in_roles(scheme: Scheme, found: Proposal) -> list[Proposal]:
    """A hierarchy, or the same in each role of its table where that is used in roles alone."""
    hierarchy = found.content
    assert isinstance(hierarchy, Hierarchy)
    tables = {split_name(level)[0] for level in hierarchy.levels}
    pointed = {each.one.table for each in scheme.declared.relationships}
    roles = [name for name, table in scheme.declared.tables.items() if table.role_of in tables]
    if len(tables) > 1 or not roles or tables & pointed:
        return [found]
    spread = []
    for role in roles:
        levels = tuple(column_name(role, split_name(level)[1]) for level in hierarchy.levels)
        name = f"{role}_levels"
        spread.append(replace(found, subject=name, statement=" > ".join(levels), content=Hierarchy(name, levels)))
    return spread


#: The steps of a draft, each of which takes what the ones before found.
_STEPS = {
    "names": find_names,
    "nulls": find_nulls,
    "types": find_types,
    "keys": find_keys,
    "relationships": find_relationships,
    "calendars": find_calendars,
    "measures": find_measures,
    "hierarchies": find_hierarchies,
}


def draft_model(raws: list[Raw], left_out: list[LeftOut], name: str, timezone: str) -> Drafted:
    """Propose a model of raw tables: what is likely is declared, the rest is listed as proposals."""
    scheme = Scheme({raw.name: profile(raw) for raw in raws}, Declaration(name, timezone=timezone))
    for _, step in reported(_STEPS.items(), lambda each: f"looking for {each[0]}"):
        scheme = step(scheme)
    return Drafted(
        scheme.declared,
        scheme.proposals,
        {name: scheme.kind(name) for name in scheme.declared.tables},
        {name: table.rows for name, table in scheme.tables.items()},
        tuple(left_out),
    )
