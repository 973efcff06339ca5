"""Which cell is meant: members of fields, from Python or from text."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import Any, assert_never

import numpy as np
import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from relatum.data import compute as pc
from relatum.data.arrow import column_to_arrow, python_values
from relatum.data.days import day_of, moment_of
from relatum.data.types import Kind
from relatum.errors import RequestError
from relatum.language.parse import parse_formula
from relatum.language.tree import Literal, Name, Operation
from relatum.model.names import literal, split_list
from relatum.pivot.axes import Resolved, resolve_request
from relatum.pivot.request import Request
from relatum.pivot.turning import NO_MATCH
from relatum.session.session import Session
from relatum.wording import suggestion


class Others:
    """Stands for the members that a top leaves out, where a member is named from Python."""

    def __repr__(self) -> str:
        return "others"


OTHERS = Others()


class Cell(Struct, frozen=True):
    """A cell of a resolved request: the fields that it has members of, the codes, and which of them are others."""

    keys: tuple[int, ...]
    codes: dict[int, int]
    others: frozenset[int]
    named: tuple[tuple[str, Any], ...]


def members_in(text: str) -> dict[str, Any]:
    """Members from text: ``category.category = 'Ferns', calendar.year is null, product.plant = others``.

    Raises
    ------
    FormulaError, RequestError
        A part names no member of a field.
    """
    found: dict[str, Any] = {}
    for part in split_list(text):
        node = parse_formula(part, "at")
        if not isinstance(node, Operation) or node.operator not in ("=", "is_null", "is_no_match"):
            raise RequestError(
                f"{part} does not name a member.",
                fix="Write table.column = 'member', … is null, … is no match, … = others.",
            )
        field = part[node.operands[0].span.start : node.operands[0].span.stop]
        if node.operator == "is_null":
            found[field] = None
        elif node.operator == "is_no_match":
            found[field] = NO_MATCH
        else:
            found[field] = _constant(part, node.operands[1])
    return found


def values_in(text: str) -> dict[str, Any]:
    """Values of columns from text, as a control has them: ``category.category = 'Ferns', calendar.year = 2024``.

    Raises
    ------
    FormulaError, RequestError
        A part says no value of a column.
    """
    found = members_in(text)
    for field, member in found.items():
        if not isinstance(member, Written):
            reason = f"A control needs a value for each column, and {field} has none here."
            raise RequestError(reason, fix="Write table.column = value.")
    return {field: _python(member) for field, member in found.items()}


def _constant(part: str, node: Any) -> Any:
    if isinstance(node, Name) and node.parts == ("others",):
        return OTHERS
    negative = isinstance(node, Operation) and node.operator == "negate"
    inner = node.operands[0] if negative else node
    if not isinstance(inner, Literal):
        raise RequestError(f"{part} does not name a member.", fix="Write a constant or others after =.")
    return Written(inner, negative)


class Written(Struct, frozen=True):
    """A constant as it was written."""

    literal: Literal
    negative: bool


def cell_of(resolved: Resolved, at: Mapping[str, Any]) -> Cell:
    """The cell that members of fields name; fields that are not named are totalled over.

    Raises
    ------
    RequestError
        A field or a member is not there.
    """
    names = {resolved.fields[head].name: number for number, head in enumerate(resolved.heads)}
    labels = {resolved.fields[head].label: number for number, head in enumerate(resolved.heads)}
    codes: dict[int, int] = {}
    others: set[int] = set()
    for field, member in at.items():
        key = names.get(field, labels.get(field))
        if key is None:
            raise RequestError(f"{field} is not a field of this cell.", fix=suggestion(field, names, noun="field"))
        if isinstance(member, Others):
            if not resolved.head(key).others:
                raise RequestError(
                    f"{field} does not show others.", fix=f"Ask for them in the rows: {field} top 5 with others."
                )
            others.add(key)
            codes[key] = 0
        else:
            codes[key] = code_of(resolved.session, resolved, key, member)
    keys = tuple(sorted(codes))
    described = tuple((resolved.head(key).name, _member_at(resolved, key, codes[key], key in others)) for key in keys)
    return Cell(keys, codes, frozenset(others), described)


def _member_at(resolved: Resolved, key: int, code: int, others: bool) -> Any:
    field = resolved.head(key).field
    members = resolved.session.store.members(field.table, field.column)
    if others:
        return OTHERS
    if code == members.no_match:
        return NO_MATCH
    return None if code == members.null else python_values(members.values.take(np.array([code])))[0]


def code_of(session: Session, resolved: Resolved, key: int, member: Any) -> int:
    """The code of a member of a field; raises a RequestError if there is none."""
    field = resolved.head(key).field
    members = session.store.members(field.table, field.column)
    if member is NO_MATCH:
        return members.no_match
    if member is None:
        return members.null
    wanted = _python(member)
    array = column_to_arrow(members.values)
    try:
        at = pc.index(
            array, pa.scalar(wanted, array.type.value_type if pa.types.is_dictionary(array.type) else array.type)
        )
        code = int(at.as_py())
    except (pa.ArrowInvalid, pa.ArrowTypeError, pa.ArrowNotImplementedError):
        code = -1
    if code >= 0:
        return code
    texts = [str(value) for value in python_values(members.values.take(np.arange(min(len(members.values), 20_000))))]
    raise RequestError(
        f"{resolved.head(key).name} has no member {wanted if isinstance(wanted, str) else literal(wanted)}.",
        fix=suggestion(str(wanted), texts, noun="member"),
    )


def _python(member: Any) -> Any:
    if not isinstance(member, Written):
        return member
    value, type_ = member.literal.value, member.literal.type
    match type_.kind:
        case Kind.DECIMAL:
            number: Any = Decimal(int(value or 0)).scaleb(-type_.scale)
        case Kind.DATE:
            return day_of(int(value or 0))
        case Kind.TIMESTAMP:
            return moment_of(int(value or 0) // 10**type_.scale)
        case Kind.INTEGER | Kind.FLOAT | Kind.TEXT | Kind.BOOLEAN | Kind.NULL:
            number = value
        case _:
            assert_never(type_.kind)
    return -number if member.negative else number


def with_fields_of(session: Session, request: Request, at: Mapping[str, Any]) -> Request:
    """A request with a row field for each member of a cell whose field no axis states."""
    stated = {name for field in resolve_request(session, request).fields for name in (field.name, field.label)}
    return replace(request, rows=(*request.rows, *(field for field in at if field not in stated)))
