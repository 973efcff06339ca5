"""Saved pivots: whether they can still be asked."""

from __future__ import annotations

from collections.abc import Iterator

from relatum.audit.finding import Finding
from relatum.errors import RelatumError
from relatum.model.names import quoted
from relatum.pivot.axes import resolve_request
from relatum.pivot.turning import request_of
from relatum.session.session import Session


def pivot_findings(session: Session) -> Iterator[Finding]:
    """A problem for each saved pivot that names something missing, or cannot be read."""
    for name, saved in session.declaration.pivots.items():
        try:
            resolve_request(session, request_of(saved, {}))
        except RelatumError as error:
            text = " ".join([error.reason, error.fix]).strip()
            yield Finding("problem", f"pivot {quoted(name)}", f"cannot be asked: {text}", "Change it, or take it out.")
