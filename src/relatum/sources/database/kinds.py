"""Which addresses name a database, and of which kind. Nothing that reads one is loaded for that."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import urlsplit

SCHEMES = ("postgresql", "postgres")
SQLITE, DUCKDB = (".sqlite", ".sqlite3", ".db"), (".duckdb",)


def is_server(address: str) -> bool:
    """Whether an address names a database server, not a file."""
    try:
        return urlsplit(address).scheme in SCHEMES
    except ValueError:  # such as a bracket that is not closed
        return False


def is_database(address: str) -> bool:
    """Whether an address names a database: a server, or a file of a kind that databases use."""
    return is_server(address) or Path(address).suffix.lower() in (*SQLITE, *DUCKDB)


def shown_address(address: str) -> str:
    """An address as a message may show it."""
    if not is_server(address):
        return address
    parts = urlsplit(address)
    return parts._replace(netloc=parts.netloc.rpartition("@")[2], query="").geturl()
