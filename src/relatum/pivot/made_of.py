"""What a formula is made of: the measures and derived columns that it names, down to the columns of the data."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from relatum.language.mentions import Known, mentions
from relatum.model.names import column_name, quoted
from relatum.session.session import Session


class FormulaPart(Struct, frozen=True):
    """A measure (its ``table`` is empty) or a column that a formula names, at a depth.

    ``formula`` is empty for a column of the data; ``again`` says that the part was shown before.
    """

    depth: int
    table: str
    name: str
    formula: str
    again: bool

    @property
    def shown(self) -> str:
        """Its name as formulas write it."""
        return column_name(self.table, self.name) if self.table else quoted(self.name)


def formula_parts(session: Session, formula: str) -> Iterator[FormulaPart]:
    """The parts of a formula, each followed by its own parts the first time."""
    declaration = session.declaration
    known = Known({table: session.catalog.columns(table) for table in declaration.tables}, declaration.measures)
    seen: set[tuple[str, str]] = set()
    pending = [(1, each) for each in _mentioned(formula, known)]
    while pending:
        depth, (table, name) = pending.pop(0)
        again = (table, name) in seen
        seen.add((table, name))
        home = ""
        if not table:
            inner = declaration.measures[name].formula
        else:
            described = declaration.tables[declaration.rows_of(table)]
            derived = described.derived.get(name)
            inner, home = (derived.formula, table) if derived else (described.formulas.get(name, ""), "")
        yield FormulaPart(depth, table, name, inner, again)
        if inner and not again:
            pending[:0] = [(depth + 1, each) for each in _mentioned(inner, known, home)]


def _mentioned(formula: str, known: Known, home: str = "") -> list[tuple[str, str]]:
    """The measures, under an empty table, and columns that a formula names, each once."""
    found = mentions(formula, known, home)
    return list(dict.fromkeys((each.table, each.name) for each in found if each.kind in ("measure", "column")))
