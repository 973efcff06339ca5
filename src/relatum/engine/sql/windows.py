"""Windows over the rows of a relation, and the orders in them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlglot import exp

from relatum.data.types import Kind, Type
from relatum.engine.sql.dialects import Dialect
from relatum.engine.sql.terms import Sql, aliased, bigint, column, number


def counted() -> Sql:
    """How many rows there are, as ``n``."""
    return aliased(exp.Count(this=exp.Star()), "n")


def minus_one(sql: Sql) -> Sql:
    """One less."""
    return bigint(exp.Sub(this=sql, expression=number(1)))


def call_window(name: str, *arguments: Sql) -> Sql:
    """A function of a window."""
    return exp.Anonymous(this=name, expressions=list(arguments))


def window(function: Sql, cells: Sequence[str], order: Sequence[Sql], spec: Sql | None = None) -> Sql:
    """A function over the rows of one cell, in an order; the relation's name is ``m``."""
    return exp.Window(
        this=function,
        partition_by=[column("m", each) for each in cells],
        order=exp.Order(expressions=list(order)) if order else None,
        spec=spec,
    )


def comparable(dialect: Dialect, sql: Sql, type_: Type) -> Sql:
    """A value that compares as the language has it: texts by code point."""
    return dialect.by_code_point(sql) if type_.kind is Kind.TEXT else sql


def ordered(dialect: Dialect, sql: Sql, type_: Type, descending: bool) -> exp.Ordered:
    """A key of an order in which null comes last."""
    return dialect.order_key(comparable(dialect, sql, type_), descending)
