"""Which columns point to which tables: names and values compared."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from relatum.data.arrow import python_values
from relatum.data.columns import Column
from relatum.data.groups import distinct
from relatum.data.joins import build_join_index
from relatum.data.types import Kind
from relatum.drafts.dates import date_rank
from relatum.drafts.keys import almost_unique, why_not_unique
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import LIKELY, Proposal
from relatum.drafts.scheme import Scheme
from relatum.errors import DataError
from relatum.model.declaration import End, Relationship
from relatum.model.names import quoted
from relatum.model.words import (
    core,
    is_counted,
    is_detail,
    is_generic,
    is_of_own_kind,
    is_rate,
    is_staff_of,
    looks_like_key,
    role_in,
    singular,
    starts_a_validity,
    subject,
    words,
)
from relatum.wording import counted, percent

#: Kinds of values that can name a thing.
_NAMING = (Kind.INTEGER, Kind.TEXT, Kind.DATE)
#: Besides others, a moment names a thing too: the weather of a place at an hour.
_NAMING_TOGETHER = (*_NAMING, Kind.TIMESTAMP)
#: Among fewer keys, it is not by accident that half of them find nothing.
_ENOUGH = 100
#: A name match below the first score is not evidence by itself; a column that names a person's role has the second.
_WEAK, _STAFF = 0.6, 0.8


def name_match(scheme: Scheme, many: ColumnProfile, one: ColumnProfile) -> float:
    """How much two names say that one column points to the other, from 0 to 1."""
    left, right = scheme.bare(many), scheme.bare(one)
    target = subject(one.table)
    many_core, one_core = core(left), core(right)
    if tuple(map(singular, words(left))) == (*target, *map(singular, words(right))):
        return 0.97
    plain = words(right) in (("id",), ("key",), ("code",), ("no",), ("number",), ("name",), ("pk",))
    if words(left) == words(right) and not is_generic(left):
        return 1.0
    if plain and many_core == target[-len(many_core) :] and looks_like_key(left):
        return 0.97
    if many_core == one_core and not plain and (looks_like_key(left) or looks_like_key(right)):
        return 0.95
    if looks_like_key(left) or looks_like_key(right):
        if plain and "".join(many_core).endswith("".join(target)):
            return 0.9
        if not plain and many_core[-len(one_core) :] == one_core:
            return 0.9
        if not plain and len("".join(one_core)) > 2 and "".join(many_core).endswith("".join(one_core)):
            return 0.75
    if many_core == target and not looks_like_key(left):
        return 0.7
    if is_staff_of(left, one.table) and (plain or looks_like_key(right)):
        return _STAFF
    return 0.3 if words(left) == words(right) else 0.0


def relate_columns(scheme: Scheme) -> list[Proposal]:
    """Every relationship of one column to a unique one that names and values speak for, and near misses as notes."""
    found: list[Proposal] = []
    for one_table in scheme.tables.values():
        for one in one_table.columns.values():
            if (
                one.type.kind not in _NAMING
                or not (_one_side(one) or almost_unique(one))
                or is_counted(one.name)
                or is_rate(one.name)
            ):
                continue
            for many_table in scheme.tables.values():
                if many_table is one_table:
                    continue
                for many in many_table.columns.values():
                    proposal = _pair(scheme, many_table, many, one_table, one)
                    if proposal is not None and _worth_reading(scheme, proposal, many, one):
                        found.append(proposal)
    return found


def _worth_reading(scheme: Scheme, proposal: Proposal, many: ColumnProfile, one: ColumnProfile) -> bool:
    """Whether a person wants to know: not that two tables both have phone numbers, or both number their rows."""
    if proposal.confidence >= LIKELY:
        return True
    numbered = proposal.kind == "aside" and scheme.keys.get(many.table) == (many.name,)
    return not (numbered or is_detail(many.name) or is_detail(one.name))


def _one_side(column: ColumnProfile) -> bool:
    known = column.rows - column.nulls
    return known > 1 and column.distinct == known and column.nulls <= 0.02 * column.rows


def _pair(
    scheme: Scheme, many_table: TableProfile, many: ColumnProfile, one_table: TableProfile, one: ColumnProfile
) -> Proposal | None:
    if many.type.kind not in _NAMING or not many.distinct:
        return None
    score = name_match(scheme, many, one)
    link = f"{End(many.table, (many.name,))} -> {End(one.table, (one.name,))}"
    if not _comparable(many, one):
        if score < 0.9:
            return None
        doubt = f"{many.name} is {many.type} and {one.table}.{one.name} is {one.type}: they never match"
        return Proposal(
            kind="relationship",
            subject=link,
            statement=link,
            confidence=0.3,
            evidence="the names agree",
            doubt=doubt,
            content=_pointing_to(many, one),
        )
    # The evidence of values costs more than that of names: a pair that no name speaks for must be text.
    if score < 0.3 and many.type.kind is not Kind.TEXT:
        return None
    if score < 0.3 and many.distinct < 10:
        found = coverage([many], [one])
        few = f"{found} found, but {counted(found.members, 'value')} could match by chance"
        return Proposal("aside", link, link, 0.0, few) if found.members > 1 and found.share == 1 else None
    whole = scheme.keys.get(many.table) in ((many.name,), ())
    if many.unique and one.unique and whole:
        if scheme.keys.get(one.table) not in ((one.name,), ()):
            return None  # unique by chance: it points to this table, not the other way round
        both = _one_to_one(scheme, many_table, many, one_table, one, score)
        if both is not None or many.rows >= one.rows:
            return both
    found = coverage([many], [one])
    share = found.share
    evidence = f"{found} found" if many.rows > many.nulls else "no keys"
    evidence += f", {found.members:,} of {one.distinct:,} rows used"
    if score == _STAFF:
        evidence += "; the name suggests one of its people"
    else:
        evidence += "; the names agree" if score >= _WEAK else "; the names do not agree"
    if not _one_side(one):
        # Near enough to be meant: a person must say which of the rows is right.
        doubt = f"{quoted(one.table)}.{one.name} is {why_not_unique(one)}"
        usable = score >= 0.9 and share >= 0.9
        return (
            Proposal(
                kind="relationship",
                subject=link,
                statement=link,
                confidence=0.5,
                evidence=evidence,
                doubt=doubt,
                content=_pointing_to(many, one),
            )
            if usable
            else None
        )
    confidence, doubt = _judged(many, one, score, found, _certainly_key(scheme, one), whole)
    if confidence == 0:
        if score >= 0.9 and not is_generic(scheme.bare(many)):
            said = f"{quoted(many.table)}.{many.name} and {quoted(one.table)}.{one.name} have similar names"
            return Proposal("note", link, f"{said} and hardly any values in common: not related", 0.0, evidence)
        if score >= _WEAK or share > 0.5:
            return Proposal("aside", link, link, 0.0, evidence)
        return None
    return Proposal(
        kind="relationship",
        subject=link,
        statement=link,
        confidence=confidence,
        evidence=evidence,
        doubt=doubt,
        content=_pointing_to(many, one),
    )


def _certainly_key(scheme: Scheme, one: ColumnProfile) -> bool:
    return scheme.keys.get(one.table) == (one.name,)


def _judged(
    many: ColumnProfile, one: ColumnProfile, score: float, found: Coverage, is_key: bool, whole: bool
) -> tuple[float, str]:
    share, missing = found.share, found.missing
    if many.unique and whole:
        # Each value once on both sides of different size: the smaller may be a part of the larger.
        return (0.6, "both sides are unique") if score >= 0.9 and share >= 0.98 else (0.0, "")
    if score >= 0.9:
        narrower = _narrower(many, one)
        if share >= 0.9 and narrower and _dense(one):
            return 0.7, f"{one.table} is about {narrower}, and small numbers match almost anything"
        if share >= 0.9:
            return (0.99 if share >= 0.98 and is_key else 0.93), missing
        # Keys with the same name on both sides mean the same, even if many of them are missing. Numbers one
        # after the other are found anywhere: nearly every row must be pointed to as well.
        sure = many.type.kind is Kind.TEXT or not _dense(one) or found.members >= 0.9 * one.distinct
        alike = score >= 0.95 and is_key and sure and not narrower and found.total >= _ENOUGH
        return (0.85 if alike else 0.6, missing) if share >= 0.5 else (0.0, "")
    if score == _STAFF and share >= 0.98:
        return 0.82, ""
    if score >= _WEAK:
        if share >= 0.98:
            return (0.7, "the numbers could match by chance") if _dense(one) else (0.9, missing)
        return (0.5, missing) if share >= 0.8 else (0.0, "")
    if share == 1 and many.type.kind is Kind.TEXT and many.distinct >= max(10, one.distinct // 2):
        doubt = "the values match, the names do not" if score == 0 else "the name is too common to mean anything"
        return 0.6, doubt
    return 0.0, ""


def _one_to_one(
    scheme: Scheme,
    many_table: TableProfile,
    many: ColumnProfile,
    one_table: TableProfile,
    one: ColumnProfile,
    score: float,
) -> Proposal | None:
    # Of the two ways round one is proposed: from the table with more rows, or the first one.
    order = list(scheme.tables)
    later = order.index(many_table.name) > order.index(one_table.name)
    if score < 0.9 or many.rows < one.rows or (many.rows == one.rows and later):
        return None
    found = coverage([one], [many])
    share, example = found.share, found.example
    if share < 0.9:
        return None
    link = f"{End(many.table, (many.name,))} <-> {End(one.table, (one.name,))}"
    content = Relationship(End(many.table, (many.name,)), End(one.table, (one.name,)), kind="one_to_one")
    evidence = f"{found} found, unique on both sides"
    doubt = f"not found: {example}" if share < 1 else ""
    confidence = 0.95 if share == 1 else 0.85
    owners = [subject(table) for table in (many.table, one.table)]
    if _dense(one) and not (looks_like_key(one.name) and core(one.name) in owners):
        confidence, doubt = 0.5, "rows with the same number need not be the same things"
    return Proposal(
        kind="relationship",
        subject=link,
        statement=link,
        confidence=confidence,
        evidence=evidence,
        doubt=doubt,
        content=content,
    )


def _narrower(many: ColumnProfile, one: ColumnProfile) -> str:
    """A word in the name of a table that neither the column that would point there knows nor its own table.

    ``customer.group_id`` need not mean a row of ``product_group``; ``product.group_id`` does. A table that is not named
    after its key at all says nothing of it: the ``household_id`` of ``demographics`` is that of any household.
    """
    about = [*core(many.name), *core(one.name), *map(singular, words(many.table))]
    target = subject(one.table)
    if not set(core(one.name)) & set(target) and many.name == one.name and not is_generic(one.name):
        return ""
    return next((word for word in target if not any(word.startswith(each) or each in word for each in about)), "")


def _dense(column: ColumnProfile) -> bool:
    """Whether its values are whole numbers one after the other: small ones are found among any others."""
    return column.type.kind is Kind.INTEGER and column.column.upper - column.column.lower < 4 * max(column.distinct, 1)


def _pointing_to(many: ColumnProfile, one: ColumnProfile) -> Relationship:
    return Relationship(End(many.table, (many.name,)), End(one.table, (one.name,)))


def _comparable(many: ColumnProfile, one: ColumnProfile) -> bool:
    return many.type.kind is one.type.kind


def between_facts(scheme: Scheme, found: Sequence[Proposal]) -> Iterator[Proposal]:
    """The proposals; those to a table whose key consists of other tables' keys become doubts: it is a fact itself.

    Rows of two facts about the same players and clubs find each other by those; they meet at what both look up.
    """
    pointing: dict[str, set[str]] = {}
    for each in found:
        if each.active and isinstance(each.content, Relationship) and each.content.kind == "many_to_one":
            pointing.setdefault(each.content.many.table, set()).update(each.content.many.columns)
    for each in found:
        related = each.content if each.active and each.confidence < 1 else None
        if isinstance(related, Relationship) and related.match == "equal" and len(related.one.columns) > 1:
            one = related.one.table
            if set(scheme.keys.get(one, ())) <= pointing.get(one, set()):
                doubt = f"{one} is also a fact about the same things: they share lookups instead"
                each = replace(each, confidence=0.6, doubt=doubt)
        yield each


class Coverage(Struct, frozen=True):
    """How many of a column's keys another table has, how many rows they point to there, and a key that it lacks."""

    found: int
    total: int
    members: int
    example: str

    @property
    def share(self) -> float:
        """The share of keys found."""
        return self.found / self.total if self.total else 0.0

    @property
    def missing(self) -> str:
        """What is not found; empty where nothing is missing."""
        if self.found == self.total:
            return ""
        lost = self.total - self.found
        said = f"{percent(lost, self.total)} of the keys match nothing ({counted(lost, 'row')})"
        return f"{said}, for instance {self.example}"

    def __str__(self) -> str:
        return f"{percent(self.found, self.total)} of {counted(self.total, 'key')}"


