"""How values are written: by the request, by a measure, or by what the formula is; and shares that are of nothing."""

from __future__ import annotations

from collections.abc import Iterator

from relatum.language.parse import parse_formula
from relatum.language.register import SHARES
from relatum.language.tree import Call, Changed, Name, Syntax, children
from relatum.model.declaration import Measure
from relatum.model.looks import Format
from relatum.model.names import quoted
from relatum.pivot.axes import Resolved
from relatum.pivot.request import Request, ValueText
from relatum.plan.notes import Note
from relatum.session.session import Session

#: Rates, and parts of a whole.
PERCENT = "0.0%"
#: Functions whose value is one of their argument's, so that it is written as that is.
_ALIKE = frozenset(("change", "previous", "next", "running"))


def format_of(session: Session, value: ValueText) -> Format:
    """The format of a value: its own, else that of the measure that it is, else what its formula suggests."""
    return value.format.over(_format(session, parse_formula(value.formula), frozenset()))


def measure_of(session: Session, formula: str) -> Measure | None:
    """The measure that a formula is, where it is just its name."""
    node = parse_formula(formula)
    return session.declaration.measures.get(node.parts[0]) if isinstance(node, Name) and len(node.parts) == 1 else None


def _format(session: Session, node: Syntax, seen: frozenset[str]) -> Format:
    while isinstance(node, Changed):
        node = node.formula
    if isinstance(node, Call):
        if node.function in ("share", "growth"):
            return Format(pattern=PERCENT)
        return _format(session, node.arguments[0], seen) if node.function in _ALIKE and node.arguments else Format()
    name = node.parts[0] if isinstance(node, Name) and len(node.parts) == 1 else ""
    measure = session.declaration.measures.get(name)
    if measure is None or name in seen:
        return Format()
    return measure.written.over(_format(session, parse_formula(measure.formula), seen | {name}))


#: Which fields a share needs, by its word.
_NEEDS = {"total": "fields on the axes", "parent": "row fields", "row": "column fields", "column": "row fields"}


def share_notes(session: Session, request: Request, resolved: Resolved) -> list[Note]:
    """A note for each kind of share that is of the value itself, since the grid has no such fields."""
    rows, columns = resolved.row_count, len(resolved.heads) - resolved.row_count
    there = {"total": rows + columns, "parent": rows, "row": columns, "column": rows}
    used = dict.fromkeys(word for value in request.values for word in _shares(session, parse_formula(value.formula)))
    return [
        Note("share", f"A share of the {word} is always 1 here: there are no {_NEEDS[word]}.")
        for word in used
        if word in SHARES and not there[word]
    ]


def _shares(session: Session, root: Syntax) -> Iterator[str]:
    pending, seen = [root], set[str]()
    while pending:
        node = pending.pop()
        if isinstance(node, Call) and node.function == "share":
            yield node.word
        if isinstance(node, Name) and len(node.parts) == 1 and node.parts[0] not in seen:
            measure = session.declaration.measures.get(node.parts[0])
            if measure is not None:
                seen.add(node.parts[0])
                pending.append(parse_formula(measure.formula, f"measure {quoted(measure.name)}"))
        pending += children(node)
