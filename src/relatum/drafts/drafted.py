"""What became of raw data: a declaration, proposals, and the declaration without what turned out not to stand."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from relatum.drafts.collect import LeftOut
from relatum.drafts.proposals import Proposal
from relatum.model.declaration import ColumnSettings, Declaration, frozen
from relatum.model.names import column_name


class Drafted(Struct, frozen=True):
    """What was made of raw data: the declaration of all that is likely, and every proposal with its evidence."""

    declaration: Declaration
    proposals: tuple[Proposal, ...]
    kinds: Mapping[str, str]
    rows: Mapping[str, int]
    left_out: tuple[LeftOut, ...]


def demoted(drafted: Drafted, kind: str, subject: str, doubt: str) -> Drafted:
    """The draft in which a relationship, measure or hierarchy is a doubt and no part of the model."""
    declaration = drafted.declaration
    match kind:
        case "relationship":
            kept = tuple(each for each in declaration.relationships if str(each) != subject)
            declaration = replace(declaration, relationships=kept)
        case "measure":
            measures = {name: each for name, each in declaration.measures.items() if name != subject}
            declaration = replace(declaration, measures=frozen(measures))
        case "hierarchy":
            hierarchies = {name: each for name, each in declaration.hierarchies.items() if name != subject}
            declaration = replace(declaration, hierarchies=frozen(hierarchies))
        case _:
            raise AssertionError(f"a {kind} cannot be taken out of a draft")
    proposals = [
        replace(each, confidence=0.5, doubt=doubt) if (each.kind, each.subject) == (kind, subject) else each
        for each in drafted.proposals
    ]
    return replace(drafted, declaration=declaration, proposals=tuple(proposals))


def retyped(drafted: Drafted, table: str, column: str, doubt: str) -> Drafted:
    """The draft in which a column has no declared type, since its source does not have the column."""
    described = drafted.declaration.tables[table]
    bare = replace(described.columns[column], type="", pattern="")
    settings = {name: each for name, each in {**described.columns, column: bare}.items() if each != ColumnSettings()}
    tables = {**drafted.declaration.tables, table: replace(described, columns=frozen(settings))}
    where = column_name(table, column)
    proposals = [
        replace(each, confidence=0.4, doubt=doubt) if (each.kind, each.subject) == ("type", where) else each
        for each in drafted.proposals
    ]
    return replace(drafted, declaration=replace(drafted.declaration, tables=frozen(tables)), proposals=tuple(proposals))
