"""A model in a live page: what the page's host asks of it."""

from __future__ import annotations

import copy
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, assert_never

from msgspec.structs import asdict

from relatum.errors import ModelError
from relatum.face.changing import Stateful
from relatum.face.editing import write_measure
from relatum.session.session import Session
from relatum.view.protocol import Direct, Edits, KeepPivot, Parts, Remove, Rename, WriteMeasure, bare

if TYPE_CHECKING:
    from relatum.audit.check import Report
    from relatum.change.impact import Impact
    from relatum.change.refresh import Refreshed
    from relatum.face.changing import ModelState
    from relatum.model.declaration import Declaration
    from relatum.present.diagram import Diagram
    from relatum.present.grid import Grid
    from relatum.present.members import MemberList


class Viewed(Stateful, Protocol):
    """What a live page needs of a model: the calls of :class:`relatum.Model` that it makes, named as there."""

    def pivot(self, *given: Any, **named: Any) -> Grid:
        """The answer to a request."""

    def members(self, column: str, where: str = "", /) -> MemberList:
        """The members of a column."""

    def check(self) -> Report:
        """What the audit finds."""

    def impact(self, name: str, /) -> Impact:
        """What depends on something."""

    def diagram(self) -> Diagram:
        """The model drawn."""

    def refresh(self) -> Refreshed:
        """Read the sources again."""

    def relate(self, link: str, /, *given: Any, **named: Any) -> None:
        """Declare a relationship."""

    def rename(self, name: str, new: str, /) -> None:
        """Give a thing another name."""

    def remove(self, name: str, /, *, force: bool) -> object:
        """Remove a thing."""

    def keep_pivot(self, name: str, pivot: Grid, /, *, about: str, replace: bool) -> None:
        """Save a pivot."""

    def text_for(self, path: Path, /) -> str:
        """The text of the model's file."""

    def save(self, path: Path, /) -> None:
        """Write the model's file."""


class LiveModel:
    """A model whose page may be open for hours: its edits can be taken back until they are saved.

    Parameters
    ----------
    model : relatum.Model
        The model. Edits change it at once, its file only when they are saved.
    path : Path, optional
        Its file.
    editable : bool
        Whether it may be changed.
    """

    def __init__(self, model: Viewed, path: Path | None = None, *, editable: bool = True) -> None:
        self.model = model
        self.path = path
        self.editable = editable
        self._text = "" if path is None else path.read_text(encoding="utf-8")
        self._before: list[ModelState] = []

    @property
    def session(self) -> Session:
        """The declaration with its data."""
        return self.model._state.session

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model."""
        return self.model.declaration

    @property
    def file(self) -> str:
        """The model's file as it was named; empty where it has none."""
        return "" if self.path is None else str(self.path)

    def ask(self, parts: Parts) -> Grid:
        """The answer to a request."""
        return self.model.pivot(**asdict(parts))

    def members(self, column: str, where: str) -> MemberList:
        """The members of a column."""
        return self.model.members(column, where)

    def check(self) -> Report:
        """What the audit finds."""
        return self.model.check()

    def impact(self, name: str) -> Impact:
        """What depends on something."""
        return self.model.impact(name)

    def diagram(self) -> Diagram:
        """The model drawn."""
        return self.model.diagram()

    def refresh(self) -> Refreshed:
        """Read the sources again. Edits before that cannot be taken back any more."""
        self._before.clear()
        return self.model.refresh()

    def twin(self) -> LiveModel:
        """The same model as it is now, whose edits do not change this one."""
        twin = copy.copy(self.model)
        twin._state = self.model._state.twin()
        return LiveModel(twin)

    def edit(self, edit: Edits) -> Sequence[str]:
        """Make an edit; what it changed, in words.

        Raises
        ------
        RelatumError
            The model cannot be changed like this; it stays as it was.
        """
        from relatum.change.differences import compare_declarations

        if not self.editable:
            raise ModelError("This page cannot change the model.", fix="Start it without --read-only.")
        before, state = self.declaration, self.model._state.twin()
        _carry_out(self.model, edit)
        self._before.append(state)
        return [str(each) for each in compare_declarations(before, self.declaration)]

    def take_back(self) -> bool:
        """Take the last edit back; False where there is none."""
        if not self._before:
            return False
        self.model._state = self._before.pop()
        return True

    def texts(self) -> tuple[str, str]:
        """The text of the model's file as it is, and as saving would write it.

        Raises
        ------
        ModelError
            The model has no file, it was changed meanwhile, or it cannot hold this model.
        """
        if self.path is None:
            raise ModelError("This model was not opened from a file.", fix="Save it with model.save(path).")
        now = self.path.read_text(encoding="utf-8") if self.path.exists() else ""
        if now != self._text:
            raise ModelError(
                "The file was changed since this page was opened, so it is not overwritten.",
                path=self.path,
                fix="Start the page again to see the file as it is now.",
            )
        return now, self.model.text_for(self.path)

    def save(self) -> None:
        """Write the model's file.

        Raises
        ------
        ModelError
            As for :meth:`texts`; or the model may not be changed.
        """
        if not self.editable:
            raise ModelError("This page cannot change the model.", fix="Start it without --read-only.")
        _, text = self.texts()
        assert self.path is not None, "texts says so"
        self.model.save(self.path)
        self._text = text
        self._before.clear()


def _carry_out(model: Viewed, edit: Edits) -> None:
    match edit:
        case WriteMeasure():
            write_measure(model, bare(edit.name), edit.formula, format=edit.format, about=edit.about)
        case Direct():
            related = next((each for each in model.declaration.relationships if str(each) == edit.link), None)
            if related is None:
                raise ModelError(f"There is no relationship {edit.link}.")
            model.relate(
                edit.link,
                direction=edit.direction,
                match=related.match,
                level=related.level,
                standby=edit.standby,
                replace=True,
            )
        case Rename():
            model.rename(edit.name, edit.new)
        case Remove():
            model.remove(edit.name, force=edit.force)
        case KeepPivot():
            name = bare(edit.name)
            there = name in model.declaration.pivots
            about = edit.about or (model.declaration.pivots[name].about if there else "")
            model.keep_pivot(name, model.pivot(**asdict(edit.request)), about=about, replace=there)
        case _:
            assert_never(edit)
