"""Tables that an engine holds."""

from __future__ import annotations

from relatum.engine.memory.store import JoinKeeper, Store, Tables
from relatum.engine.sql.run import SqlEngine
from relatum.plan.engine import Engine
from relatum.session.facts import AuditFacts
from relatum.session.remote import RemoteStore
from relatum.session.remote_facts import RemoteFacts
from relatum.session.residence import WorkOut
from relatum.sources.engines.base import Connection


class OnEngine:
    """Tables on an engine.

    Parameters
    ----------
    connection : Connection
        The engine.
    """

    def __init__(self, connection: Connection) -> None:
        self.connection = connection

    def store(self, tables: Tables, work_out: WorkOut, joins: JoinKeeper | None, former: Store | None) -> Store:
        """The tables, with facts about them found out once."""
        return RemoteStore.on(self.connection, tables, work_out, joins, former)

    def engine(self, store: RemoteStore) -> Engine:
        """The SQL engine."""
        return SqlEngine(store.warehouse, store)

    def facts(self, store: RemoteStore) -> AuditFacts:
        """Facts found out by small queries."""
        return RemoteFacts(store)