def coverage(many: Sequence[ColumnProfile], one: Sequence[ColumnProfile], match: str = "equal") -> Coverage:
    """How the keys of some columns are found in another table's."""
    sides = End(many[0].table, tuple(each.name for each in many)), End(one[0].table, tuple(each.name for each in one))
    related = Relationship(*sides, match=match)
    targets = [each.column for each in one]
    if len(many) == 1:
        members = many[0].members
        columns: list[Column] = [members.values]
        weights = np.bincount(members.codes.astype(np.int64), minlength=members.size)[: len(members.values)]
    else:
        columns = [each.column for each in many]
        known = [each.column.nulls for each in many if each.column.nulls is not None]
        weights = np.ones(many[0].rows, np.int64)
        for nulls in known:
            weights[nulls] = 0
    total = int(weights.sum())
    try:
        index = build_join_index(related, columns, targets)
    except DataError:
        return Coverage(0, total, 0, "")
    missed = (index.positions == index.size) & (weights > 0)
    found = len(distinct(index.positions[(index.positions != index.size) & (weights > 0)]))
    rows = np.flatnonzero(missed)[:1]
    shown = ", ".join(str(python_values(column.take(rows))[0]) for column in columns) if len(rows) else ""
    return Coverage(total - int(weights[missed].sum()), total, found, shown)


