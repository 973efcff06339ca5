"""Where the tables of a diagram are: facts in the middle, lookups around them, roles beside what they show."""

from __future__ import annotations

from itertools import combinations, pairwise

from msgspec import Struct

from relatum.model.graph import Edge, Graph, Node

#: Sizes in inches.
ROW, HEAD, _WIDE, _GAP, _ALLEY = 0.22, 0.34, 1.75, 0.34, 1.75
_LETTER = 0.082
#: In a column of more tables than this, the rest goes to the other side or further out.
_TALL = 9
#: How much wider than high a screen is; the columns of lookups to try on each side, the most first.
_SCREEN, _FAR = 1.9, (50, 3, 2, 1)
#: What takes room in a column: a table, or the lane of a relationship (by number) that passes.
_Slot = str | tuple[int, int]
#: What each slot is related to, and how far from that one's middle the line ends there.
_Near = dict[_Slot, dict[_Slot, float]]


class Box(Struct, frozen=True):
    """Where a table is: its left and top edge, width and height, in inches from the upper left."""

    node: Node
    x: float
    y: float
    width: float
    height: float

    @property
    def middle(self) -> float:
        """Half-way down."""
        return self.y + self.height / 2

    def port(self, columns: tuple[str, ...]) -> float:
        """At which height a relationship of these columns ends."""
        return self.y + HEAD + (self.node.columns.index(columns[-1]) + 0.5) * ROW


class Lane(Struct, frozen=True):
    """Where a line passes between the tables of a column that it does not end in."""

    left: float
    right: float
    y: float


class Placement(Struct, frozen=True):
    """Where each table is, and through which lanes each relationship (by number) passes, from left to right."""

    boxes: dict[str, Box]
    lanes: dict[int, tuple[Lane, ...]]


def layout(graph: Graph) -> Placement:
    """Facts in the middle column, lookups in columns to both sides, further ones outside.

    Where that is much wider than a screen, a chain of lookups turns back after fewer columns and goes on below.

    Parameters
    ----------
    graph : Graph
        The tables and relationships.
    """
    found = _placed(graph, _FAR[0])
    for furthest in _FAR[1:]:
        if _shape(found) <= _SCREEN:
            break
        other = _placed(graph, furthest)
        if abs(_shape(other) - _SCREEN) < abs(_shape(found) - _SCREEN):
            found = other
    return found


def _shape(placement: Placement) -> float:
    """How many times wider than high the tables are."""
    boxes = placement.boxes.values()
    height = max((box.y + box.height for box in boxes), default=1.0)
    return max((box.x + box.width for box in boxes), default=1.0) / max(height, 1.0)


def _placed(graph: Graph, furthest: int) -> Placement:
    columns = _columns(graph, furthest)
    place = {name: at for at, names in columns.items() for name in names}
    nodes = {node.name: node for node in graph.nodes}
    near: _Near = {name: {} for name in nodes}
    slots: dict[int, list[_Slot]] = {at: list(names) for at, names in columns.items()}
    for number, edge in enumerate(graph.edges):
        first, last = sorted((edge.left, edge.right), key=lambda name: place[name])
        chain: list[_Slot] = [first, *((number, at) for at in range(place[first] + 1, place[last])), last]
        for slot in chain[1:-1]:
            assert isinstance(slot, tuple)
            slots[slot[1]].append(slot)
        for one, other in pairwise(chain):
            near.setdefault(one, {})[other] = _offset(nodes, edge, other)
            near.setdefault(other, {})[one] = _offset(nodes, edge, one)
    slots = {at: _roles_beside(nodes, own) for at, own in _ordered(near, slots).items()}

    def height(slot: _Slot) -> float:
        return _height(nodes[slot]) if isinstance(slot, str) else 0.0

    tallest = max(sum(height(each) + _GAP for each in names) for names in slots.values()) - _GAP
    boxes: dict[str, Box] = {}
    lanes: dict[int, list[Lane]] = {}
    x = 0.3
    for at in sorted(slots):
        width = max(_width(nodes[each]) for each in slots[at] if isinstance(each, str))
        y = 0.3 + (tallest - sum(height(each) + _GAP for each in slots[at]) + _GAP) / 2
        for slot in slots[at]:
            if isinstance(slot, str):
                boxes[slot] = Box(nodes[slot], x, y, width, height(slot))
            else:
                lanes.setdefault(slot[0], []).append(Lane(x, x + width, y))
            y += height(slot) + _GAP
        x += width + _ALLEY
    return Placement({name: boxes[name] for name in nodes}, {number: tuple(each) for number, each in lanes.items()})


def _roles_beside(nodes: dict[str, Node], slots: list[_Slot]) -> list[_Slot]:
    """A column in which each role is directly below its table."""
    roles = [slot for slot in slots if isinstance(slot, str) and nodes[slot].role_of in slots]
    found: list[_Slot] = []
    for slot in slots:
        if slot not in roles:
            found.append(slot)
            found += [role for role in roles if isinstance(role, str) and nodes[role].role_of == slot]
    return found


