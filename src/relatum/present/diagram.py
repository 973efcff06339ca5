"""The star, drawn: facts in the middle, lookups around them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from io import BytesIO, StringIO
from itertools import combinations, pairwise
from pathlib import Path
from typing import Any

from relatum.errors import SourceError
from relatum.model.atomic import write_atomically, write_bytes_atomically
from relatum.model.graph import Edge, Graph, Node
from relatum.wording import counted

#: Sizes in inches.
_ROW, _HEAD, _WIDE, _GAP, _ALLEY = 0.22, 0.32, 1.75, 0.32, 1.35
_LETTER = 0.082
#: In a column of more tables than this, the rest goes to the other side or further out.
_TALL = 9
_COLOURS = {
    "fact": ("#1f4e5f", "#e8f0f2"),
    "lookup": ("#7a5c1e", "#f7f1e3"),
    "calendar": ("#5b3f73", "#f1ecf5"),
    "derived": ("#4d6b2f", "#eef3e8"),
    "alone": ("#666666", "#f0f0f0"),
}
_Point = tuple[float, float]
#: What takes room in a column: a table, or the lane of a relationship (by number) that passes.
_Slot = str | tuple[int, int]
#: What each slot is related to, and how far from that one's middle the line ends there.
_Near = dict[_Slot, dict[_Slot, float]]
PICTURES, TEXTS = (".svg", ".png"), (".mmd", ".mermaid", ".md")


@dataclass(frozen=True, slots=True)
class Box:
    """Where a table stands: its left and top edge, width and height, in inches from the upper left."""

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
        return self.y + _HEAD + (self.node.columns.index(columns[-1]) + 0.5) * _ROW


class Diagram:
    """A drawing of a model: as a picture (SVG, PNG) or as Mermaid text.

    Lines carry ``n`` and ``1`` at their ends. An arrow shows where filters travel; a dashed line stands by; a dotted
    one only answers lookups.
    """

    def __init__(self, graph: Graph) -> None:
        self.graph = graph

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the drawing; the ending says in which form.

        Raises
        ------
        SourceError
            The ending is none of .svg, .png, .mmd, .mermaid and .md, or the file cannot be written.
        """
        target = Path(path)
        kind = target.suffix.lower()
        if kind == ".md":
            write_atomically(target, f"```mermaid\n{self.mermaid()}```\n")
        elif kind in TEXTS:
            write_atomically(target, self.mermaid())
        elif kind == ".svg":
            write_atomically(target, self.svg())
        elif kind == ".png":
            write_bytes_atomically(target, self.png())
        else:
            known = ", ".join((*PICTURES, *TEXTS))
            raise SourceError(
                f"Drawings ending in {kind or 'nothing'} are not made.", path=target, fix=f"Known: {known}."
            )

    def svg(self) -> str:
        """The drawing as SVG."""
        from matplotlib import rc_context  # noqa: PLC0415 - as below

        out = StringIO()
        # Without a salt of its own, the same drawing has other names inside each time.
        with rc_context({"svg.hashsalt": "relatum"}):
            self._figure().savefig(out, format="svg", metadata={"Date": None})
        return out.getvalue()

    def png(self, dots_per_inch: int = 110) -> bytes:
        """The drawing as PNG."""
        out = BytesIO()
        self._figure().savefig(out, format="png", dpi=dots_per_inch)
        return out.getvalue()

    def _repr_svg_(self) -> str:
        return self.svg()

    def mermaid(self) -> str:
        """The drawing as a Mermaid flow chart: arrows point where filters travel."""
        return "\n".join(self._mermaid_lines()) + "\n"

    def _mermaid_lines(self) -> Iterator[str]:
        names = {node.name: f"t{number}" for number, node in enumerate(self.graph.nodes)}
        yield "flowchart LR"
        for node in self.graph.nodes:
            rows = "" if node.rows is None else f"<br/>{counted(node.rows, 'row')}"
            opening, closing = ("[", "]") if node.kind == "fact" else ("(", ")")
            yield f'    {names[node.name]}{opening}"{_plain(node.name)}<br/>{node.kind}{rows}"{closing}'
        for edge in self.graph.edges:
            columns = f"{', '.join(edge.left_columns)} = {', '.join(edge.right_columns)}"
            marks = f"{edge.ends[1]} : {edge.ends[0]}"
            if edge.filters == "right":
                left, right, marks = edge.left, edge.right, f"{edge.ends[0]} : {edge.ends[1]}"
            else:
                left, right = edge.right, edge.left
            line = "-.-" if edge.standby or not edge.filters else "--"
            head = {"": "", "both": ">"}.get(edge.filters, ">")
            tail = "<" if edge.filters == "both" else ""
            arrow = f"{tail}{line}{head}" if head or edge.standby else "-.-"
            arrow = "---" if arrow == "--" else arrow
            said = ", ".join(filter(None, [marks, edge.note, "standby" * edge.standby, "off" * (not edge.filters)]))
            yield f'    {names[left]} {arrow}|"{_plain(columns)}<br/>{said}"| {names[right]}'

    # -- drawing ------------------------------------------------------------------------------------------------------

    def _figure(self) -> Any:
        from matplotlib.figure import Figure  # noqa: PLC0415 - heavy, and needed by drawings alone

        placed = layout(self.graph)
        boxes = placed.boxes
        width = max(box.x + box.width for box in boxes.values()) + 0.3
        height = max(box.y + box.height for box in boxes.values()) + 0.75
        height = max([height, *(lane.y + 0.75 for lanes in placed.lanes.values() for lane in lanes)])
        figure = Figure(figsize=(max(width, 4.5), height))
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, max(width, 4.5))
        axes.set_ylim(height, 0)
        axes.axis("off")
        for number, edge in enumerate(self.graph.edges):
            _draw_edge(axes, edge, boxes, placed.lanes.get(number, ()))
        for box in boxes.values():
            _draw_box(axes, box)
        axes.text(0.25, height - 0.3, _LEGEND, fontsize=7.5, color="#555555", va="center", family="sans-serif")
        return figure


