"""Where a model's tables live: the engine that it chooses, connected when the model is opened."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import assert_never, cast, get_args

from msgspec.structs import replace

from relatum.errors import ModelError
from relatum.model.declaration import Declaration, EngineChoice, EngineKind
from relatum.runtime.limits import in_force
from relatum.runtime.paths import leads_outside
from relatum.session.reading import Whereabouts, lives_there, parquet_files
from relatum.sources.database.kinds import is_server
from relatum.sources.engines.base import Connection
from relatum.sources.files import plain_file

_asked: ContextVar[str | None] = ContextVar("engine", default=None)
_opened: ContextVar[list[Connection] | None] = ContextVar("opened", default=None)


@contextmanager
def asked_of(engine: str | None) -> Iterator[list[Connection]]:
    """Have every model that is opened inside the block live on an engine; gives the connections, closed afterwards."""
    opened: list[Connection] = []
    tokens = _asked.set(engine), _opened.set(opened)
    try:
        yield opened
    finally:
        _asked.reset(tokens[0])
        _opened.reset(tokens[1])
        for each in opened:
            each.close()


def engine_of_model(declaration: Declaration, said: str | EngineChoice | None) -> EngineChoice:
    """The engine of a model: the one that the caller says, or the shell; else what the model states."""
    said = said or _asked.get()
    choice = declaration.engine if said is None else chosen_engine(said, declaration.engine)
    if choice.address or choice.kind not in ("duckdb", "postgresql"):
        return choice
    # Tables that are read from one database of that kind live there.
    sources = {table.source for table in declaration.tables.values() if _kind_of(table.source) == choice.kind}
    return replace(choice, address=sources.pop()) if len(sources) == 1 else choice


def said_address(said: str | EngineChoice | None) -> str:
    """The address of an engine that the caller names, or the shell; empty where neither names one."""
    said = said or _asked.get() or ""
    if isinstance(said, EngineChoice):
        return said.address
    return said if _kind_of(said) is not None else ""


def chosen_engine(said: str | EngineChoice, stated: EngineChoice | None = None) -> EngineChoice:
    """An engine by its kind or address; by its kind, with the address that the model states for that kind.

    Raises
    ------
    ModelError
        There is no such engine.
    """
    if isinstance(said, EngineChoice):
        return said
    kind = _kind_of(said)
    if kind is not None:
        return EngineChoice(kind, said, stated.schema if stated is not None and stated.kind == kind else "")
    if said not in get_args(EngineKind):
        raise ModelError(
            f"Unknown engine {said}.",
            fix=f"Known: {', '.join(get_args(EngineKind))}; or an address such as shop.duckdb, "
            "postgresql://localhost/shop, spark://host:7077.",
        )
    return stated if stated is not None and stated.kind == said else EngineChoice(cast(EngineKind, said))


def _kind_of(address: str) -> EngineKind | None:
    """The engine that an address is of; None for other texts."""
    if is_server(address):
        return "postgresql"
    if address.lower().endswith(".duckdb"):
        return "duckdb"
    return "spark" if address.startswith(("spark://", "local[", "yarn", "k8s://")) else None


def with_engine(whereabouts: Whereabouts, declaration: Declaration) -> Whereabouts:
    """Where sources are looked for, connected to the engine that a model chooses.

    Raises
    ------
    SourceError
        The engine cannot be reached, or its package is not installed.
    """
    if declaration.engine.kind == "memory":
        return whereabouts
    with in_force(declaration.bounds):
        connection = _connected(declaration, whereabouts)
    connection.bounds = declaration.bounds
    opened = _opened.get()
    if opened is not None:
        opened.append(connection)
    return replace(whereabouts, engine=connection)


def _connected(declaration: Declaration, whereabouts: Whereabouts) -> Connection:
    choice = declaration.engine
    if not whereabouts.allow_outside and choice.address != whereabouts.engine_said:
        _refuse_untrusted(choice, whereabouts.folder)
    files: list[Path] = []
    for table in declaration.tables.values():
        if lives_there(table, choice, whereabouts.folder) and not (table.part or table.query):
            files += parquet_files(table, whereabouts)
    match choice.kind:
        case "duckdb":
            from relatum.sources.engines.duckdb import DuckDbConnection  # noqa: PLC0415 - heavy, where it is used

            path = plain_file(whereabouts.folder / choice.address) if choice.address else None
            return DuckDbConnection(path, files)
        case "postgresql":
            from relatum.sources.engines.postgresql import PostgreSqlConnection  # noqa: PLC0415

            if not choice.address:
                raise ModelError(
                    "The engine postgresql has no address.",
                    fix='Set it: engine = { kind = "postgresql", address = "postgresql://localhost/shop" }.',
                    place=("engine",),
                )
            return PostgreSqlConnection(choice.address, choice.schema)
        case "spark":
            from relatum.sources.engines.spark import SparkConnection  # noqa: PLC0415

            return SparkConnection(choice.address, choice.schema)
        case "memory":
            raise AssertionError("memory needs no connection")
        case _:
            assert_never(choice.kind)


def _refuse_untrusted(choice: EngineChoice, folder: Path) -> None:
    """Raise a ModelError for an address that the model file alone names and may not: a file outside its folder, a Spark
    elsewhere, which runs what it is sent.
    """
    match choice.kind:
        case "duckdb":
            if choice.address and leads_outside(folder / choice.address, folder):
                raise ModelError(
                    f"The engine {choice.address} lies outside the model's folder.",
                    fix="Move the file, or name it with --engine; from Python, with engine= or allow_outside=True.",
                    place=("engine",),
                )
        case "spark":
            if choice.address and not _HERE.fullmatch(choice.address):
                raise ModelError(
                    f"The model names its own Spark server, {choice.address}.",
                    fix=f"If you trust it, name it yourself: --engine {choice.address}, or engine= when opening the "
                    "model.",
                    place=("engine",),
                )
        case "postgresql" | "memory":
            pass
        case _:
            assert_never(choice.kind)


#: A Spark in processes of this machine.
_HERE = re.compile(r"local(?:\[(?:\d{1,4}|\*)\])?")