def relate_roles(scheme: Scheme, found: Sequence[Proposal]) -> Iterator[Proposal]:
    """Lookups that a table uses in several roles: two columns named for roles, their values in the same key.

    The names say in which role a thing is and not which thing: ``origin`` and ``dest``. That the values of both are
    keys of one table says it.
    """
    drawn = {each.content.many for each in found if each.active and isinstance(each.content, Relationship)}
    for many_table in scheme.tables.values():
        roles = [
            each
            for each in many_table.columns.values()
            if role_in(each.name) and each.type.kind is Kind.TEXT and each.distinct > 1
            if End(each.table, (each.name,)) not in drawn
        ]
        for one_table in scheme.tables.values():
            key = scheme.keys.get(one_table.name, ())
            if one_table is many_table or len(key) != 1 or one_table.columns[key[0]].type.kind is not Kind.TEXT:
                continue
            one = one_table.columns[key[0]]
            covered = [(each, coverage([each], [one])) for each in roles]
            fitting = [(each, share) for each, share in covered if share.share >= 0.9]
            if len(fitting) < 2:
                continue
            for many, share in fitting:
                link = f"{End(many.table, (many.name,))} -> {End(one.table, (one.name,))}"
                others = ", ".join(each.name for each, _ in fitting if each is not many)
                evidence = f"{share} found, {share.members:,} of {one.distinct:,} rows used; {others} too"
                yield Proposal(
                    kind="relationship",
                    subject=link,
                    statement=link,
                    confidence=0.9,
                    evidence=evidence,
                    doubt=share.missing,
                    content=_pointing_to(many, one),
                )


