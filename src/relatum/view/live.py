"""What a host needs of a model: questions, edits and its file."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

from relatum.audit.check import Report
from relatum.change.impact import Impact
from relatum.change.refresh import Refreshed
from relatum.model.declaration import Declaration
from relatum.present.diagram import Diagram
from relatum.present.grid import Grid
from relatum.present.members import MemberList
from relatum.session.session import Session
from relatum.view.protocol import Edits, Parts


class Live(Protocol):
    """A model that is looked at and changed in a page. Every call raises a RelatumError for what it cannot do."""

    @property
    def session(self) -> Session:
        """The declaration with its data."""

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model."""

    @property
    def file(self) -> str:
        """The model's file as it was named; empty where it has none."""

    @property
    def editable(self) -> bool:
        """Whether the model may be changed."""

    def ask(self, parts: Parts) -> Grid:
        """The answer to a request."""

    def members(self, column: str, where: str) -> MemberList:
        """The members of a column."""

    def check(self) -> Report:
        """What the audit finds."""

    def impact(self, name: str) -> Impact:
        """What depends on something."""

    def diagram(self) -> Diagram:
        """The model drawn."""

    def refresh(self) -> Refreshed:
        """Read the sources again."""

    def edit(self, edit: Edits) -> Sequence[str]:
        """Make an edit; what it changed, in words."""

    def twin(self) -> Live:
        """The same model as it is now, whose edits do not change this one."""

    def take_back(self) -> bool:
        """Take the last edit back; False where there is none."""

    def texts(self) -> tuple[str, str]:
        """The text of the model's file as it is, and as saving would write it."""

    def save(self) -> Any:
        """Write the model's file."""
