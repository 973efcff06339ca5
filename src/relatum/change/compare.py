"""Two models side by side: what changed in meaning, and which numbers moved."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from relatum import markup
from relatum.audit.measures import agrees
from relatum.change.differences import Difference, What
from relatum.data.digits import difference
from relatum.errors import RelatumError
from relatum.model.names import quoted
from relatum.pivot.answer import answer
from relatum.pivot.request import Request, ValueText, ask
from relatum.runtime.progress import reported
from relatum.session.session import Session
from relatum.wording import value_text


class Moved(Struct, frozen=True):
    """A value that differs between two models. ``before`` and ``after`` are values, or why there is none."""

    name: str
    before: Any
    after: Any
    difference: Any


_TONES: dict[What, markup.Tone] = {"added": "good", "removed": "bad", "renamed": "context", "changed": "notable"}


class Comparison(Struct, frozen=True):
    """What two models have differently: what they say, and the values that came out otherwise."""

    changes: tuple[Difference, ...]
    moved: tuple[Moved, ...]
    compared: int

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        return not self.changes and not self.moved

    def blocks(self) -> list[markup.Block]:
        """What differs, in blocks, for whatever draws them."""
        blocks: list[markup.Block] = []
        if self.changes:
            rows: list[markup.Row] = []
            for each in self.changes:
                said = (f"{each.kind} {each.name}", each.setting, each.before, each.after)
                what = markup.Text(each.what, tone=_TONES[each.what])
                rows.append([what, *(markup.Text(text, prose=True) for text in said)])
            blocks.append(markup.Table([["", "what", "setting", "before", "after"]], rows))
        else:
            blocks.append(markup.line("the models mean the same"))
        if self.moved:
            heads: markup.Row = [
                "value",
                *(markup.Text(text, number=True) for text in ("before", "after", "difference")),
            ]
            values = [(each.name, (each.before, each.after, each.difference)) for each in self.moved]
            lines: list[markup.Row] = [
                [name, *(markup.Text(value_text(each), number=True) for each in row)] for name, row in values
            ]
            blocks.append(markup.Table([heads], lines, apart=True))
        return [*blocks, markup.line(f"{len(self.moved)} of {self.compared} values moved")]

    def _repr_html_(self) -> str:
        return markup.html(self.blocks())


def compare_values(before: Session, after: Session, values: tuple[ValueText, ...]) -> tuple[tuple[Moved, ...], int]:
    """Which values came out otherwise, and how many were compared: those chosen, and the controls of both models."""
    requests: dict[str, Request] = {label: ask(values={label: formula}) for label, formula, _ in values}
    for session in (before, after):
        for control in session.declaration.controls:
            where = control.condition
            name = f"{control.measure} at {where}" if where else control.measure
            requests.setdefault(name, ask(values={control.measure: quoted(control.measure)}, where=where))
    moved = []
    for name in reported(requests, lambda each: f"comparing {each}"):
        old, new = _value(before, requests[name]), _value(after, requests[name])
        if not agrees(old, new):
            moved.append(Moved(name, old, new, difference(new, old)))
    return tuple(moved), len(requests)


def _value(session: Session, request: Request) -> Any:
    try:
        return answer(session, request).scalar()
    except RelatumError as error:
        return f"cannot be evaluated: {error.reason}"
