"""How a model changes: edits take turns, each is checked at once, and several can be carried out as one."""

from __future__ import annotations

import functools
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext, suppress
from typing import Concatenate, ParamSpec, TypeVar

from msgspec import Struct

from relatum.arguments import checked
from relatum.data.table import TableData
from relatum.errors import ChangedDataError, ModelError, RelatumError
from relatum.limits import in_force
from relatum.model.declaration import Declaration, Table
from relatum.session.reading import Whereabouts, load_tables
from relatum.session.session import Session
from relatum.sources.remote import RemoteTable
from relatum.wording import listed

#: Calls that have to do with what was known before, or with nothing of the tables.
_AS_IT_IS = frozenset({"refresh", "close", "save"})
#: So often an engine whose tables change is looked at again, for one call.
_LOOKS = 3

Arguments = ParamSpec("Arguments")
Outcome = TypeVar("Outcome")
Changing = TypeVar("Changing", bound="Changeable")


def in_turn(
    edit: Callable[Concatenate[Changing, Arguments], Outcome],
) -> Callable[Concatenate[Changing, Arguments], Outcome]:
    """An edit that waits for those of other threads: it begins with what they left."""

    @functools.wraps(edit)
    def waiting(model: Changing, /, *arguments: Arguments.args, **named: Arguments.kwargs) -> Outcome:
        with model._turn:
            return edit(model, *arguments, **named)

    return waiting


class _Batch(Struct):
    """Edits that are carried out together: what they have come to so far, and the thread whose edits they are."""

    thread: int
    declaration: Declaration
    whereabouts: Whereabouts
    sources: Mapping[str, TableData]
    session: Session | None = None


@checked
class Changeable:
    """A model whose declaration can be replaced by another one that has been checked.

    Edits of several threads take turns. Questions go on meanwhile, each over the state it began with.
    """

    def __init__(self, session: Session, whereabouts: Whereabouts) -> None:
        self._session = session
        self._whereabouts = whereabouts
        self._turn = threading.RLock()
        self._batch: _Batch | None = None

    def _carry_out(self, name: str, work: Callable[[], Outcome]) -> Outcome:
        """Carry a public call out within the model's limits; where an engine holds the tables, over one state of them.

        An engine whose tables have changed since is looked at again, and so where that is seen in what it answers.
        """
        place = self._session.place
        with in_force(self._session.declaration.bounds):
            if place is None or place.asked or self._batch is not None or name in _AS_IT_IS:
                return work()
            with place.request():
                for _ in range(_LOOKS):
                    if place.has_changed():
                        self._look_anew()
                    with suppress(ChangedDataError):
                        return work()
                    place.forget()
                return work()

    def _look_anew(self) -> None:
        """Find out again what is known of the tables on the engine."""
        here = {name: data for name, data in self._session.sources.items() if not isinstance(data, RemoteTable)}
        declaration = self._session.declaration
        # What was sent there, and what is known about it, is kept: the data itself is the key.
        self._session = self._session.changed(declaration, load_tables(declaration, self._whereabouts, here))

    @property
    def declaration(self) -> Declaration:
        """Everything that is stated about the model, as immutable records."""
        batch = self._batch
        if batch is not None and batch.thread == threading.get_ident():
            return batch.declaration
        return self._session.declaration

    @contextmanager
    def edits(self) -> Iterator[None]:
        """Carry out several edits as one: checked once, at the end, and all of them or none.

        What is asked inside is still answered from the state before. Renaming and removing look at what depends on a
        thing, and so check what came before them.

        Raises
        ------
        RelatumError
            The model that the edits come to does not hold together; it stays as it was.

        Examples
        --------
        >>> import pyarrow as pa, relatum
        >>> model = relatum.Model("stall")
        >>> with model.edits():
        ...     model.add_table("sales", pa.table({"quantity": [2, 3]}))
        ...     model.measure("double", "2 * quantity")
        ...     model.measure("quantity", "sum(sales.quantity)")
        >>> model.evaluate("double")
        10
        """
        place = self._session.place
        # What asks an engine takes turns there first: so do edits, and nobody waits for who waits for them.
        with nullcontext() if place is None else place.turn, self._turn:
            if self._batch is not None:
                raise ModelError("edits() cannot be nested.", fix="Leave out the inner edits().")
            batch = _Batch(threading.get_ident(), self.declaration, self._whereabouts, self._session.sources)
            self._batch = batch
            try:
                yield
                session = self._checked(batch.declaration, batch.whereabouts, batch.sources)
                self._session, self._whereabouts = session, batch.whereabouts
            finally:
                self._batch = None

    def _known(self) -> Session:
        """The session that says what depends on what: of edits carried out together, as far as they have come."""
        batch = self._batch
        if batch is None:
            return self._session
        if batch.session is None:
            batch.session = self._checked(batch.declaration, batch.whereabouts, batch.sources)
        return batch.session

    @property
    def session(self) -> Session:
        """The declaration with its data: for tools that look inside."""
        return self._session

    def _where(self) -> Whereabouts:
        return self._whereabouts if self._batch is None else self._batch.whereabouts

    def _sources_now(self) -> Mapping[str, TableData]:
        return self._session.sources if self._batch is None else self._batch.sources

    def _change(
        self,
        declaration: Declaration,
        whereabouts: Whereabouts | None = None,
        known: Mapping[str, TableData] | None = None,
        replaced: str = "",
    ) -> None:
        """Put another declaration in force, or into the edits that are carried out together."""
        whereabouts = whereabouts or self._where()
        sources = self._sources_now() if known is None else known
        if self._batch is not None:
            batch = self._batch
            batch.declaration, batch.whereabouts, batch.sources, batch.session = declaration, whereabouts, sources, None
            return
        try:
            session = self._checked(declaration, whereabouts, sources)
        except RelatumError as error:
            raise (self._refused(replaced, error) if replaced else error) from None
        self._session, self._whereabouts = session, whereabouts

    def _checked(self, declaration: Declaration, whereabouts: Whereabouts, sources: Mapping[str, TableData]) -> Session:
        """The session of a changed model, its relationships held against the data where either has changed."""
        session = self._session.changed(declaration, load_tables(declaration, whereabouts, sources))
        session.verify(session.changed_relationships(self._session))
        return session

    def _put_table(self, table: Table, replacing: bool, whereabouts: Whereabouts | None = None) -> None:
        """Add a table, or put it in the place of the one of its name: its rows are read again."""
        known = {each: data for each, data in self._sources_now().items() if each != table.name}
        declaration = self.declaration.with_table(table, replacing=replacing)
        self._change(declaration, whereabouts, known, replaced=table.name if replacing else "")

    def _refused(self, name: str, error: RelatumError) -> RelatumError:
        """The error of a replacement, with what would break; the error itself where nothing depended on it."""
        from relatum.change.impact import Dependencies

        try:
            needing = Dependencies(self._known()).impact(name).breaks
        except RelatumError:
            return error
        if not needing:
            return error
        shown = listed([each.called for each in needing], 8)
        fix = " ".join(filter(None, [error.fix, f"It is needed by {shown}."]))
        return ModelError(f"{name} cannot be replaced like this: {error.reason}", fix=fix)