def _width(node: Node) -> float:
    rows = f"  role of {node.role_of}" if node.role_of else f"  {node.rows:,}" if node.rows is not None else ""
    longest = max([len(node.name) * 1.2 + len(rows), *(len(column) + 3 for column in node.columns)])
    return max(_WIDE, 0.3 + longest * _LETTER)


def _height(node: Node) -> float:
    return HEAD + max(len(node.columns), 0) * ROW + 0.06


def _neighbours(graph: Graph) -> dict[str, set[str]]:
    found: dict[str, set[str]] = {node.name: set() for node in graph.nodes}
    for edge in graph.edges:
        found[edge.left].add(edge.right)
        found[edge.right].add(edge.left)
    return found


def _turned_back(step: int, furthest: int) -> int:
    """The column for a table at a number of steps: a chain turns back after the furthest, and again after the first."""
    place = (step - 1) % (2 * furthest)
    return place + 1 if place < furthest else 2 * furthest - place


def _columns(graph: Graph, furthest: int) -> dict[int, list[str]]:
    """Which column each table goes to: 0 for facts, then as many steps out as it is away from one, left or right."""
    near = _neighbours(graph)
    facts = [node.name for node in graph.nodes if node.kind == "fact"]
    centre = facts or [max(near, key=lambda name: len(near[name]))]
    steps = dict.fromkeys(centre, 0)
    pending = list(centre)
    while pending:
        here = pending.pop(0)
        for other in sorted(near[here]):
            if other not in steps:
                steps[other] = steps[here] + 1
                pending.append(other)
    columns: dict[int, list[str]] = {0: centre}
    sides: dict[str, int] = {}
    load = {-1: 0.0, 1: 0.0}
    heights = {node.name: _height(node) + _GAP for node in graph.nodes}
    for name in sorted((name for name in steps if steps[name]), key=lambda name: (steps[name], -len(near[name]))):
        inner = [sides[other] for other in near[name] if other in sides and steps[other] < steps[name]]
        # A lookup of a lookup is behind it; the rest go where there is room.
        side = inner[0] if inner else min(load, key=lambda each: load[each])
        sides[name] = side
        load[side] += heights[name]
        step = _turned_back(steps[name], furthest)
        while len(columns.get(side * step, [])) >= _TALL:
            step += 1
        columns.setdefault(side * step, []).append(name)
    lone = [node.name for node in graph.nodes if node.name not in steps]
    if lone:
        columns.setdefault(max(columns) + 1, []).extend(lone)
    return {number: columns[at] for number, at in enumerate(sorted(columns))}


def _offset(nodes: dict[str, Node], edge: Edge, slot: _Slot) -> float:
    """How far from the middle of a table a relationship ends there, from -0.5 to 0.5."""
    if not isinstance(slot, str):
        return 0.0
    columns = edge.left_columns if slot == edge.left else edge.right_columns
    return (nodes[slot].columns.index(columns[-1]) + 0.5) / len(nodes[slot].columns) - 0.5


def _ordered(near: _Near, columns: dict[int, list[_Slot]]) -> dict[int, list[_Slot]]:
    """Each column in an order with few crossing lines: by the mean place of related tables in other columns.

    Columns are put in order in turn, again and again, and the order with the fewest crossings is kept (Sugiyama,
    Tagawa, Toda: Methods for visual understanding of hierarchical system structures, 1981).
    """
    column = {slot: at for at, slots in columns.items() for slot in slots}
    places: dict[_Slot, float] = {}

    def put(at: int, slots: list[_Slot]) -> None:
        columns[at] = slots
        places.update({slot: (number + 0.5) / len(slots) for number, slot in enumerate(slots)})

    def place(slot: _Slot, offset: float) -> float:
        return places[slot] + offset / len(columns[column[slot]])

    def mean(slot: _Slot) -> float:
        others = [place(other, offset) for other, offset in near[slot].items() if column[other] != column[slot]]
        return sum(others) / len(others) if others else places[slot]

    def crossings() -> int:
        lines: dict[tuple[int, int], list[tuple[float, float]]] = {}
        for slot, others in near.items():
            for other, offset in others.items():
                if column[slot] < column[other]:
                    ends = place(slot, near[other][slot]), place(other, offset)
                    lines.setdefault((column[slot], column[other]), []).append(ends)
        return sum(
            (one[0] - other[0]) * (one[1] - other[1]) < 0
            for group in lines.values()
            for one, other in combinations(group, 2)
        )

    for at in list(columns):
        put(at, columns[at])
    best, fewest = dict(columns), crossings()
    for turn in range(16):
        for at in sorted(columns, reverse=bool(turn % 2)):
            put(at, sorted(columns[at], key=mean))
            if crossings() < fewest:
                best, fewest = dict(columns), crossings()
    return best