def relate_selves(scheme: Scheme) -> Iterator[Proposal]:
    """Columns that point to another row of the same table: the manager of an employee, the parent of a group."""
    for table in scheme.tables.values():
        key = scheme.keys.get(table.name, ())
        one = table.columns[key[0]] if len(key) == 1 else None
        if one is None or one.type.kind not in _NAMING:
            continue
        for many in table.columns.values():
            named = is_of_own_kind(scheme.bare(many)) or (
                name_match(scheme, many, one) >= 0.9 and core(many.name) != core(one.name)
            )
            if many is one or not named or not _comparable(many, one) or not many.distinct:
                continue
            found = coverage([many], [one])
            if found.share < 0.8:
                continue
            link = f"{End(many.table, (many.name,))} -> {End(one.table, (one.name,))}"
            evidence = f"{found} found in the same table; the name suggests another of its rows"
            sure = 0.9 if found.share >= 0.98 else 0.6
            yield Proposal(
                kind="relationship",
                subject=link,
                statement=link,
                confidence=sure,
                evidence=evidence,
                doubt=found.missing,
                content=_pointing_to(many, one),
            )


def pointed_to_as_text(scheme: Scheme, many: ColumnProfile) -> tuple[ColumnProfile, Coverage] | None:
    """The text key that a column of whole numbers points to by its name, and by its values once they are texts."""
    written = ColumnProfile(many.table, many.name, many.as_text())
    for table in scheme.tables.values():
        key = scheme.keys.get(table.name, ())
        one = table.columns[key[0]] if len(key) == 1 else many
        own = table.name == many.table
        named = is_of_own_kind(many.name) if own else name_match(scheme, many, one) >= 0.9
        if one is not many and one.type.kind is Kind.TEXT and named:
            found = coverage([written], [one])
            if found.share >= 0.9:
                return one, found
    return None


