"""A session: a declaration and its data, checked against each other and ready for requests."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Mapping
from functools import cached_property, lru_cache
from typing import TypeVar

from relatum.data.table import TableData
from relatum.engine.store import JoinKeeper
from relatum.errors import DataError
from relatum.language.expression import Expression
from relatum.model.declaration import Declaration, Relationship
from relatum.model.routes import hops_of
from relatum.plan.audit_facts import AuditFacts
from relatum.plan.compile import Wanted, compile_plan
from relatum.plan.engine import Engine
from relatum.plan.nodes import Plan
from relatum.plan.notes import Note
from relatum.session.checks import Columns, Meanings
from relatum.session.residence import residence_of
from relatum.session.resolution import Resolution, RowField, resolve, with_fields
from relatum.sources.engines.base import Connection

#: The number of requests whose meaning and columns by formula are kept, so that turning a grid repeats no work.
_REMEMBERED = 8
#: What is kept of each of them: how it is resolved, what it means, and what is carried out for it.
_KINDS = 3
#: How many plans are kept: a request that is asked again is not planned again.
_PLANS = 64

_Asked = TypeVar("_Asked", bound=Hashable)
_Made = TypeVar("_Made")


class Session:
    """A checked declaration with its data, and what has been found out about both.

    Parameters
    ----------
    declaration : Declaration
        The model.
    sources : mapping of str to TableData
        The data of every table that has a source.
    resolution : Resolution
        Every formula resolved, and the tables as an engine has them.
    joins : JoinKeeper or None
        Keeps join indexes from one run to the next.
    place : Connection or None
        The engine that holds the data.
    """

    def __init__(
        self,
        declaration: Declaration,
        sources: Mapping[str, TableData],
        resolution: Resolution,
        joins: JoinKeeper | None,
        place: Connection | None,
    ) -> None:
        self.declaration = declaration
        self.sources = sources
        self.resolution = resolution
        self.joins = joins
        self.place = place
        self.data = resolution.data
        self.store = resolution.store
        self.catalog = resolution.catalog
        self.formulas = resolution.formulas
        self._extended = lru_cache(maxsize=_REMEMBERED)(self._extend)
        self._planned = lru_cache(maxsize=_PLANS)(self._plan)
        self._made = lru_cache(maxsize=_KINDS * _REMEMBERED)(lambda make, asked: make(self, asked))

    @cached_property
    def engine(self) -> Engine:
        """What answers plans."""
        return self.resolution.residence.engine(self.store)

    @cached_property
    def facts(self) -> AuditFacts:
        """What an audit may ask of the data."""
        return self.resolution.residence.facts(self.store)

    @classmethod
    def of(
        cls,
        declaration: Declaration,
        sources: Mapping[str, TableData],
        *,
        former: Session | None = None,
        joins: JoinKeeper | None = None,
        place: Connection | None = None,
    ) -> Session:
        """The session of a declaration that has been checked against its data.

        Parameters
        ----------
        declaration : Declaration
            The model.
        sources : mapping of str to TableData
            The data of every table that has a source; derived tables and roles follow from these.
        former : Session, optional
            A session whose work may be taken over.
        joins : JoinKeeper, optional
            Keeps join indexes from one run to the next; that of ``former`` unless given.
        place : Connection, optional
            The engine that holds the data; that of ``former`` unless given.

        Raises
        ------
        ModelError
            A named column is missing; two names collide; two routes lead between two tables; derived columns or
            tables need each other in a circle.
        FormulaError
            A derived column, derived table or measure cannot be understood.
        """
        used = {name: sources[name] for name in declaration.tables if name in sources}
        joins = joins or (former.joins if former is not None else None)
        place = place or (former.place if former is not None else None)
        columns = Columns(declaration, used)
        columns.check()
        known = None if former is None else former.resolution
        resolution = resolve(declaration, used, known, joins, residence_of(place))
        Meanings(columns, resolution).check()
        return cls(declaration, used, resolution, joins, place)

    def changed(self, declaration: Declaration, sources: Mapping[str, TableData]) -> Session:
        """The session of a changed declaration; raises as :meth:`of` does, and leaves this one as it is."""
        return Session.of(declaration, sources, former=self)

    def with_fields(self, fields: tuple[RowField, ...]) -> Session:
        """This session with columns by formula that one request alone has; the last few such are remembered."""
        if not fields:
            return self
        return self._extended(fields)

    def _extend(self, fields: tuple[RowField, ...]) -> Session:
        resolution = with_fields(self.resolution, fields)
        return Session(self.declaration, self.sources, resolution, self.joins, self.place)

    def remembered(self, make: Callable[[Session, _Asked], _Made], asked: _Asked) -> _Made:
        """What a function makes of something asked of this session, and of nothing else; the last ones are kept."""
        made: _Made = self._made(make, asked)
        return made

    def plan(self, wanted: Wanted) -> tuple[Plan, list[Note]]:
        """The plan that answers what is wanted, with what is to be noted; the last ones are remembered."""
        plan, notes = self._planned(wanted)
        return plan, list(notes)

    def _plan(self, wanted: Wanted) -> tuple[Plan, tuple[Note, ...]]:
        plan, notes = compile_plan(self.catalog, wanted, self.resolution.derivations)
        return plan, tuple(notes)

    def derived_formula(self, table: str, column: str) -> Expression:
        """A derived column's formula, resolved."""
        return self.resolution.expressions[self.declaration.rows_of(table), column]

    def changed_relationships(self, former: Session) -> list[Relationship]:
        """The relationships that are new since a former session, or that join other columns or rows."""
        known = set(former.declaration.relationships)
        return [
            each
            for each in self.declaration.relationships
            if each not in known
            or any(
                not former.store.has(end.table, name)
                or former.store.stamp(end.table, name) is not self.store.stamp(end.table, name)
                for end in (each.many, each.one)
                for name in end.columns
            )
        ]

    def verify(self, relationships: Iterable[Relationship]) -> None:
        """Check relationships on the data.

        Raises
        ------
        DataError
            A one side is not unique, or the two ends can never match.
        """
        for relationship in relationships:
            try:
                for hop in hops_of(relationship):
                    self.store.verify(hop)
            except DataError as error:
                error.place = ("relationship", self.declaration.relationships.index(relationship))
                raise
