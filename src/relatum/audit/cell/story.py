"""An explanation made: the cell found, its formula walked, every part computed by the plan that answers the grid."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from relatum.audit.cell.behind import Behind
from relatum.audit.cell.filters import FilterTeller, member_text, moved_dates
from relatum.audit.cell.location import Cell, cell_of
from relatum.audit.cell.reasons import reason_of
from relatum.audit.cell.records import CellStory, Evidence, FilterStep, PartStep
from relatum.audit.cell.steps import Step, StepMaker
from relatum.data.arrow import python_values
from relatum.data.columns import Column
from relatum.language.expression import Constant, Expression
from relatum.language.shorthand import expansion
from relatum.model.looks import Format
from relatum.pivot.axes import Resolved, resolve_request
from relatum.pivot.formats import format_of
from relatum.pivot.grains import wanted_of
from relatum.pivot.request import Request, ValueText
from relatum.plan import engine
from relatum.plan.context import Context
from relatum.plan.nodes import Aggregation, Kept
from relatum.plan.probing import Probe
from relatum.session.session import Session
from relatum.wording import counted, listed

#: How many kept members are named.
_NAMED = 6


class Asked(Struct, frozen=True):
    """What is to be explained: one value of a request, in the cell that members of its fields name."""

    request: Request
    at: Mapping[str, Any]
    number: int = 0

    @property
    def value(self) -> ValueText:
        """The value."""
        return self.request.values[self.number]


class CellLook:
    """One cell of a request, and formulas in it."""

    def __init__(self, session: Session, asked: Asked) -> None:
        self.asked = asked
        self.resolved: Resolved = resolve_request(session, asked.request)
        self.session = self.resolved.session
        self.cell: Cell = cell_of(self.resolved, asked.at)
        wanted = wanted_of(self.resolved, asked.request.show_empty, 100_000_000)
        self.probe = Probe(
            self.session.catalog, wanted, self.session.resolution.derivations, self.cell.keys, self.cell.others
        )
        self._codes = {key: self.cell.codes[own] for own, key in zip(self.cell.keys, self.probe.keys, strict=True)}

    def seen(self) -> engine.Evidence:
        """The engine's look into the cell, with every key that formulas so far have."""
        return self.session.engine.look(self.probe.plan(), self._codes)

    def value(self, expression: Expression, context: Context | None = None) -> Column:
        """A formula's value in the cell."""
        formula, _ = self.probe.formula(expression, self.probe.context if context is None else context)
        return self.seen().value(formula)

    def constant(self, expression: Expression, context: Context) -> Constant:
        """A formula's value in the cell as a constant."""
        column = self.value(expression, context)
        if column.nulls is not None and bool(column.nulls[0]):
            return Constant(None, expression.type)
        inner = column.values[0].item()
        known = column.dictionary
        return Constant(known[inner].as_py() if known is not None else inner, expression.type)

    @property
    def formula(self) -> Expression:
        """The value's formula, resolved."""
        return self.resolved.formulas[self.asked.number]

    @property
    def names(self) -> dict[int, str]:
        """How the member of each key of the cell is written."""
        members = [member_text(member) for _, member in self.cell.named]
        return dict(zip(self.probe.keys, members, strict=True))


def explain_cell(session: Session, asked: Asked, most: int | None = 5) -> CellStory:
    """Why a cell is what it is; of the rows behind each aggregate the first ``most`` are listed.

    Raises
    ------
    RequestError, FormulaError
        The value, a field or a member does not exist.
    """
    look = CellLook(session, asked)
    session = look.session
    measures = {id(expression): name for name, expression in session.formulas.resolved.items()}
    maker = StepMaker(look.probe, FilterTeller(look.probe, look.names), measures, look.constant)
    maker.walk(look.formula, look.probe.context)
    seen = look.seen()
    values = [python_values(seen.value(step.formula))[0] for step in maker.steps]
    behind = Behind(session, seen, look.probe.plan().fields)
    found: dict[int, Evidence] = {}
    for number, step in enumerate(maker.steps):
        # What occurs twice in a formula is shown once.
        twin = next((other for other in found if _same(maker.steps[other], step)), None)
        one = behind.of(step, values[number], most) if twin is None else found[twin]
        if one is not None:
            found[number] = one
    reason, because = reason_of(maker.steps, values, found)
    evidence = list({id(each): each for each in found.values()}.values())
    order = {id(each): place for place, each in enumerate(evidence)}
    parts = tuple(
        PartStep(
            depth=step.depth,
            kind=step.kind,
            text=step.text,
            value=value,
            type=step.expression.type,
            format=_format(session, step),
            note=tuple(_notes(look, seen, step)),
            evidence=order[id(found[number])] if number in found else None,
        )
        for number, (step, value) in enumerate(zip(maker.steps, values, strict=True))
    )
    spelled = expansion(asked.value.formula)
    formula = " ".join(asked.value.formula.split())
    notes = [note.text for step in maker.steps[:1] for note in step.findings.notes]
    first = _filters(maker.steps, found)
    declaration = session.declaration
    return CellStory(
        model=declaration.name,
        locale=declaration.locale,
        currency=declaration.currency,
        value=asked.value.label,
        formula=formula,
        expansion="" if spelled == formula else spelled,
        cell=look.cell.named,
        where=asked.request.where,
        keep=asked.request.keep,
        result=values[0],
        type=look.formula.type,
        format=format_of(session, asked.value).whole if look.formula.type.numeric else Format(),
        reason=reason,
        because=because,
        filters=first,
        parts=parts,
        evidence=tuple(evidence),
        notes=tuple(dict.fromkeys(notes)),
    )


def _same(one: Step, other: Step) -> bool:
    return one.node == other.node and one.filters == other.filters and one.text == other.text


def _filters(steps: Sequence[Step], found: Mapping[int, Evidence]) -> tuple[FilterStep, ...]:
    """The filters of the first aggregate over rows."""
    own = (found[number].filters for number in range(len(steps)) if number in found)
    return next((filters for filters in own if filters), ())


def _format(session: Session, step: Step) -> Format:
    if step.kind == "measure" and step.expression.type.numeric:
        return format_of(session, ValueText(step.text, step.text)).whole
    return Format()


def _notes(look: CellLook, seen: engine.Evidence, step: Step) -> list[str]:
    """What else is true of a part: dates, kept members, lookups that found nothing."""
    lines: list[str] = []
    node = step.node
    if isinstance(node, Aggregation):
        lines += moved_dates(seen, node)
        for kept in (*node.bounds.kept, *(one for dates in node.bounds.dates for one in dates.kept)):
            count, names = seen.kept(kept, _NAMED)
            name = kept.text if isinstance(kept, Kept) else "others"
            lines.append(f"{name}: {counted(count, 'member')}: {listed(names)}{', …' if count > _NAMED else ''}")
    return lines
