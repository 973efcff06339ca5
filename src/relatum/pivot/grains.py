"""Which grains a request computes: every prefix of each axis that has a line, with what orders it."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from relatum.language.expression import Expression
from relatum.pivot.axes import Ordered, Resolved
from relatum.plan.compile import GrainWanted, TopWanted, Wanted
from relatum.plan.nodes import Closing


class _Part(Struct, frozen=True):
    """The part of a grain on one axis."""

    keys: tuple[int, ...]
    others: frozenset[int] = frozenset()
    opened: tuple[int, ...] = ()
    unopened: tuple[int, ...] = ()


def wanted_of(resolved: Resolved, show_empty: bool, cell_limit: int) -> Wanted:
    """What a plan is made from."""
    heads = [resolved.head(at) for at in range(len(resolved.heads))]
    rows = _parts(resolved, range(resolved.row_count))
    columns = _parts(resolved, range(resolved.row_count, len(heads)))
    grains = [
        GrainWanted(
            (*one.keys, *other.keys),
            one.others | other.others,
            True,
            (),
            (*one.opened, *other.opened),
            (*one.unopened, *other.unopened),
        )
        for one in rows
        for other in columns
    ]
    tops = []
    for axis in (range(resolved.row_count), range(resolved.row_count, len(heads))):
        for at in axis[: _reach(resolved, axis)]:
            keys, best = tuple(range(axis.start, at + 1)), heads[at].best
            orders = tuple(each.expression for each in ordering_of(resolved, at))
            if orders or best is not None:
                _order(grains, keys, orders)
            if best is not None:
                by = tuple((each.expression, each.descending) for each in best.by)
                tops.append(TopWanted(at, keys[:-1], best.number, by, heads[at].others))
    closings = tuple(
        Closing(at) if head.opened is None else Closing(at, head.opened.members, head.opened.null, head.opened.no_match)
        for at, head in enumerate(heads)
        if head.stops
    )
    grains.sort(key=lambda each: (bool(each.others), not each.values, -len(each.keys)))
    return Wanted(
        fields=tuple(head.field for head in heads),
        formulas=resolved.formulas,
        filters=resolved.filters,
        grains=tuple(grains),
        row_count=resolved.row_count,
        show_empty=show_empty,
        cell_limit=cell_limit,
        keeps=resolved.keeps,
        tops=tuple(tops),
        closings=closings,
    )


def with_all_others(resolved: Resolved) -> Resolved:
    """A request whose tops all compute the members that they hide, as others."""
    fields = tuple(replace(each, others=each.others or each.best is not None) for each in resolved.fields)
    return replace(resolved, fields=fields)


def ordering_of(resolved: Resolved, at: int) -> tuple[Ordered, ...]:
    """What the members of a field are ordered by: as it says, else as its best are ranked, else nothing."""
    head = resolved.head(at)
    return head.by or (head.best.by if head.best is not None else ())


def _order(grains: list[GrainWanted], keys: tuple[int, ...], orders: tuple[Expression, ...]) -> None:
    """Request the grain of one axis's fields alone, with what its members are ordered by."""
    for number, each in enumerate(grains):
        if each.keys == keys and not each.others and not each.unopened:
            grains[number] = replace(each, orders=orders)
            return
    grains.append(GrainWanted(keys, values=False, orders=orders))


def _reach(resolved: Resolved, axis: range) -> int:
    """How many fields of an axis are computed: up to and including the first that is closed throughout."""
    return next((number for number, key in enumerate(axis, 1) if resolved.head(key).closed), len(axis))


def _parts(resolved: Resolved, axis: range) -> list[_Part]:
    """The lines of one axis by how deep they go: members, totals where they are wanted, closed members, others."""
    keys = tuple(axis)
    count = len(keys)
    parts = []
    deepest = _reach(resolved, axis)
    stops = [resolved.head(key).stops for key in keys]
    for depth in range(deepest, -1, -1):
        opened = tuple(keys[at] for at in range(depth - 1) if stops[at])
        total = depth == count or resolved.head(keys[depth]).total != "none"
        stopped = 0 < depth < count and stops[depth - 1]
        if total or (stopped and depth == deepest):
            parts.append(_Part(keys[:depth], frozenset(), opened))
        elif stopped:
            parts.append(_Part(keys[:depth], frozenset(), opened, (keys[depth - 1],)))
    for depth in range(1, deepest + 1):
        if resolved.head(keys[depth - 1]).others:
            opened = tuple(keys[at] for at in range(depth - 1) if stops[at])
            parts.append(_Part(keys[:depth], frozenset([keys[depth - 1]]), opened))
    return parts