_LEGEND = (
    "n, 1: rows at each end.  Arrow: where filters travel.  Dashed: stands by, used with via.  "
    "Dotted: lookups only.  ◦: a level"
)


@dataclass(frozen=True, slots=True)
class Lane:
    """Where a line passes between the tables of a column that it does not end in."""

    left: float
    right: float
    y: float


@dataclass(frozen=True, slots=True)
class Placement:
    """Where each table stands, and through which lanes each relationship (by number) passes, from left to right."""

    boxes: dict[str, Box]
    lanes: dict[int, tuple[Lane, ...]]


def layout(graph: Graph) -> Placement:
    """Facts in the middle column, lookups in columns to both sides, further ones outside.

    Parameters
    ----------
    graph : Graph
        The tables and relationships.
    """
    columns = _columns(graph)
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
    slots = _ordered(near, slots)

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


def _width(node: Node) -> float:
    rows = f"  {node.rows:,}" if node.rows is not None else ""
    longest = max([len(node.name) * 1.2 + len(rows), *(len(column) + 3 for column in node.columns)])
    return max(_WIDE, 0.25 + longest * _LETTER)


def _height(node: Node) -> float:
    return _HEAD + max(len(node.columns), 0) * _ROW + 0.06


def _neighbours(graph: Graph) -> dict[str, set[str]]:
    found: dict[str, set[str]] = {node.name: set() for node in graph.nodes}
    for edge in graph.edges:
        found[edge.left].add(edge.right)
        found[edge.right].add(edge.left)
    return found


