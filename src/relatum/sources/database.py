"""Tables of SQL databases: PostgreSQL through its own protocol, SQLite and DuckDB files."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pyarrow as pa
import pyarrow.compute as pc

from relatum.data.arrow import arrow_type
from relatum.data.table import TableData
from relatum.data.types import BOOLEAN, DATE, MAX_SCALE, TIMESTAMP, Type, decimal
from relatum.errors import MissingSourceError, SourceError
from relatum.sources.arrow import table_data
from relatum.sources.files import missing_file
from relatum.sources.stated import Stated
from relatum.wording import first_line, suggestion

SCHEMES = ("postgresql", "postgres")
SQLITE, DUCKDB = (".sqlite", ".sqlite3", ".db"), (".duckdb",)


@dataclass(frozen=True, slots=True)
class ForeignKey:
    """Columns of a table that a database declares to point to columns of another."""

    columns: tuple[str, ...]
    target: str
    target_columns: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class DatabaseTable:
    """What a database declares of one table."""

    name: str
    columns: tuple[str, ...]
    key: tuple[str, ...]
    foreign_keys: tuple[ForeignKey, ...]


def is_server(address: str) -> bool:
    """Whether an address names a database server, not a file."""
    return urlsplit(address).scheme in SCHEMES


def is_database(address: str) -> bool:
    """Whether an address names a database: a server, or a file of a kind that databases use."""
    return is_server(address) or Path(address).suffix.lower() in (*SQLITE, *DUCKDB)


def read_database(address: str, part: str, query: str, folder: Path, stated: Stated) -> TableData:
    """The rows of a table of a database, or of a query that it answers.

    Raises
    ------
    SourceError
        The database cannot be reached, there is no such table, or it refuses the query.
    """
    shown = f"{shown_address(address)} ({part or 'query'})"
    with connected(address, folder) as database:
        if bool(part) == bool(query):
            tables = [each.name for each in database.tables()]
            raise SourceError(
                "The table has neither part nor query." if not part else "The table has both part and query.",
                path=shown_address(address),
                fix=f"Name a table of the database: {suggestion(part, tables, noun='table')}",
            )
        if part:
            chosen = ", ".join(database.chosen(part))
            table = database.fetch(f"select {chosen} from {_qualified(part)}", shown)
            declared = database.declared(part)
        else:
            table = database.fetch(f"select * from (\n{query.strip().rstrip(';')}\n) as asked", shown)
            declared = {}
    for at, field in enumerate(table.schema):
        table = table.set_column(at, field.name, _plain(table.column(at), field, declared.get(field.name)))
    return table_data(table.schema, stated, shown, table.num_rows, table.column)


def database_tables(address: str, folder: Path) -> list[DatabaseTable]:
    """What a database declares: its tables with their keys and foreign keys.

    Raises
    ------
    SourceError
        The database cannot be reached.
    """
    with connected(address, folder) as database:
        return database.tables()


def shown_address(address: str) -> str:
    """An address as a message may show it."""
    parts = urlsplit(address)
    if parts.scheme not in SCHEMES:
        return address
    return parts._replace(netloc=parts.netloc.rpartition("@")[2], query="").geturl()


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _qualified(part: str) -> str:
    return ".".join(_quoted(each) for each in part.split("."))


class _Database(ABC):
    """An open connection; each kind of database declares its tables in its own way."""

    def __init__(self, connection: Any, address: str) -> None:
        self._connection = connection
        self._address = address

    def fetch(self, statement: str, shown: str, parameters: tuple[str, ...] = ()) -> Any:
        """The answer to a statement, as an Arrow table."""
        try:
            return self._answer(statement, parameters)
        except _errors() as error:
            raise SourceError(f"The database refuses the question: {_reason(error)}", path=shown) from None

    def _answer(self, statement: str, parameters: tuple[str, ...]) -> Any:
        with closing(self._connection.cursor()) as cursor:
            cursor.execute(statement, parameters or None)
            return cursor.fetch_arrow_table()

    def records(self, statement: str, *parameters: str) -> list[dict[str, Any]]:
        return list(self.fetch(statement, shown_address(self._address), parameters).to_pylist())

    @abstractmethod
    def tables(self) -> list[DatabaseTable]:
        """What the database declares."""

    def declared(self, part: str) -> Mapping[str, Type]:
        """Types that a table's columns are declared to have and that the rows themselves do not show."""
        return {}

    def chosen(self, part: str) -> list[str]:
        """The columns of a table as a select statement lists them."""
        return [_quoted(name) for name in self.columns(part)]

    def columns(self, part: str) -> tuple[str, ...]:
        """The names of a table's columns; a SourceError where there is no such table."""
        tables = {each.name: each for each in self.tables()}
        if part not in tables:
            raise MissingSourceError(
                f"There is no table {part}.",
                path=shown_address(self._address),
                fix=suggestion(part, tables, noun="table"),
            )
        return tables[part].columns


