"""What a model may ask a database: one SELECT, checked by an SQL parser before the database sees it."""

from __future__ import annotations

import logging
import re
from typing import Any

from relatum.errors import SourceError
from relatum.sources.database.drivers import driver
from relatum.wording import first_line

#: No person writes a query of more characters than this.
_LONGEST = 200_000


def one_select(query: str, dialect: str, shown: str) -> Any:
    """A query as a tree of sqlglot: one SELECT that changes nothing and locks nothing.

    Parameters
    ----------
    query : str
        What a model asks.
    dialect : str
        Whose SQL it is: ``postgres``, ``sqlite``, ``duckdb`` or ``spark``.
    shown : str
        The database, for messages.

    Raises
    ------
    SourceError
        It is something else, or several statements.

    Examples
    --------
    >>> written(one_select("select plant from product -- all", "sqlite", "shop.db"), "sqlite")
    'SELECT plant FROM product'
    >>> one_select("select 1) as x; copy product to 'x'; --", "duckdb", "shop.duckdb")
    Traceback (most recent call last):
    ...
    relatum.errors.SourceError: shop.duckdb: The query is not a valid SELECT: Invalid expression / Unexpected token
    A query is one SELECT. Put anything else in a database view.
    """
    sqlglot = driver("sqlglot")
    fix = "A query is one SELECT. Put anything else in a database view."
    if "\0" in query or len(query) > _LONGEST:
        raise SourceError("The query is not SQL.", path=shown, fix=fix)
    logging.getLogger("sqlglot").setLevel(logging.ERROR)  # what it does not know is refused, and said so
    try:
        statements = [each for each in sqlglot.parse(query, read=dialect) if each is not None]
    except (sqlglot.errors.SqlglotError, RecursionError, ValueError) as error:
        said = re.sub(r" for <class .*", "", first_line(error).partition(". Line")[0]).rstrip(".")
        raise SourceError(f"The query is not a valid SELECT: {said}", path=shown, fix=fix) from None
    if len(statements) != 1:
        what = f"is {len(statements)} statements" if statements else "is empty"
        raise SourceError(f"The query {what}.", path=shown, fix=fix)
    (statement,) = statements
    exp = sqlglot.exp
    if not isinstance(statement.unnest(), exp.Select | exp.SetOperation):
        raise SourceError(f"The query is not a SELECT but {statement.key.upper()}.", path=shown, fix=fix)
    changing = (
        exp.DML, exp.DDL, exp.Command, exp.Into, exp.Lock, exp.Drop, exp.Alter, exp.Set, exp.Pragma, exp.Attach,
        exp.Detach, exp.Copy, exp.Use, exp.Transaction, exp.Commit, exp.Rollback, exp.QueryTransform,
    )  # fmt: skip
    for node in statement.walk():
        if isinstance(node, changing):
            word = "TRANSFORM" if isinstance(node, exp.QueryTransform) else node.key.upper()
            raise SourceError(f"The query contains {word}, but may only read.", path=shown, fix=fix)
    return statement


def written(tree: Any, dialect: str) -> str:
    """A query as it is sent: written again from the checked tree, without comments."""
    text: str = tree.sql(dialect=dialect, comments=False)
    return text


def own_names(tree: Any) -> set[str]:
    """The names that a query gives to tables."""
    exp = driver("sqlglot").exp
    return {each.name for each in tree.find_all(exp.TableAlias)}


def tables_of(tree: Any, dialect: str) -> list[str]:
    """The tables that a query names, as its SQL spells them, without what it defines itself."""
    exp = driver("sqlglot").exp
    own = {each.alias_or_name for each in tree.find_all(exp.CTE)}
    named = []
    for table in tree.find_all(exp.Table):
        if isinstance(table.this, exp.Identifier) and not (table.name in own and not table.db):
            named.append(exp.Table(**{part: table.args.get(part) for part in ("this", "db", "catalog")}).sql(dialect))
    return named