def _columns(graph: Graph) -> dict[int, list[str]]:
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
        # A lookup of a lookup stands behind it; the others go where there is room.
        side = inner[0] if inner else min(load, key=lambda each: load[each])
        sides[name] = side
        load[side] += heights[name]
        step = steps[name]
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
    """Each column in an order that lets few lines cross: by the mean place of what is related in other columns.

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


def _draw_box(axes: Any, box: Box) -> None:
    from matplotlib.patches import FancyBboxPatch, Rectangle  # noqa: PLC0415 - as above

    dark, light = _COLOURS[box.node.kind]
    frame = FancyBboxPatch(
        (box.x, box.y), box.width, box.height, boxstyle="round,pad=0,rounding_size=0.05", fc=light, ec=dark, lw=1.1,
        zorder=3,
    )  # fmt: skip
    axes.add_patch(frame)
    head = Rectangle((box.x, box.y), box.width, _HEAD, fc=dark, ec="none", zorder=4)
    head.set_clip_path(frame)
    axes.add_patch(head)
    middle = box.y + _HEAD / 2
    axes.text(box.x + 0.1, middle, box.node.name, color="white", fontsize=9, weight="bold", va="center", zorder=5)
    if box.node.rows is not None:
        shown = f"{box.node.rows:,}"
        axes.text(
            box.x + box.width - 0.1, middle, shown, color="white", fontsize=7.5, va="center", ha="right", zorder=5
        )
    for at, column in enumerate(box.node.columns):
        y = box.y + _HEAD + (at + 0.5) * _ROW
        mark = "◦ " if column in box.node.levels else ""
        axes.text(box.x + 0.1, y, mark + column, color="#222222", fontsize=8, va="center", zorder=5)


def _draw_edge(axes: Any, edge: Edge, boxes: dict[str, Box], lanes: tuple[Lane, ...]) -> None:
    left, right = boxes[edge.left], boxes[edge.right]
    # A line leaves a box on the side that faces the other; within one column it goes round on the right.
    leaves = 1 if right.x >= left.x else -1
    arrives = -1 if right.x > left.x else 1
    start = (left.x + left.width if leaves > 0 else left.x, left.port(edge.left_columns))
    stop = (right.x if arrives < 0 else right.x + right.width, right.port(edge.right_columns))
    corners = [start]
    for lane in lanes if leaves > 0 else reversed(lanes):
        ends = [(lane.left, lane.y), (lane.right, lane.y)]
        corners += ends if leaves > 0 else ends[::-1]
    corners.append(stop)
    pieces = [_bent(corners[at], corners[at + 1], leaves, arrives) for at in range(0, len(corners), 2)]
    points = [point for piece in pieces for point in piece]
    style: Any = (0, (5, 3)) if edge.standby else (0, (1, 2)) if not edge.filters else "solid"
    colour = "#8a8a8a" if edge.standby or not edge.filters else "#444444"
    axes.plot(*zip(*points, strict=True), color=colour, lw=1.2, ls=style, zorder=1)
    for (x, y), side, mark in ((start, leaves, edge.ends[0]), (stop, arrives, edge.ends[1])):
        place = (x + side * 0.1, y - 0.075)
        axes.text(*place, mark, fontsize=8, color=colour, ha="center", va="center", zorder=6, bbox=_HALO)
    # The arrows stand near the end where filters come from, as long as one piece is long enough.
    if edge.filters in ("left", "both"):
        _arrow(axes, pieces[-1], 0.45, -1, colour)
    if edge.filters in ("right", "both"):
        _arrow(axes, pieces[0], 0.55, 1, colour)
    # Of several columns a line ends at the last one: the others are told beside it.
    said = [", ".join(edge.left_columns)] * (len(edge.left_columns) > 1) + [edge.note] * bool(edge.note)
    if said:
        x, y = pieces[0][len(pieces[0]) // 2]
        words = {"fontsize": 7, "style": "italic", "ha": "center", "va": "bottom", "linespacing": 0.95}
        axes.text(x, y - 0.05, "\n".join(said), color=colour, zorder=6, bbox=_HALO, **words)


_HALO = {"facecolor": "white", "edgecolor": "none", "pad": 0.4, "alpha": 0.85}


def _bent(start: _Point, stop: _Point, leaves: int, arrives: int) -> list[_Point]:
    """A line from one place to another that leaves and arrives level."""
    reach = max(0.45, abs(stop[0] - start[0]) * 0.5)
    return _curve(start, (start[0] + leaves * reach, start[1]), (stop[0] + arrives * reach, stop[1]), stop)


def _curve(*corners: _Point, count: int = 60) -> list[_Point]:
    """Points of the cubic curve that starts at the first corner, ends at the last, and bends towards the others."""
    a, b, c, d = corners
    found = []
    for step in range(count + 1):
        t = step / count
        weights = ((1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t * t * (1 - t), t**3)
        found.append(
            (
                sum(w * p[0] for w, p in zip(weights, (a, b, c, d), strict=True)),
                sum(w * p[1] for w, p in zip(weights, (a, b, c, d), strict=True)),
            )
        )
    return found


def _arrow(axes: Any, points: list[_Point], at: float, forward: int, colour: str) -> None:
    place = int(at * (len(points) - 1))
    tip, tail = (points[place + 1], points[place]) if forward > 0 else (points[place], points[place + 1])
    axes.annotate(
        "", xy=tip, xytext=tail, zorder=2,
        arrowprops={"arrowstyle": "-|>", "color": colour, "lw": 1.0, "mutation_scale": 12, "shrinkA": 0, "shrinkB": 0},
    )  # fmt: skip


def _plain(text: str) -> str:
    return re.sub(r'["<>|]', "'", text)
