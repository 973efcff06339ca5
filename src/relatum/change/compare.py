"""Two models side by side: what changed in meaning, and which numbers moved."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from relatum.audit.measures import agrees
from relatum.change.differences import Difference
from relatum.data.digits import difference
from relatum.errors import RelatumError
from relatum.model.names import quoted
from relatum.pivot.answer import answer
from relatum.pivot.request import Request, ValueText, ask
from relatum.progress import reported
from relatum.session.session import Session


class Moved(Struct, frozen=True):
    """A value that differs between two models. ``before`` and ``after`` are values, or why there is none."""

    name: str
    before: Any
    after: Any
    difference: Any


class Comparison(Struct, frozen=True):
    """What two models have differently: what they say, and the values that came out otherwise."""

    changes: tuple[Difference, ...]
    moved: tuple[Moved, ...]
    compared: int

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        return not self.changes and not self.moved


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
