"""Where tables live: what holds them, what answers from them, and what an audit may ask of them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

from relatum.engine.memory.facts import MemoryFacts
from relatum.engine.memory.run import MemoryEngine
from relatum.engine.memory.store import MemoryStore
from relatum.engine.store import JoinKeeper, Store, Tables, WorkOut
from relatum.plan.audit_facts import AuditFacts
from relatum.plan.engine import Engine
from relatum.sources.engines.base import Connection

if TYPE_CHECKING:
    from relatum.engine.sql.remote_store import RemoteStore


class Residence(Protocol):
    """Where the tables of a model live."""

    def store(self, tables: Tables, work_out: WorkOut, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with everything found out about them once."""
        ...

    def engine(self, store: Any) -> Engine:
        """What answers from a store made here."""
        ...

    def facts(self, store: Any) -> AuditFacts:
        """What an audit may ask of a store made here."""
        ...


class InMemory:
    """Tables in the memory of this process."""

    def store(self, tables: Tables, work_out: WorkOut, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with everything worked out of them once."""
        return MemoryStore(tables, work_out, joins, former)

    def engine(self, store: MemoryStore) -> Engine:
        """The memory engine."""
        return MemoryEngine(store)

    def facts(self, store: MemoryStore) -> AuditFacts:
        """Facts worked out of columns."""
        return MemoryFacts(store)


IN_MEMORY = InMemory()


class OnEngine:
    """Tables on an engine.

    Parameters
    ----------
    connection : Connection
        The engine.
    """

    # What writes SQL is heavy and optional: a model in memory starts without it.

    def __init__(self, connection: Connection) -> None:
        self.connection = connection

    def store(self, tables: Tables, work_out: WorkOut, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with facts about them found out once."""
        from relatum.engine.sql.remote_store import RemoteStore  # noqa: PLC0415 - see above

        return RemoteStore(self.connection, tables, work_out, joins, former)

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
