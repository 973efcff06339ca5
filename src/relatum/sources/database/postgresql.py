"""Tables of a PostgreSQL server, asked in transactions that can only read."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from decimal import Decimal
from typing import Any

import pyarrow as pa

from relatum.data import compute as pc
from relatum.data.types import MAX_SCALE
from relatum.errors import SourceError
from relatum.runtime.limits import cancelling, refuse_stopped, time_left, too_late
from relatum.sources.database.address import plain_address
from relatum.sources.database.base import (
    Database,
    DatabaseTable,
    ForeignKey,
    described,
    gathered,
    quoted,
    reason,
    refusal,
)
from relatum.sources.database.calls import refuse_acting, remarks_on_read
from relatum.sources.database.drivers import driver
from relatum.sources.database.query import one_select, tables_of, written

#: Digits of the widest decimal; from this modifier on a numeric states its own.
_DIGITS = 38
_LEAST_MODIFIER = 4
#: What text is called there; other types that the driver hands out as text compare and sort as something else.
_TEXTS = frozenset({"text", "varchar"})
#: What is not read as the driver hands it out: it would be bytes, or money in cents.
_READ_AS = {"uuid": "text", "enum": "text", "money": "numeric"}


def open_postgresql(address: str, shown: str) -> _PostgreSQL:
    """A connection to a server.

    Raises
    ------
    SourceError
        It cannot be reached, the address says more than where it is, or the driver is not installed.
    """
    adbc = driver("adbc_driver_postgresql.dbapi")
    said = plain_address(address, shown)
    try:
        connection = adbc.connect(said)
    except (adbc.Error, pa.ArrowException) as error:
        raise SourceError(
            f"The database cannot be reached: {reason(error)}",
            path=shown,
            fix="Check that it is running and that the address is right. The user and password come from the "
            "environment variables PGUSER and PGPASSWORD.",
        ) from None
    return _PostgreSQL(connection, shown)


class _PostgreSQL(Database):
    """A connection to a server."""

    dialect = "postgres"

    def __init__(self, connection: Any, shown: str) -> None:
        super().__init__(connection, shown)
        self._whole = self._begun = False

    def begin(self, cursor: Any) -> None:
        """Begin a transaction that can only read, within the time that is left, and takes texts as the check of a query
        took them: whatever was set before, in this session or by the server.
        """
        if not self._begun:
            self.connection.rollback()
            level = "repeatable read" if self._whole else "read committed"
            cursor.execute(f"set transaction isolation level {level}, read only")
        milliseconds = min(max(int(time_left() * 1000), 1), (1 << 31) - 1)
        cursor.execute(f"set local statement_timeout = {milliseconds}")
        cursor.execute("set local standard_conforming_strings = on")
        self._begun = self._whole

    def end(self, *, failed: bool = False) -> None:
        """End the transaction, unless more queries need the state that it sees."""
        if failed or not self._whole:
            self._begun = False
            self.connection.rollback()

    @contextmanager
    def one_state(self) -> Iterator[None]:
        """Run all queries inside the block on one state of the database, as long as none fails."""
        self._whole = True
        try:
            yield
        finally:
            self._whole = False
            with suppress(Exception):  # a connection that is gone has no transaction either
                self.end()

    def tables(self) -> list[DatabaseTable]:
        columns = self.records(_COLUMNS)
        keys = self.records(_CONSTRAINTS)
        names = {each["id"]: ".".join(filter(None, (each["schema"], each["table_name"]))) for each in columns}
        return described(
            columns,
            {each["id"]: tuple(each["columns"]) for each in keys if each["kind"] == "p"},
            {
                id_: [
                    ForeignKey(tuple(each["columns"]), names[each["target"]], tuple(each["target_columns"]))
                    for each in keys
                    if each["id"] == id_ and each["kind"] == "f" and each["target"] in names
                ]
                for id_ in names
            },
        )

    def chosen(self, table: DatabaseTable) -> list[str]:
        kinds = {
            each["column_name"]: each["kind"]
            for each in self.records(_COLUMNS)
            if tuple(filter(None, (each["schema"], each["table_name"]))) == table.parts
        }
        return [
            f"{quoted(name)}::{_READ_AS[kinds[name]]} as {quoted(name)}" if kinds[name] in _READ_AS else quoted(name)
            for name in table.columns
        ]

    def select(self, query: str, shown: str) -> tuple[str, list[str]]:
        tree = one_select(query, self.dialect, shown)
        text = written(tree, self.dialect)
        refuse_acting(text, self.records, shown)
        return text, remarks_on_read(tables_of(tree, self.dialect), self.records, shown)

    def remarks(self, table: DatabaseTable) -> list[str]:
        return remarks_on_read([table.quoted], self.records, self.shown)

    def answer(self, statement: str, shown: str, parameters: tuple[str, ...] = ()) -> tuple[Any, list[str]]:
        adbc = driver("adbc_driver_postgresql.dbapi")
        try:
            with self.turn:
                with closing(self.connection.cursor()) as cursor, cancelling(cursor.adbc_cancel):
                    self.begin(cursor)
                    cursor.execute(statement, parameters or None)
                    reader = cursor.fetch_record_batch()
                    table = gathered(reader.schema, reader, shown)
                    del reader  # what is left of the answer is taken before the transaction ends
                self.end()
        except (adbc.Error, pa.ArrowException, OSError) as error:
            with suppress(adbc.Error):
                self.end(failed=True)
            refuse_stopped()
            if "statement timeout" in str(error):
                raise too_late(f"{shown}: the database") from None
            raise refusal(error, shown) from None
        for at, field in enumerate(table.schema):
            table = table.set_column(at, field.name, plain_column(table.column(at), field))
        return table, []

    def close(self) -> None:
        self.connection.close()


#: Tables in the search path go by their name alone, others by schema.name.
_COLUMNS = """
select c.oid::bigint as id, a.attname::text as column_name, c.relname::text as table_name,
       case when pg_table_is_visible(c.oid) then '' else n.nspname::text end as schema,
       case when t.typtype = 'e' then 'enum' else t.typname::text end as kind