def relate_pairs(scheme: Scheme) -> Iterator[Proposal]:
    """Relationships of several columns: to a composite key, or to the latest row that holds on a date."""
    for one_table in scheme.tables.values():
        key = scheme.keys.get(one_table.name, ())
        if len(key) < 2:
            continue
        one = [one_table.columns[name] for name in key]
        for many_table in scheme.tables.values():
            if many_table is not one_table:
                yield from _several(scheme, many_table, one_table, one)


def _several(
    scheme: Scheme, many_table: TableProfile, one_table: TableProfile, one: list[ColumnProfile]
) -> Iterator[Proposal]:
    dated = [each for each in one if each.type.kind is Kind.DATE]
    exact = [each for each in one if each.type.kind is not Kind.DATE]
    partners = [_partner(scheme, many_table, each, len(one)) for each in exact]
    if any(each is None for each in partners) or not exact:
        return
    many = [each for each in partners if each is not None]
    if not dated:
        if set(scheme.keys.get(many_table.name, ())) == {each.name for each in many}:
            return  # the same columns identify rows of both: two facts about one thing, and no lookup
        found = coverage(many, one)
        if found.share >= 0.5:
            yield _composite(many, one, found, "equal", 0.95 if found.share >= 0.9 else 0.6)
        return
    dates = [each for each in many_table.columns.values() if each.type.kind is Kind.DATE]
    if len(dated) != 1 or not dates:
        return
    date = min(dates, key=lambda each: date_rank(many_table, each))
    one = [*exact, *dated]
    equal = coverage([*many, date], one)
    if equal.share >= 0.95 and not starts_a_validity(dated[0].name):
        yield _composite([*many, date], one, equal, "equal", 0.9)
        return
    latest = coverage([*many, date], one, "as_of")
    said = starts_a_validity(dated[0].name)
    if latest.share >= 0.5:
        confidence = (0.96 if latest.share >= 0.95 else 0.85) if said else 0.6
        yield _composite([*many, date], one, latest, "as_of", confidence, not said)


def _partner(scheme: Scheme, many_table: TableProfile, one: ColumnProfile, size: int) -> ColumnProfile | None:
    # Beside another column that agrees, a name as common as month or code is evidence too.
    scored = [
        (0.9 if words(scheme.bare(each)) == words(scheme.bare(one)) else name_match(scheme, each, one), each)
        for each in many_table.columns.values()
        if each.type.kind is one.type.kind and each.type.kind in (_NAMING_TOGETHER if size > 1 else _NAMING)
    ]
    best = max(scored, key=lambda each: each[0], default=(0.0, None))
    return best[1] if best[0] >= 0.9 else None


def _composite(
    many: list[ColumnProfile],
    one: list[ColumnProfile],
    found: Coverage,
    match: str,
    confidence: float,
    doubtful: bool = False,
) -> Proposal:
    related = Relationship(
        End(many[0].table, tuple(each.name for each in many)),
        End(one[0].table, tuple(each.name for each in one)),
        match=match,
    )
    evidence = f"{found} found, {found.members:,} of {one[0].rows:,} rows used"
    if match == "as_of":
        evidence += f"; {one[-1].name} says when a row becomes valid"
    doubt = f"nothing shows that a row of {one[0].table} is valid until the next one" if doubtful else found.missing
    return Proposal(
        kind="relationship",
        subject=str(related),
        statement=str(related),
        confidence=confidence,
        evidence=evidence,
        doubt=doubt,
        content=related,
    )
