"""How a model changes: edits take turns, each is checked at once, and several can be carried out as one."""

from __future__ import annotations

import functools
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext, suppress
from typing import TYPE_CHECKING, Concatenate, ParamSpec, Protocol, TypeVar

from msgspec import Struct

from relatum.data.table import TableData
from relatum.errors import ChangedDataError, ModelError, RelatumError
from relatum.model.declaration import Declaration, Table
from relatum.runtime.limits import in_force
from relatum.session.reading import Whereabouts, load_tables
from relatum.session.session import Session
from relatum.sources.remote import RemoteTable
from relatum.wording import listed

if TYPE_CHECKING:
    from relatum.pivot.request import Request
    from relatum.view.widget import LiveWidget

#: Calls that have to do with what was known before, or with nothing of the tables.
_AS_IT_IS = frozenset({"refresh", "close", "save", "edits"})
#: How often an engine whose tables change is looked at again, for one call.
_LOOKS = 3

Arguments = ParamSpec("Arguments")
Outcome = TypeVar("Outcome")


class Stateful(Protocol):
    """What an edit or a question needs of a model: its state, and what is stated about it."""

    _state: ModelState

    @property
    def declaration(self) -> Declaration:
        """Everything stated about the model."""

    def _view_request(self, request: Request, /) -> LiveWidget:
        """A live page that begins with a request."""


def in_turn(
    edit: Callable[Concatenate[Stateful, Arguments], Outcome],
) -> Callable[Concatenate[Stateful, Arguments], Outcome]:
    """An edit that waits for those of other threads: it begins with what they left."""

    @functools.wraps(edit)
    def waiting(model: Stateful, /, *arguments: Arguments.args, **named: Arguments.kwargs) -> Outcome:
        with model._state.turn:
            return edit(model, *arguments, **named)

    return waiting


class _Batch(Struct):
    """Edits that are carried out together: what they have come to so far, and the thread whose edits they are."""

    thread: int
    declaration: Declaration
    whereabouts: Whereabouts
    sources: Mapping[str, TableData]
    session: Session | None = None


class ModelState:
    """A model's session, which is replaced as a whole by each edit that has been checked.

    Edits of several threads take turns. Questions go on meanwhile, each over the session it began with.

    Parameters
    ----------
    session : Session
        The declaration with its data.
    whereabouts : Whereabouts
        Where its sources are.
    """

    def __init__(self, session: Session, whereabouts: Whereabouts) -> None:
        self.session = session
        self.turn = threading.RLock()
        self.whereabouts = whereabouts
        self._batch: _Batch | None = None

    def carry_out(self, name: str, work: Callable[[], Outcome]) -> Outcome:
        """Carry a public call out within the model's limits; where an engine holds the tables, over one state of them.

        An engine whose tables have changed since is looked at again, and so where that is seen in what it answers.
        """
        place = self.session.place
        with in_force(self.session.declaration.bounds):
            if place is None or place.asked or self._batch is not None or name in _AS_IT_IS:
                return work()
            with place.request():
                for _ in range(_LOOKS):
                    if place.has_changed():
                        self.look_again()
                    with suppress(ChangedDataError):
                        return work()
                    place.forget()
                return work()

    def look_again(self) -> None:
        """Find out again what is known of the tables on the engine."""
        here = {name: data for name, data in self.session.sources.items() if not isinstance(data, RemoteTable)}
        declaration = self.session.declaration
        # What was sent there, and what is known about it, is kept: the data itself is the key.
        self.session = self.session.changed(declaration, load_tables(declaration, self.whereabouts, here))

    def twin(self) -> ModelState:
        """The same state for another model, whose edits do not change this one."""
        return ModelState(self.session, self.whereabouts)

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model, as immutable records."""
        batch = self._batch
        if batch is not None and batch.thread == threading.get_ident():
            return batch.declaration
        return self.session.declaration

    @contextmanager
    def edits(self) -> Iterator[None]:
        """Carry out several edits as one.

        Raises
        ------
        RelatumError
            The model that the edits lead to does not hold together; it stays as it was.
        """
        place = self.session.place
        # What asks an engine takes turns there first: so do edits, and nobody waits for who waits for them.
        with nullcontext() if place is None else place.turn, self.turn:
            if self._batch is not None:
                raise ModelError("edits() cannot be nested.", fix="Leave out the inner edits().")
            batch = _Batch(threading.get_ident(), self.declaration, self.whereabouts, self.session.sources)
            self._batch = batch
            try:
                yield
                session = self._checked(batch.declaration, batch.whereabouts, batch.sources)
                self.session, self.whereabouts = session, batch.whereabouts
            finally:
                self._batch = None

    def known(self) -> Session:
        """The session that says what depends on what: of edits carried out together, as far as they have come."""
        batch = self._batch
        if batch is None:
            return self.session
        if batch.session is None:
            batch.session = self._checked(batch.declaration, batch.whereabouts, batch.sources)
        return batch.session

    def where(self) -> Whereabouts:
        """Where the sources are."""
        return self.whereabouts if self._batch is None else self._batch.whereabouts

    def sources_now(self) -> Mapping[str, TableData]:
        """The tables read so far, those of edits being carried out included."""
        return self.session.sources if self._batch is None else self._batch.sources

    def change(
        self,
        declaration: Declaration,
        whereabouts: Whereabouts | None = None,
        known: Mapping[str, TableData] | None = None,
        replaced: str = "",
    ) -> None:
        """Put another declaration in force, or into the edits that are carried out together."""
        whereabouts = whereabouts or self.where()
        sources = self.sources_now() if known is None else known
        if self._batch is not None:
            batch = self._batch
            batch.declaration, batch.whereabouts, batch.sources, batch.session = declaration, whereabouts, sources, None
            return
        try:
            session = self._checked(declaration, whereabouts, sources)
        except RelatumError as error:
            raise (self._refused(replaced, error) if replaced else error) from None
        self.session, self.whereabouts = session, whereabouts

    def _checked(self, declaration: Declaration, whereabouts: Whereabouts, sources: Mapping[str, TableData]) -> Session:
        """The session of a changed model, its relationships held against the data where either has changed."""
        session = self.session.changed(declaration, load_tables(declaration, whereabouts, sources))
        session.verify(session.changed_relationships(self.session))
        return session

    def put_table(self, table: Table, replacing: bool, whereabouts: Whereabouts | None = None) -> None:
        """Add a table, or put it in the place of the one of its name: its rows are read again."""
        known = {each: data for each, data in self.sources_now().items() if each != table.name}
        declaration = self.declaration.with_table(table, replacing=replacing)
        self.change(declaration, whereabouts, known, replaced=table.name if replacing else "")

    def _refused(self, name: str, error: RelatumError) -> RelatumError:
        """The error of a replacement, with what would break; the error itself where nothing depended on it."""
        from relatum.change.impact import Dependencies

        try:
            needing = Dependencies(self.known()).impact(name).breaks
        except RelatumError:
            return error
        if not needing:
            return error
        shown = listed([each.called for each in needing], 8)
        fix = " ".join(filter(None, [error.fix, f"It is needed by {shown}."]))
        return ModelError(f"{name} cannot be replaced like this: {error.reason}", fix=fix)
