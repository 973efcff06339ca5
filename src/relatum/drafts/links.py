"""The step of a draft that relates tables: what the source declares, then what names and values speak for."""

from __future__ import annotations

from msgspec.structs import replace

from relatum.drafts.dates import date_rank
from relatum.drafts.proposals import Proposal
from relatum.drafts.relationships import (
    between_facts,
    name_match,
    relate_columns,
    relate_pairs,
    relate_roles,
    relate_selves,
)
from relatum.drafts.scheme import Scheme
from relatum.errors import ModelError
from relatum.model.declaration import Declaration, End, Relationship, Table
from relatum.model.links import parse_link
from relatum.model.names import quoted
from relatum.model.routes import Place, RouteMap
from relatum.model.words import core, own_kind_name, words


def find_relationships(scheme: Scheme) -> Scheme:
    """Declared ones, then those that names and values speak for; two routes are resolved or left to a person."""
    declared, absent = _foreign_keys(scheme)
    scheme = scheme.proposing(*absent)
    own = [each for each in declared if _content(each).many.table == _content(each).one.table]
    found = [*(each for each in declared if each not in own), *relate_columns(scheme), *relate_pairs(scheme)]
    found += relate_roles(scheme, found)
    selves = list(relate_selves(scheme))
    found = _one_target_each(scheme, list(between_facts(scheme, found)))
    singles = [each for each in found if not each.active or not isinstance(each.content, Relationship)]
    pointing = {each.content.many for each in found if each.active and isinstance(each.content, Relationship)}
    # What a column has nothing in common with is worth a word only where it points nowhere else.
    singles = [each for each in singles if each.kind != "note" or _start(each) not in pointing]
    taken = {each.subject for each in found if each.kind == "relationship"}
    scheme = scheme.proposing(*(each for each in singles if each.kind != "aside" or each.subject not in taken))
    for each in sorted((each for each in found if each.active), key=lambda each: _rank(scheme, each)):
        scheme = accepted(scheme, each)
    scheme = _with_roles(scheme)
    known = {each.content.many for each in selves if isinstance(each.content, Relationship)}
    for each in [*selves, *(each for each in own if _content(each).many not in known)]:
        scheme = _accepted_own(scheme, each)
    return scheme


def _content(proposal: Proposal) -> Relationship:
    related = proposal.content
    assert isinstance(related, Relationship)
    return related


def _start(note: Proposal) -> End:
    """The column that a note about two like names begins with."""
    many, _, _ = parse_link(note.subject)
    return many


def _foreign_keys(scheme: Scheme) -> tuple[list[Proposal], list[Proposal]]:
    """The keys that the sources declare; and a note on each that points to a table that is not there."""
    found, absent = [], []
    for table in scheme.tables.values():
        for each in table.raw.foreign_keys:
            if each.target not in scheme.tables:
                said = f"{table.name}.({', '.join(each.columns)}) points to {each.target}"
                absent.append(Proposal("note", table.name, said, 0.0, "it is not in the data"))
                continue
            related = Relationship(End(table.name, each.columns), End(each.target, each.target_columns))
            text = str(related)
            found.append(Proposal("relationship", text, text, 1.0, "declared by the source", "", related))
    return found, absent


def _one_target_each(scheme: Scheme, found: list[Proposal]) -> list[Proposal]:
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
        group.sort(key=lambda pair: _fit(scheme, *pair), reverse=True)
        best, winner = group[0]
        others = [
            (each, related)
            for each, related in group[1:]
            if related.kind == "many_to_one" and each.active and related.one != winner.one
            if {related.many, related.one} not in paired
        ]
        if others and best.active and _fit(scheme, *others[0]) == _fit(scheme, best, winner):
            doubt = f"{winner.many} could also point to {others[0][1].one}"
            best = replace(best, confidence=0.6, doubt=doubt)
        kept.append(best)
        for each, related in others:
            said = "already points to {}" if best.active else "could also point to {}"
            doubt = f"{related.many} {said.format(winner.one)}"
            kept.append(replace(each, confidence=0.6, doubt=doubt))
    return kept


def _fit(scheme: Scheme, proposal: Proposal, related: Relationship) -> tuple[float, float, bool, int]:
    """How well a column's target fits: by evidence, by the column's name, by the name of its own table."""
    many = scheme.tables[related.many.table].columns[related.many.columns[0]]
    one = scheme.tables[related.one.table].columns[related.one.columns[0]]
    named = related.one.table.replace("_", "") in many.name.replace("_", "").lower()
    whole = scheme.keys.get(related.one.table) == related.one.columns
    kin = len(set(words(related.many.table)) & set(words(related.one.table)))
    return proposal.confidence, name_match(scheme, many, one), whole and named, kin


def _rank(scheme: Scheme, proposal: Proposal) -> tuple[int, int, float, tuple[int, int, int]]:
    """Which relationships are taken first: those of small tables, to large lookups."""
    related = _content(proposal)
    many, one = scheme.tables[related.many.table], scheme.tables[related.one.table]
    rank = date_rank(many, many.columns[related.many.columns[0]])
    return many.rows, -one.rows if related.match == "equal" else one.rows, -proposal.confidence, rank