from pg_class c join pg_namespace n on n.oid = c.relnamespace join pg_attribute a on a.attrelid = c.oid
     join pg_type t on t.oid = a.atttypid
where c.relkind in ('r', 'p', 'v', 'm', 'f') and a.attnum > 0 and not a.attisdropped
  and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname not like 'pg_toast%'
  and has_table_privilege(c.oid, 'select')
order by n.nspname, c.relname, a.attnum
"""
_CONSTRAINTS = """
select k.conrelid::bigint as id, k.confrelid::bigint as target, k.contype::text as kind,
       array(select a.attname::text from unnest(k.conkey) with ordinality as p(number, at)
             join pg_attribute a on a.attrelid = k.conrelid and a.attnum = p.number order by p.at) as columns,
       array(select a.attname::text from unnest(k.confkey) with ordinality as p(number, at)
             join pg_attribute a on a.attrelid = k.confrelid and a.attnum = p.number order by p.at) as target_columns
from pg_constraint k where k.contype in ('p', 'f') order by k.conname
"""


def plain_column(array: Any, field: Any) -> Any:
    """A column as the driver hands it out, in a type that has a value's exact meaning."""
    kind, modifier = _kind_of(field)
    if isinstance(field.type, pa.BaseExtensionType):
        array = pa.chunked_array([chunk.storage for chunk in array.chunks], field.type.storage_type)
    if kind == "numeric":
        return _numeric(array, modifier)
    return pc.utf8_rtrim_whitespace(array) if kind == "bpchar" else array


def has_open_scale(field: Any) -> bool:
    """Whether a column is a numeric without a scale, so that only its values say how many digits it has."""
    kind, modifier = _kind_of(field)
    return kind == "numeric" and modifier < _LEAST_MODIFIER


def numeric_type(scale: int, largest: Decimal) -> Any:
    """The type in which the values of a numeric without a scale are read: a decimal with as many digits as some value
    has after the point, or a float where that does not hold them.
    """
    holds = scale <= MAX_SCALE and largest.is_finite() and largest < Decimal(10) ** (_DIGITS - scale)
    return pa.decimal128(_DIGITS, scale) if holds else pa.float64()


def converted_type(field: Any) -> Any | None:
    """The type to which the server is to convert a column before it counts or compares it; None for all but those
    that it hands out as something else than what they are there.
    """
    kind, _ = _kind_of(field)
    if kind == "money":
        return pa.decimal128(_DIGITS, 2)
    texts = isinstance(field.type, pa.UuidType | pa.JsonType) or pa.types.is_string(field.type)
    return pa.string() if texts and kind not in _TEXTS else None


def _kind_of(field: Any) -> tuple[str, int]:
    """What the driver tells of a column: its type there, and the modifier in which a numeric has its digits."""
    metadata = {key.decode(): value.decode() for key, value in (field.metadata or {}).items()}
    return metadata.get("POSTGRESQL:type", ""), int(metadata.get("POSTGRESQL:typmod", "-1"))


def _numeric(texts: Any, modifier: int) -> Any:
    if modifier >= _LEAST_MODIFIER:
        scale = (modifier - _LEAST_MODIFIER) & 0xFFFF
    else:
        # A numeric without a scale: as many digits as some value has.
        lengths = pc.subtract(pc.utf8_length(texts), pc.find_substring(texts, "."))
        places = pc.if_else(pc.match_substring(texts, "."), pc.subtract(lengths, 1), 0)
        scale = pc.max(places).as_py() or 0
    try:
        return texts.cast(pa.decimal128(_DIGITS, scale)) if scale <= MAX_SCALE else texts.cast(pa.float64())
    except pa.ArrowInvalid:
        return texts.cast(pa.float64())
