"""What a model may ask a database: one SELECT, told by a parser of SQL before the database sees it."""

from __future__ import annotations

import logging

from relatum.errors import SourceError
from relatum.sources.database.base import driver
from relatum.wording import first_line

#: A query of more characters than this is none that a person wrote.
_LONGEST = 200_000


def refuse_unless_select(query: str, dialect: str, shown: str) -> None:
    """Raise a SourceError unless a query is one SELECT that changes nothing and locks nothing.

    Parameters
    ----------
    query : str
        What a model asks.
    dialect : str
        Whose SQL it is: ``postgres``, ``sqlite`` or ``duckdb``.
    shown : str
        The database, for messages.

    Raises
    ------
    SourceError
        It is something else, or several statements.

    Examples
    --------
    >>> refuse_unless_select("select plant from product", "sqlite", "shop.db")
    >>> refuse_unless_select("select 1) as x; copy product to 'x'; --", "duckdb", "shop.duckdb")
    Traceback (most recent call last):
    ...
    relatum.errors.SourceError: shop.duckdb: The query is no SELECT that can be read: Invalid expression / Unexpected token
    A query is one SELECT. What cannot be said so can be a view of the database.
    """  # noqa: E501 - what it says is one line
    sqlglot = driver("sqlglot")
    fix = "A query is one SELECT. What cannot be said so can be a view of the database."
    if "\0" in query or len(query) > _LONGEST:
        raise SourceError("The query is no text of a query.", path=shown, fix=fix)
    logging.getLogger("sqlglot").setLevel(logging.ERROR)  # what it does not know is refused, and said so
    try:
        statements = [each for each in sqlglot.parse(query, read=dialect) if each is not None]
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError) as error:
        said = first_line(error).partition(". Line")[0].rstrip(".")
        raise SourceError(f"The query is no SELECT that can be read: {said}", path=shown, fix=fix) from None
    if len(statements) != 1:
        raise SourceError(f"The query is {len(statements)} statements.", path=shown, fix=fix)
    (statement,) = statements
    exp = sqlglot.exp
    if not isinstance(statement.unnest(), exp.Select | exp.SetOperation):
        raise SourceError(f"The query is no SELECT but {statement.key.upper()}.", path=shown, fix=fix)
    changing = (
        exp.DML, exp.DDL, exp.Command, exp.Into, exp.Lock, exp.Drop, exp.Alter, exp.Set, exp.Pragma, exp.Attach,
        exp.Detach, exp.Copy, exp.Use, exp.Transaction, exp.Commit, exp.Rollback,
    )  # fmt: skip
    for node in statement.walk():
        if isinstance(node, changing):
            raise SourceError(f"The query holds {node.key.upper()}, and may just read.", path=shown, fix=fix)
