"""The oracle's reading of shorthands: each is replaced by the formula for which it is short."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from relatum.data.types import INTEGER
from relatum.language.parse import parse_condition, parse_formula
from relatum.language.tree import Call, Changed, Condition, IgnoringClause, Literal, Name, Operation, Syntax

_SHARE_OF = {"total": "axes", "parent": "innermost", "row": "columns", "column": "rows"}


@lru_cache(maxsize=4096)
def parsed(text: str) -> Syntax:
    return spelled_out(parse_formula(text))


@lru_cache(maxsize=4096)
def parsed_condition(text: str) -> Condition:
    return spelled_out(parse_condition(text))


def spelled_out(node: Any) -> Any:
    """A tree without share, growth and change."""
    if isinstance(node, tuple):
        return tuple(map(spelled_out, node))
    if not isinstance(node, Struct):
        return node
    node = replace(node, **{name: spelled_out(getattr(node, name)) for name in node.__struct_fields__})
    if isinstance(node, Call) and node.function == "share":
        (value,) = node.arguments
        word = Name((_SHARE_OF[node.word],), node.span)
        return Operation("/", (value, Changed(value, (IgnoringClause((word,), node.span),), node.span)), node.span)
    if isinstance(node, Call) and node.function in ("growth", "change"):
        (value,) = node.arguments
        before = Changed(value, (node.move,), node.span)
        if node.function == "change":
            return Operation("-", (value, before), node.span)
        return Operation("-", (Operation("/", (value, before), node.span), Literal(1, INTEGER, node.span)), node.span)
    return node
