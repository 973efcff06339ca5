"""An engine that holds tables, as what writes queries asks it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from relatum.engine.sql.dialects import DIALECTS, Dialect
from relatum.engine.sql.sheet import Statement
from relatum.engine.sql.terms import Sql
from relatum.sources.engines.base import Connection


class Warehouse:
    """An engine as the SQL engine asks it: a connection, and what its database writes differently."""

    def __init__(self, connection: Connection) -> None:
        self.connection = connection
        self.dialect: Dialect = DIALECTS[connection.kind]

    @property
    def opened(self) -> int:
        """How often it has been opened: tables sent before the last opening are gone."""
        return self.connection.opened

    def ask(self, statement: Statement) -> Any:
        """The answer to a query, as an Arrow table."""
        return self.connection.ask(statement.last, statement.kept)

    def send(self, rows: Any) -> Callable[[str], Sql]:
        """Rows sent to the engine, to be read from under an alias."""
        return self.connection.send("rows", rows).source
