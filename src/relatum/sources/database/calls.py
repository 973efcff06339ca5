"""What a query calls, and what a PostgreSQL server says of that in its own catalogue."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from typing import Any

from relatum.errors import SourceError
from relatum.wording import listed

_NAME = r'(?:"((?:[^"]|"")+)"|`((?:[^`]|``)+)`|([^\W\d][\w$]*))'
#: A name before a bracket: a call, or a word of SQL. What is in a text that looks so is taken for one, too.
_CALLED = re.compile(_NAME + r"\s*\(")
#: A name after a point: a column, or, of a row, a call written like one.
_AFTER_POINT = re.compile(r"\.\s*" + _NAME)
#: What the catalogue calls stable though it runs a text as a query, numbers a transaction, or reaches another server.
_NAMED = re.compile(
    r"(?:table|schema|database|query|cursor)_to_xml\w*|txid_current|pg_current_xact_id|ts_stat|ts_rewrite|xpath_table|"
    r"crosstab\w*|connectby|dblink\w*|pg_(?:ls|read|stat|write|logdir|file|hba)_\w*"
)
_FIX = "A query may call only functions that compute a value. Put anything else in a database view."
#: Functions of Spark that call a method by its name.
_RUNNING = frozenset({"reflect", "java_method", "try_reflect"})
#: Words of SQL that are before a bracket, and types with their digits.
WORDS = frozenset(
    "all and any array as between bigint binary boolean by byte case cast char character cube date dec decimal "
    "distinct else except exists extract filter float for from full group grouping having in inner intersect interval "
    "into is join lateral left like ilike limit map minus named_struct not null numeric nulls offset on or order outer "
    "over partition percent pivot range rlike rollup rows select sets similar some struct table tablesample then "
    "timestamp trim union unpivot using values varchar when where window with within".split()
)

#: Functions that may change something or give another answer each time, of the names called; and those that a row may
#: be given to by a point.
_VOLATILE = """
select distinct p.proname::text as name
from pg_catalog.pg_proc p join pg_catalog.json_array_elements_text($1::pg_catalog.json) called(name)
     on pg_catalog.lower(p.proname::text) = called.name
where p.provolatile = 'v'
union
select distinct p.proname::text
from pg_catalog.pg_proc p join pg_catalog.json_array_elements_text($2::pg_catalog.json) pointed(name)
     on pg_catalog.lower(p.proname::text) = pointed.name
     join pg_catalog.pg_type t on t.oid = p.proargtypes[0]
where p.provolatile = 'v' and p.pronargs = 1 and t.typtype in ('c', 'p')
order by 1
"""
#: What tables are, those behind views too.
_READ = """
with recursive asked(id) as (
  select pg_catalog.to_regclass(name)::pg_catalog.oid
  from pg_catalog.json_array_elements_text($1::pg_catalog.json) t(name)
), reads(id) as (
  select id from asked
  union
  select d.refobjid from reads join pg_catalog.pg_rewrite w on w.ev_class = reads.id
  join pg_catalog.pg_depend d on d.classid = 'pg_catalog.pg_rewrite'::pg_catalog.regclass and d.objid = w.oid
   and d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass
)
select c.relname::text as name, c.relkind::text as kind, c.oid in (select id from asked) as direct,
       n.nspname::text in ('pg_catalog', 'pg_toast') as internal
from reads join pg_catalog.pg_class c on c.oid = reads.id join pg_catalog.pg_namespace n on n.oid = c.relnamespace
order by 1
"""

Records = Callable[..., list[dict[str, Any]]]


def called(text: str) -> set[str]:
    """The names that a statement may call, in lower case: more rather than fewer.

    Examples
    --------
    >>> sorted(called("select Sum(a), \\"lo_create\\" (1) from t where b in (1)"))
    ['in', 'lo_create', 'sum']
    """
    return _names(_CALLED, text)


def refuse_acting(text: str, records: Records, shown: str) -> None:
    """Raise a SourceError where a query calls what may act on the server, by what the server says of its functions.

    Parameters
    ----------
    text : str
        The query as it will be sent, without comments.
    records : callable
        Asks the server a statement of our own.
    shown : str
        The database, for messages.

    Raises
    ------
    SourceError
        It calls a function that is volatile in some form of it, or one that runs or reaches something else.
    """
    names = called(text)
    acting = {name for name in names if _NAMED.fullmatch(name)}
    pointed = _names(_AFTER_POINT, text) - names
    if names or pointed:
        found = records(_VOLATILE, *(json.dumps(sorted(each)) for each in (names, pointed)))
        acting |= {str(each["name"]) for each in found}
    if acting:
        raise SourceError(
            f"The query calls {listed(sorted(acting))}, which a model may not: they can change things on the server.",
            path=shown,
            fix=_FIX,
        )


def refuse_unknown(text: str, known: Iterable[str], own: Iterable[str], shown: str) -> None:
    """Raise a SourceError where a query calls what is not among the functions that an engine brings itself.

    Parameters
    ----------
    text : str
        The query as it will be sent, without comments.
    known : iterable of str
        The engine's own functions.
    own : iterable of str
        Names that the query gives itself, to tables with their columns.
    shown : str
        The engine, for messages.

    Raises
    ------
    SourceError
        It calls another function, or one of those that run what they are given.
    """
    harmless = (set(known) | WORDS | {each.lower() for each in own}) - _RUNNING
    wrong = called(text) - harmless
    if wrong:
        raise SourceError(
            f"The query calls {listed(sorted(wrong))}, which a model may not: they can run anything.",
            path=shown,
            fix=_FIX,
        )


def remarks_on_read(tables: Iterable[str], records: Records, shown: str) -> list[str]:
    """What is to be known of the tables that are read, given by their names in SQL.

    Raises
    ------
    SourceError
        One is a table of the server itself, or a sequence.
    """
    remarks = []
    for each in records(_READ, json.dumps(sorted(set(tables)))):
        if each["direct"] and (each["internal"] or each["kind"] == "S"):
            what = "a sequence" if each["kind"] == "S" else "the server's own"
            raise SourceError(f"The query reads {each['name']}, which is {what}.", path=shown, fix=_FIX)
        if each["kind"] == "f":
            remarks.append(f"{each['name']} is a foreign table: the server fetches its rows from elsewhere")
    return remarks


def _names(pattern: re.Pattern[str], text: str) -> set[str]:
    return {
        (double.replace('""', '"') or back.replace("``", "`") or word).lower()
        for double, back, word in pattern.findall(text)
    }