def accepted(scheme: Scheme, proposal: Proposal) -> Scheme:
    """Take a relationship into the model, in the first way that leaves one route between any two tables.

    Where no way does, a relationship between lookups that opens the second route stands by; where none can, the
    proposal is a doubt.
    """
    related = _content(proposal)
    problem = ""
    for variant, said in _variants(scheme, related):
        declared, reason = _tried(scheme.declared, variant)
        if declared is None:
            problem = problem or reason
            continue
        evidence = f"{proposal.evidence}; {said}" if said else proposal.evidence
        taken = replace(proposal, evidence=evidence, content=variant)
        return replace(scheme, declared=declared).proposing(taken)
    yielding = _yielding(scheme, proposal)
    if yielding is not None:
        return yielding
    doubt = " ".join(line.strip() for line in problem.splitlines()[:3])
    return scheme.proposing(replace(proposal, confidence=0.5, doubt=doubt[:1].lower() + doubt[1:]))


def _tried(declared: Declaration, related: Relationship) -> tuple[Declaration | None, str]:
    """The declaration with one more relationship, or why it cannot have it."""
    try:
        more = declared.with_relationship(related)
        RouteMap(more)
    except ModelError as error:
        return None, error.reason
    return more, ""


def _variants(scheme: Scheme, related: Relationship) -> list[tuple[Relationship, str]]:
    ways = [(related, "")]
    if related.match == "as_of":
        ways.append((replace(related, direction="off"), "off, because another route continues from there"))
    twin = next(
        (
            each
            for each in scheme.declared.relationships
            if (each.many.table, each.one.table) == (related.many.table, related.one.table) and not each.standby
        ),
        None,
    )
    if twin is not None and twin.match == related.match:
        said = f"on standby behind {twin.many.columns[0]}: a formula uses it with via"
        ways.append((replace(related, standby=True), said))
    if scheme.has_calendar_rows(related.one.table) and not related.level:
        said = "on standby, because another route leads to the calendar: a formula uses it with via"
        ways.append((replace(related, standby=True), said))
    return ways


def _yielding(scheme: Scheme, proposal: Proposal) -> Scheme | None:
    """Take a relationship, and have one between lookups that opens the second route stand by."""
    related = _content(proposal)
    reached = {str(place) for place in RouteMap(scheme.declared).lookups(Place(related.one.table))}
    for other in scheme.declared.relationships:
        if quoted(other.many.table) not in reached or other.standby or other.level:
            continue
        quiet = replace(other, standby=True)
        declared, _ = _tried(scheme.with_exchanged(other, quiet), related)
        if declared is None:
            continue
        said = f"on standby, because {related.many.table} also reaches {other.one.table} by another route"
        proposals = tuple(
            replace(each, content=quiet, confidence=min(each.confidence, 0.85), evidence=f"{each.evidence}; {said}")
            if each.content is other
            else each
            for each in scheme.proposals
        )
        return replace(scheme, declared=declared, proposals=proposals).proposing(proposal)
    return None


def _with_roles(scheme: Scheme) -> Scheme:
    """A lookup that one table uses several times has a role for each, named after the column that points to it."""
    groups: dict[tuple[str, str], list[Relationship]] = {}
    for each in scheme.declared.relationships:
        if each.kind == "many_to_one" and each.match == "equal" and len(each.many.columns) == 1:
            groups.setdefault((each.many.table, each.one.table), []).append(each)
    looking_up = {each.many.table for each in scheme.declared.relationships}
    for (_, lookup), group in groups.items():
        # What the lookup itself looks up is found through the first one only: a role looks up nothing.
        for related in group[1 if lookup in looking_up else 0 :] if len(group) > 1 else ():
            scheme = _with_role(scheme, related)
    return scheme


def _with_role(scheme: Scheme, related: Relationship) -> Scheme:
    """With a relationship that points to a role of its lookup."""
    lookup = related.one.table
    role = _role(scheme, related.many.columns[0], lookup)
    changed = replace(related, one=End(role.name, related.one.columns), standby=False)
    scheme = scheme.with_table(role)
    said = f"{role.name} is a role of {lookup}, which {quoted(related.many.table)} refers to more than once"
    proposals = tuple(
        replace(each, subject=str(changed), statement=str(changed), content=changed,
                evidence=f"{each.evidence.partition('; on standby')[0]}; {said}")
        if each.content is related else each
        for each in scheme.proposals
    )  # fmt: skip
    return replace(scheme, declared=scheme.with_exchanged(related, changed), proposals=proposals)


def _role(scheme: Scheme, column: str, table: str) -> Table:
    """A role of a table, named after the column that points to it."""
    wanted = "_".join(core(column)) or column
    choices = (own_kind_name(column), wanted, f"{wanted}_{table}", f"{column}_{table}_role")
    name = next(each for each in choices if each and each not in scheme.declared.tables)
    return Table(name, role_of=table, label=" ".join(words(name)).capitalize())


def _accepted_own(scheme: Scheme, proposal: Proposal) -> Scheme:
    """Take a column that points to another row of its own table: to a role of it, named after the column."""
    related = _content(proposal)
    if any(each.many == related.many for each in scheme.declared.relationships):
        return scheme
    if not proposal.active:
        return scheme.proposing(proposal)
    role = _role(scheme, related.many.columns[0], related.one.table)
    changed = replace(related, one=End(role.name, related.one.columns))
    said = f"{proposal.evidence}; {role.name} is a role of {related.one.table}"
    text = str(changed)
    tried = accepted(
        scheme.with_table(role), replace(proposal, subject=text, statement=text, content=changed, evidence=said)
    )
    if any(each.one.table == role.name for each in tried.declared.relationships):
        return tried
    return replace(tried, declared=scheme.declared)
