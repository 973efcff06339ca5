"""The order of a column's members, as relations that give each its place."""

from __future__ import annotations

from sqlglot import exp

from relatum.data.types import FLOAT
from relatum.engine.sql.parts import Parts
from relatum.engine.sql.rows import Key, Rows, key_columns, same_key
from relatum.engine.sql.scalars import FORMS
from relatum.engine.sql.terms import Sql, Value, aliased, case, coalesce, column, equal, number, text
from relatum.engine.sql.windows import call_window, comparable, minus_one
from relatum.language.expression import MemberOrder
from relatum.plan.nodes import Field, Match
from relatum.plan.nodes import KeyColumn as KeyNode


class Orders:
    """Makes relations of members and their places.

    Parameters
    ----------
    parts : Parts
        What selects are made of.
    """

    def __init__(self, parts: Parts) -> None:
        self.parts = parts
        self._places: dict[tuple[Field, KeyNode], str] = {}

    def places(self, field: Field, node: KeyNode) -> str:
        """A relation of members (``k``, ``ks``) with their places in the order of a column that they determine."""
        assert node.placed is not None, "a place is one in an order"
        if (field, node) not in self._places:
            self._places[field, node] = self._made_places(field, node, node.placed)
        return self._places[field, node]

    def _made_places(self, field: Field, node: KeyNode, order: MemberOrder) -> str:
        ordered = self.ordered_members(node.table, node.column, order)
        if (field.table, field.column) == (node.table, node.column):
            return ordered
        # The member of the other column that the first row with this one's has.
        rows, start = Rows.of(self.parts, field.table)
        own = rows.key(start, Match(-1, (), (), field.table, field.column))
        other = rows.key(rows.at(start, node.route), Match(-1, (), (), node.table, node.column))
        stored = self.parts.stored(field.table)
        keys, _ = key_columns(Key(own.value, own.state or number(0), own.type), "k")
        more, _ = key_columns(Key(other.value, other.state or number(0), other.type), "o")
        first = exp.Window(
            this=call_window("ROW_NUMBER"),
            partition_by=[own.value.copy(), (own.state or number(0)).copy()],
            order=exp.Order(expressions=[exp.Ordered(this=stored.order(start.alias))]),
        )
        firsts = self.parts.sheet.add("first_rows", rows.select(*keys, *more, aliased(first, "nth")))
        rows = Rows(self.parts, "f", self.parts.sheet.table(firsts, "f"))
        on = [equal(column("f", "o"), column("p", "k")), equal(column("f", "os"), column("p", "ks"))]
        rows.join(self.parts.sheet.table(ordered, "p"), on, left=True)
        rows.where.append(equal(column("f", "nth"), number(1)))
        names = [aliased(column("f", each), each) for each in ("k", "ks")]
        return self.parts.sheet.add("places_of_members", rows.select(*names, aliased(column("p", "place"), "place")))

    def ordered_members(self, table: str, name: str, order: MemberOrder) -> str:
        """The members of a column with their places in an order; null has none."""
        rows, start = Rows.of(self.parts, table)
        own = rows.key(start, Match(-1, (), (), table, name))
        type_ = own.type
        state = own.state or number(0)
        keys, _ = key_columns(Key(own.value, state, type_), "k")
        if order.by:
            inner = self.ordered_members(table, order.by, order.inner or MemberOrder())
            other = rows.key(start, Match(-1, (), (), table, order.by))
            on = same_key(other, Key(column("p", "k"), column("p", "ks"), other.type))
            rows.join(self.parts.sheet.table(inner, "p"), on, left=True)
            first: Sql = exp.Min(this=coalesce(column("p", "place"), number(1 << 62)))
        elif order.listed:
            branches = [(equal(own.value.copy(), text(each)), number(at)) for at, each in enumerate(order.listed)]
            first = exp.Min(this=case(branches, number(len(order.listed))))
        elif order.banded:
            edge = FORMS["band_edge"](self.parts.dialect, [Value(own.value.copy(), type_)], FLOAT)
            first = exp.Min(this=case([(equal(state.copy(), number(0)), edge)]))
        else:
            first = exp.Min(this=number(0))
        name_ = self.parts.sheet.add("members", rows.select(*keys, aliased(first, "o"), grouped=len(keys)))
        rows = Rows(self.parts, "m", self.parts.sheet.table(name_, "m"))
        window = exp.Window(
            this=call_window("ROW_NUMBER"),
            order=exp.Order(
                expressions=[
                    exp.Ordered(this=column("m", "ks")),
                    exp.Ordered(this=column("m", "o"), nulls_first=False),
                    exp.Ordered(this=comparable(self.parts.dialect, column("m", "k"), type_)),
                ]
            ),
        )
        place = case([(equal(column("m", "ks"), number(0)), minus_one(window))])
        copied = [aliased(column("m", each), each) for each in ("k", "ks")]
        return self.parts.sheet.add("places", rows.select(*copied, aliased(place, "place")))
