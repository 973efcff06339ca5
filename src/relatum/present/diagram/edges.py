"""The lines of a diagram: where they run, and what their breadth, ends and labels say."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence

from msgspec import Struct

from relatum.model.graph import Edge
from relatum.present.diagram.layout import Box, Lane

Point = tuple[float, float]
#: How broad a line is where filters come from, and where they go, in inches.
BROAD, NARROW = 0.1, 0.016
#: How far a crow's foot and the bar of a one reach from the table.
FOOT, BAR, _SPREAD = 0.17, 0.11, 0.075
_STEPS, _LETTER, _LINE = 48, 0.062, 0.13


class Route(Struct, frozen=True):
    """A line from its left table to its right one: its points, and in which direction it leaves each table."""

    points: tuple[Point, ...]
    leaves: int
    arrives: int


class Place(Struct, frozen=True):
    """Where a label is: its middle, and half its width and height."""

    x: float
    y: float
    half_width: float
    half_height: float

    def covers(self, other: Place) -> bool:
        """Whether two labels share some room."""
        return (
            abs(self.x - other.x) < self.half_width + other.half_width
            and abs(self.y - other.y) < self.half_height + other.half_height
        )


def route_of(edge: Edge, boxes: dict[str, Box], lanes: Sequence[Lane]) -> Route:
    """Where a line runs: from the column that it is of, between other tables, to the column on the other side."""
    left, right = boxes[edge.left], boxes[edge.right]
    # A line leaves a box on the side that faces the other; within one column it goes round on the outer side.
    if right.x == left.x:
        leaves = arrives = -1 if left.x + left.width < _middle(boxes) else 1
    else:
        leaves = 1 if right.x > left.x else -1
        arrives = -leaves
    start = (left.x + left.width if leaves > 0 else left.x, left.port(edge.left_columns))
    stop = (right.x if arrives < 0 else right.x + right.width, right.port(edge.right_columns))
    # It begins and ends level, beyond its crow's foot.
    inner = [(start[0] + leaves * FOOT, start[1])]
    for lane in lanes if leaves > 0 else reversed(lanes):
        ends = [(lane.left, lane.y), (lane.right, lane.y)]
        inner += ends if leaves > 0 else ends[::-1]
    inner.append((stop[0] + arrives * FOOT, stop[1]))
    points = [start]
    for at in range(0, len(inner), 2):
        points += _bent(inner[at], inner[at + 1], leaves, arrives)
    return Route((*points, stop), leaves, arrives)


def _middle(boxes: dict[str, Box]) -> float:
    """Half-way across all tables."""
    return (min(box.x for box in boxes.values()) + max(box.x + box.width for box in boxes.values())) / 2


def _bent(start: Point, stop: Point, leaves: int, arrives: int) -> list[Point]:
    """A line from one place to another that leaves and arrives level."""
    # Lines that go round stand apart from each other by how far they go.
    reach = max(0.3 + 0.22 * abs(stop[1] - start[1]) * (leaves == arrives), abs(stop[0] - start[0]) * 0.5)
    corners = start, (start[0] + leaves * reach, start[1]), (stop[0] + arrives * reach, stop[1]), stop
    found = []
    for step in range(_STEPS + 1):
        t = step / _STEPS
        weights = ((1 - t) ** 3, 3 * t * (1 - t) ** 2, 3 * t * t * (1 - t), t**3)
        x, y = (sum(w * corner[axis] for w, corner in zip(weights, corners, strict=True)) for axis in (0, 1))
        found.append((x, y))
    return found


def band(route: Route, filters: str) -> list[Point]:
    """The outline of a line that is wide where filters start and narrow where they end.

    Parameters
    ----------
    route : Route
        Where it runs.
    filters : str
        ``left`` or ``right``, where they go to; ``both`` for a line that is broad at both ends.
    """
    points = route.points
    lengths = [0.0]
    for one, other in itertools.pairwise(points):
        lengths.append(lengths[-1] + math.dist(one, other))
    whole = lengths[-1] or 1.0
    upper, lower = [], []
    for at, (x, y) in enumerate(points):
        part = lengths[at] / whole
        share = {"left": part, "right": 1 - part, "both": abs(2 * part - 1)}[filters]
        half = (NARROW + (BROAD - NARROW) * share) / 2
        before, after = points[max(at - 1, 0)], points[min(at + 1, len(points) - 1)]
        length = math.dist(before, after) or 1.0
        across = (-(after[1] - before[1]) / length, (after[0] - before[0]) / length)
        upper.append((x + across[0] * half, y + across[1] * half))
        lower.append((x - across[0] * half, y - across[1] * half))
    return [*upper, *reversed(lower)]


def foot(place: Point, side: int, mark: str) -> list[tuple[Point, Point]]:
    """The strokes at an end: a crow's foot for many, a bar across the line for one."""
    x, y = place
    if mark == "n":
        tip = (x + side * FOOT, y)
        return [(tip, (x, y - _SPREAD)), (tip, (x, y)), (tip, (x, y + _SPREAD))]
    return [((x + side * BAR, y - _SPREAD), (x + side * BAR, y + _SPREAD))]


def said_of(edge: Edge) -> list[str]:
    """What is at a line: several columns, a level, as of, and filters that travel both ways."""
    found = [", ".join(edge.left_columns)] if len(edge.left_columns) > 1 else []
    found += [edge.note] if edge.note else []
    found += ["both ways"] if edge.filters == "both" and edge.ends != ("1", "1") else []
    return found


def label_places(
    edges: Sequence[Edge], routes: Sequence[Route], boxes: dict[str, Box]
) -> Iterator[tuple[Edge, Place, str]]:
    """A place for each line's label, where it covers no table and no other label."""
    tables = [Place(b.x + b.width / 2, b.y + b.height / 2, b.width / 2, b.height / 2) for b in boxes.values()]
    taken: list[Place] = []
    for edge, route in zip(edges, routes, strict=True):
        texts = said_of(edge)
        if not texts:
            continue
        text = "\n".join(texts)
        half_width = max(map(len, texts)) * _LETTER / 2 + 0.03
        half_height = len(texts) * _LINE / 2 + 0.01
        found = None
        for part in (0.5, 0.4, 0.6, 0.3, 0.7, 0.22, 0.78):
            x, y = route.points[int(part * (len(route.points) - 1))]
            for away in (0.0, -half_height - 0.05, half_height + 0.05):
                place = Place(x, y + away, half_width, half_height)
                if not any(place.covers(other) for other in (*tables, *taken)):
                    found = place
                    break
            if found is not None:
                break
        if found is not None:
            taken.append(found)
            yield edge, found, text


def edge_title(edge: Edge) -> str:
    """A line in words, for its title."""
    kinds = {("n", "1"): "many to one", ("1", "1"): "one to one", ("n", "n"): "many to many", ("1", "n"): "one to many"}
    travels = {
        "left": f"filters travel from {edge.right} to {edge.left}",
        "right": f"filters travel from {edge.left} to {edge.right}",
        "both": "filters travel both ways",
        "": "no filter travels; it is used only for lookups",
    }[edge.filters]
    more = [edge.note, "standby" if edge.standby else ""]
    ends = f"{_end(edge.left, edge.left_columns)} to {_end(edge.right, edge.right_columns)}"
    return ", ".join(filter(None, [ends, kinds[edge.ends], travels, *more]))


def _end(table: str, columns: Sequence[str]) -> str:
    return f"{table}.{columns[0]}" if len(columns) == 1 else f"{table}.({', '.join(columns)})"
