"""A table that lives on an engine: its columns are known, its rows stay there."""

from __future__ import annotations

from collections.abc import Mapping

from relatum.data.columns import Column
from relatum.data.table import TableData
from relatum.data.types import Type
from relatum.sources.engines.base import Connection, Relation


class RemoteTable(TableData):
    """A table on an engine.

    Parameters
    ----------
    types : mapping of str to Type
        The columns, in order.
    relation : Relation
        Where its rows are.
    connection : Connection
        The engine.
    headings : mapping of str to str
        What a column is called there, where that is something else.
    markers : mapping of str to tuple of str
        Texts that mean null, by column.
    timezone : str
        The time zone on whose clocks moments that know their zone are read.
    left_out : mapping of str to str
        Columns that cannot be read, with the reason.
    """

    def __init__(
        self,
        types: Mapping[str, Type],
        relation: Relation,
        connection: Connection,
        headings: Mapping[str, str],
        markers: Mapping[str, tuple[str, ...]],
        timezone: str,
        left_out: Mapping[str, str],
    ) -> None:
        super().__init__(types, lambda: connection.count(relation), _stays_there, left_out, remarks=relation.remarks)
        self.relation = relation
        self.headings = dict(headings)
        self.markers = dict(markers)
        self.timezone = timezone


def _stays_there(name: str) -> Column:
    raise AssertionError(f"{name} stays on the engine, which is asked for what is needed")
