"""Where tables live: what holds them, what answers from them, and what an audit may ask of them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

from relatum.data.columns import Column
from relatum.engine.memory.store import MemoryStore
from relatum.engine.store import JoinKeeper, Store, Tables
from relatum.plan.audit_facts import AuditFacts
from relatum.plan.engine import Engine
from relatum.plan.nodes import Derivation
from relatum.sources.engines.base import Connection

if TYPE_CHECKING:
    from relatum.engine.sql.remote_store import RemoteStore

# An engine is imported when it is first asked: an edit starts without one.


class Residence(Protocol):
    """Where the tables of a model live."""

    def store(self, tables: Tables, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with everything found out about them once."""
        ...

    def engine(self, store: Any) -> Engine:
        """What answers from a store made here."""
        ...

    def facts(self, store: Any) -> AuditFacts:
        """What an audit may ask of a store made here."""
        ...


def _derived_column(store: Any, derivation: Derivation) -> Column:
    """The values of a derived column, worked out here wherever the other columns are."""
    from relatum.engine.memory.run import derived_column  # noqa: PLC0415 - see above

    return derived_column(store, derivation)


class InMemory:
    """Tables in the memory of this process."""

    def store(self, tables: Tables, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with everything worked out of them once."""
        return MemoryStore(tables, _derived_column, joins, former)

    def engine(self, store: MemoryStore) -> Engine:
        """The memory engine."""
        from relatum.engine.memory.run import MemoryEngine  # noqa: PLC0415 - see above

        return MemoryEngine(store)

    def facts(self, store: MemoryStore) -> AuditFacts:
        """Facts worked out of columns."""
        from relatum.engine.memory.facts import MemoryFacts  # noqa: PLC0415 - see above

        return MemoryFacts(store)


IN_MEMORY = InMemory()


class OnEngine:
    """Tables on an engine.

    Parameters
    ----------
    connection : Connection
        The engine.
    """

    def __init__(self, connection: Connection) -> None:
        self.connection = connection

    def store(self, tables: Tables, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with facts about them found out once."""
        from relatum.engine.sql.remote_store import RemoteStore  # noqa: PLC0415 - see above

        return RemoteStore(self.connection, tables, _derived_column, joins, former)

    def engine(self, store: RemoteStore) -> Engine:
        """The SQL engine."""
        from relatum.engine.sql.run import SqlEngine  # noqa: PLC0415 - see above

        return SqlEngine(store.warehouse, store)

    def facts(self, store: RemoteStore) -> AuditFacts:
        """Facts found out by small queries."""
        from relatum.engine.sql.remote_facts import RemoteFacts  # noqa: PLC0415 - see above

        return RemoteFacts(store)


def residence_of(connection: Connection | None) -> Residence:
    """Where tables live that an engine holds; in memory where there is none."""
    return IN_MEMORY if connection is None else OnEngine(connection)
