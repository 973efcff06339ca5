"""Columns from coarse to fine: each member of the finer one belongs to one of the coarser."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import pairwise

import numpy as np

from relatum.data.groups import distinct
from relatum.data.types import Kind
from relatum.drafts.keys import key_score
from relatum.drafts.profile import ColumnProfile, TableProfile
from relatum.drafts.proposals import Proposal
from relatum.model.declaration import Hierarchy
from relatum.model.names import column_name
from relatum.model.words import core, looks_like_key, subject, words


def hierarchies(
    tables: Mapping[str, TableProfile], chains: list[tuple[str, ...]], linked: Mapping[str, set[str]], taken: set[str]
) -> Iterator[Proposal]:
    """Hierarchies within lookups, and along chains of them.

    Parameters
    ----------
    tables : mapping of str to TableProfile
        The lookups by name.
    chains : list of tuple of str
        Lookups from fine to coarse, each pointing to the next: ``("product", "category")``.
    linked : mapping of str to set of str
        The columns of each table that relationships and keys use.
    taken : set of str
        Names that are taken.
    """
    found: set[tuple[str, ...]] = set()
    for chain in chains:
        levels: list[ColumnProfile] = []
        evidence: list[str] = []
        confidence = 0.95
        for each in reversed(chain):
            within, said, sure = _within(tables[each], linked[each])
            levels += within
            evidence += said
            confidence = min(confidence, sure)
        columns = tuple(column_name(each.table, each.name) for each in levels)
        if len(levels) < 2 or columns in found:
            continue
        found.add(columns)
        wanted = f"{levels[-1].table}_levels"
        name = next(each for each in (wanted, *(f"{wanted}_{n}" for n in range(2, 99))) if each not in taken)
        taken.add(name)
        counts = " > ".join(f"{each.distinct:,}" for each in levels)
        statement = " > ".join(columns)
        shown = "; ".join([*evidence, f"members: {counts}"])
        yield Proposal(
            kind="hierarchy",
            subject=name,
            statement=statement,
            confidence=confidence,
            evidence=shown,
            doubt="",
            content=Hierarchy(name, columns),
        )


def _within(table: TableProfile, linked: set[str]) -> tuple[list[ColumnProfile], list[str], float]:
    """The levels of one table from coarse to fine, its label last; with evidence and confidence."""
    label = _label(table, linked)
    usable = [
        each
        for each in table.columns.values()
        if each.type.kind is Kind.TEXT
        and each.name not in linked
        and each is not label
        and not looks_like_key(each.name)
        and not each.free_text
        and 2 <= each.distinct <= 0.7 * table.rows
    ]
    chain, evidence = _longest(usable)
    confidence = 0.9
    if not chain and label is not None and len(usable) == 1:
        chain, confidence = usable, 0.85
    if label is not None and (chain or not usable):
        chain = [*chain, label]
    return chain, evidence, confidence


def _label(table: TableProfile, linked: set[str]) -> ColumnProfile | None:
    """The column by which people know the rows: text, nearly unique, named like the table or ``name``."""
    own = subject(table.name)
    texts = [
        each
        for each in table.columns.values()
        if each.type.kind is Kind.TEXT and each.name not in linked and each.distinct > 0.7 * table.rows
        if not each.free_text
    ]
    named = [each for each in texts if "name" in words(each.name) or core(each.name) == own]
    chosen = named or texts
    return max(chosen, key=lambda each: key_score(table, each), default=None) if len(chosen) == 1 or named else None


def _longest(columns: list[ColumnProfile]) -> tuple[list[ColumnProfile], list[str]]:
    """The longest chain in which each member of the finer column has one of the coarser."""
    ordered = sorted(columns, key=lambda each: each.distinct)
    best: dict[str, list[ColumnProfile]] = {}
    for fine in ordered:
        best[fine.name] = [fine]
        for coarse in ordered:
            if coarse.distinct < fine.distinct and determines(fine, coarse):
                longer = [*best[coarse.name], fine]
                if len(longer) > len(best[fine.name]):
                    best[fine.name] = longer
    chain = max(best.values(), key=len, default=[])
    if len(chain) < 2:
        return [], []
    said = [
        f"each of the {fine.distinct:,} members of {fine.name} has one {coarse.name}"
        for coarse, fine in pairwise(chain)
    ]
    return chain, said


def determines(fine: ColumnProfile, coarse: ColumnProfile) -> bool:
    """Whether each member of a column has one value of another, on enough rows that it is no coincidence."""
    codes = fine.members.codes.astype(np.int64)
    others = coarse.members.codes.astype(np.int64)
    known = (codes < fine.distinct) & (others < coarse.distinct)
    codes, others = codes[known], others[known]
    if not len(codes):
        return False
    pairs = distinct(codes * (coarse.distinct + 1) + others)
    counts = np.bincount(codes, minlength=fine.distinct)
    repeated = counts[counts > 1]
    # By chance alone, a repeated member would rarely keep to one of the coarser values.
    return len(pairs) == np.count_nonzero(counts) and len(repeated) >= 3 and int((repeated - 1).sum()) >= 5