class _PostgreSQL(_Database):
    def chosen(self, part: str) -> list[str]:
        kinds = {each["column_name"]: each["kind"] for each in self.records(_COLUMNS) if each["table_name"] == part}
        return [
            f"{_quoted(name)}::text as {_quoted(name)}" if kinds[name] in ("uuid", "enum") else _quoted(name)
            for name in self.columns(part)
        ]

    def tables(self) -> list[DatabaseTable]:
        columns = self.records(_COLUMNS)
        keys = self.records(_CONSTRAINTS)
        names = {each["id"]: each["table_name"] for each in columns}
        return _described(
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


#: Tables in the search path go by their name alone, others by schema.name.
_COLUMNS = """
select c.oid::bigint as id, a.attname::text as column_name,
       case when pg_table_is_visible(c.oid) then c.relname::text else n.nspname || '.' || c.relname end as table_name,
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


class _SQLite(_Database):
    def tables(self) -> list[DatabaseTable]:
        columns = self.records(
            "select m.name as id, m.name as table_name, c.name as column_name, c.pk as place from sqlite_master m, "
            "pragma_table_info(m.name) c where m.type in ('table', 'view') and m.name not like 'sqlite_%' "
            "order by m.name, c.cid"
        )
        links = self.records(
            'select m.name as id, f.id as number, f."table" as target, f."from" as own, f."to" as other '
            "from sqlite_master m, pragma_foreign_key_list(m.name) f where m.type = 'table' "
            "order by m.name, f.id, f.seq"
        )
        keys = {
            each["id"]: tuple(
                own["column_name"]
                for own in sorted(columns, key=lambda row: row["place"])
                if own["id"] == each["id"] and own["place"]
            )
            for each in columns
        }
        foreign: dict[str, list[ForeignKey]] = {}
        for id_, number in dict.fromkeys((each["id"], each["number"]) for each in links):
            rows = [each for each in links if (each["id"], each["number"]) == (id_, number)]
            target = rows[0]["target"]
            # A foreign key that names no columns points to the primary key.
            other = tuple(each["other"] for each in rows if each["other"]) or keys.get(target, ())
            foreign.setdefault(id_, []).append(ForeignKey(tuple(each["own"] for each in rows), target, other))
        return _described(columns, keys, foreign)

    def declared(self, part: str) -> Mapping[str, Type]:
        rows = self.records("select name, type from pragma_table_info(?)", part)
        found = {each["name"]: _declared(each["type"]) for each in rows}
        return {name: type_ for name, type_ in found.items() if type_ is not None}


def _declared(text: str) -> Type | None:
    """The type that a column of SQLite is declared to have, where its storage does not say so itself."""
    word = text.lower()
    number = re.search(r"(?:decimal|numeric)\s*\(\s*\d+\s*,\s*(\d+)\s*\)", word)
    if number and int(number[1]) <= MAX_SCALE:
        return decimal(int(number[1]))
    if "bool" in word:
        return BOOLEAN
    if "datetime" in word or "timestamp" in word:
        return TIMESTAMP
    return DATE if "date" in word else None


class _DuckDB(_Database):
    def tables(self) -> list[DatabaseTable]:
        columns = self.records(
            "select schema_name || '.' || table_name as id, column_name, "
            "case when schema_name = current_schema() then table_name else schema_name || '.' || table_name end "
            "as table_name from duckdb_columns() where not internal order by table_name, column_index"
        )
        links = self.records(
            "select schema_name || '.' || table_name as id, schema_name || '.' || referenced_table as target, "
            "constraint_type as kind, constraint_column_names as columns, "
            "referenced_column_names as target_columns from duckdb_constraints()"
        )
        names = {each["id"]: each["table_name"] for each in columns}
        foreign: dict[str, list[ForeignKey]] = {}
        for each in links:
            if each["kind"] == "FOREIGN KEY" and each["target"] in names:
                key = ForeignKey(tuple(each["columns"]), names[each["target"]], tuple(each["target_columns"]))
                foreign.setdefault(each["id"], []).append(key)
        keys = {each["id"]: tuple(each["columns"]) for each in links if each["kind"] == "PRIMARY KEY"}
        return _described(columns, keys, foreign)

    def _answer(self, statement: str, parameters: tuple[str, ...]) -> Any:
        return self._connection.sql(statement, params=list(parameters) or None).to_arrow_table()


def _described(
    columns: list[dict[str, Any]], keys: Mapping[Any, tuple[str, ...]], foreign: Mapping[Any, list[ForeignKey]]
) -> list[DatabaseTable]:
    tables: dict[Any, list[str]] = {}
    names = {}
    for each in columns:
        tables.setdefault(each["id"], []).append(each["column_name"])
        names[each["id"]] = each["table_name"]
    return [
        DatabaseTable(names[id_], tuple(own), keys.get(id_, ()), tuple(foreign.get(id_, ())))
        for id_, own in tables.items()
    ]


@contextmanager
def connected(address: str, folder: Path) -> Iterator[_Database]:
    """An open database, closed when done; nothing is ever written to it.

    Raises
    ------
    SourceError
        The database cannot be reached, or its driver is not installed.
    """
    with closing(_connect(address, folder)) as connection:
        if is_server(address):
            yield _PostgreSQL(connection, address)
        elif Path(address).suffix.lower() in DUCKDB:
            yield _DuckDB(connection, address)
        else:
            yield _SQLite(connection, address)


def _connect(address: str, folder: Path) -> Any:
    shown = shown_address(address)
    if is_server(address):
        parts = urlsplit(address)
        if "@" in parts.netloc or "password" in parts.query or "user" in parts.query:
            raise SourceError(
                "The address holds a user or password, and a model file is no place for them.",
                path=shown,
                fix="Leave them out and set the environment variables PGUSER and PGPASSWORD.",
            )
        driver = _driver("adbc_driver_postgresql.dbapi")
        try:
            return driver.connect(address)
        except _errors() as error:
            raise SourceError(
                f"The database cannot be reached: {_reason(error)}",
                path=shown,
                fix="Check that it runs and the address is right; user and password are read from the environment "
                "variables PGUSER and PGPASSWORD.",
            ) from None
    path = folder / address
    if not path.is_file():
        raise missing_file(path)
    try:
        if path.suffix.lower() in DUCKDB:
            return _driver("duckdb").connect(str(path), read_only=True)
        connection = _driver("adbc_driver_sqlite.dbapi").connect(f"file:{path}?mode=ro")
        try:
            with closing(connection.cursor()) as cursor:
                cursor.execute("select count(*) from sqlite_master")
                cursor.fetchall()
        except BaseException:
            connection.close()
            raise
        return connection
    except _errors() as error:
        raise SourceError(f"This is no database that can be read: {_reason(error)}", path=path) from None


def _driver(module: str) -> Any:
    try:
        return import_module(module)
    except ImportError:
        raise SourceError(
            f"Reading this database needs the package {module.partition('.')[0].replace('_', '-')}.",
            fix="Install it with: pip install 'relatum[databases]'",
        ) from None


def _errors() -> tuple[type[Exception], ...]:
    found: list[type[Exception]] = [pa.ArrowException, OSError]
    for module in ("adbc_driver_manager", "duckdb"):
        try:
            found.append(import_module(module).Error)
        except ImportError:
            continue
    return tuple(found)


def _reason(error: Exception) -> str:
    text = first_line(error)
    for noise in ("IO: ", "NOT_FOUND: ", "INVALID_ARGUMENT: ", "[libpq] ", "Failed to prepare query: ", "ERROR:  "):
        text = text.replace(noise, "")
    return text.strip()


def _plain(array: Any, field: Any, declared: Type | None) -> Any:
    """A column as this database's driver hands it out, in a type that has a value's exact meaning."""
    metadata = {key.decode(): value.decode() for key, value in (field.metadata or {}).items()}
    kind = metadata.get("POSTGRESQL:type", "")
    if isinstance(field.type, pa.BaseExtensionType):
        array = pa.chunked_array([chunk.storage for chunk in array.chunks], field.type.storage_type)
    if kind == "numeric":
        return _numeric(array, int(metadata.get("POSTGRESQL:typmod", "-1")))
    if kind == "bpchar":
        return pc.utf8_rtrim_whitespace(array)
    if declared is not None and arrow_type(declared) != array.type:
        with suppress(pa.ArrowException):  # a column may hold values of another type than it declares
            # A truth is stored as 0 or 1, everything else as it is written.
            stored = array if declared == BOOLEAN else array.cast(pa.string())
            return stored.cast(arrow_type(declared))
    if pa.types.is_decimal(array.type) and array.type.scale == 0 and array.type.precision > 18:
        return array.cast(pa.int64(), safe=True)
    return array


def _numeric(texts: Any, modifier: int) -> Any:
    if modifier >= 4:
        scale = (modifier - 4) & 0xFFFF
    else:
        # A numeric without a scale: as many digits as some value has.
        lengths = pc.subtract(pc.utf8_length(texts), pc.find_substring(texts, "."))
        places = pc.if_else(pc.match_substring(texts, "."), pc.subtract(lengths, 1), 0)
        scale = pc.max(places).as_py() or 0
    try:
        return texts.cast(pa.decimal128(38, scale)) if scale <= MAX_SCALE else texts.cast(pa.float64())
    except pa.ArrowInvalid:
        return texts.cast(pa.float64())
