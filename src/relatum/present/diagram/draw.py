"""A diagram on a figure: tables by shape and colour, lines by breadth and ends."""

from __future__ import annotations

from typing import Any, Literal, assert_never, get_args

from matplotlib.figure import Figure
from matplotlib.patches import FancyBboxPatch, Polygon, Rectangle
from matplotlib.text import Text

from relatum.model.graph import Edge, Graph, Node, TableKind
from relatum.present.diagram.edges import Route, band, foot, label_places, route_of, said_of
from relatum.present.diagram.layout import HEAD, ROW, Box, layout
from relatum.present.pictures import DRAWN, drawable

#: Dark and light for each kind of table; its shape tells it too.
COLOURS: dict[TableKind, tuple[str, str]] = {
    "fact": ("#00565b", "#e6f0ef"),
    "lookup": ("#7d5c12", "#f8f2e2"),
    "calendar": ("#3d2f7a", "#eeecf7"),
    "derived": ("#5a5a2a", "#f2f2e4"),
    "alone": ("#5d6664", "#f1f3f2"),
}
#: What a legend explains: a kind of table, an end, a way that filters go.
Sample = TableKind | Literal["many", "one", "flow", "both", "off", "standby", "level"]
_TEXT, _QUIET, _WARNING, _LINE = "#1d2a2c", "#66716f", "#a1203a", "#4c6463"
_MARGIN, _CHAMFER = 0.3, 0.13


def figure_of(graph: Graph) -> Figure:
    """The whole diagram, with its legend."""
    placed = layout(graph)
    boxes = placed.boxes
    width = max([4.8, *(box.x + box.width for box in boxes.values())]) + _MARGIN
    routes = [route_of(edge, boxes, placed.lanes.get(number, ())) for number, edge in enumerate(graph.edges)]
    width = max([width, *(x + _MARGIN for route in routes for x, _ in route.points)])
    left = min([0.0, *(x - _MARGIN for route in routes for x, _ in route.points)])
    bottom = max([*(box.y + box.height for box in boxes.values()), *(y for route in routes for _, y in route.points)])
    legend = _legend_of(graph)
    lines = _wrapped(legend, left + _MARGIN, width)
    height = bottom + 0.4 + 0.28 * len(lines)
    figure = Figure(figsize=(width - left, height), facecolor="white")
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(left, width)
    axes.set_ylim(height, 0)
    axes.axis("off")
    for number, (edge, route) in enumerate(zip(graph.edges, routes, strict=True)):
        _line(axes, edge, route, f"relationship-{number}")
    for edge, place, text in label_places(graph.edges, routes, boxes):
        axes.text(
            place.x, place.y, text, fontsize=7, ha="center", va="center", style="italic", linespacing=0.95, zorder=6,
            color=_colour(edge), bbox={"facecolor": "white", "edgecolor": "none", "pad": 0.8, "alpha": 0.92},
        )  # fmt: skip
    for box in boxes.values():
        _box(axes, box)
    _legend(axes, lines, bottom + 0.4)
    for written in figure.findobj(Text):
        written.set_text("\n".join(map(drawable, written.get_text().split("\n"))))
        written.set_parse_math(DRAWN["text.parse_math"])
    return figure


# -- tables -----------------------------------------------------------------------------------------------------------


def slug(name: str) -> str:
    """A table's name as part of an identifier."""
    return "".join(sign if sign.isascii() and sign.isalnum() else f"_{ord(sign):x}_" for sign in name)


def _box(axes: Any, box: Box) -> None:
    node = box.node
    dark, light = COLOURS[node.kind]
    shape = _shape(node, box, light, dark)
    shape.set_gid(f"table-{slug(node.name)}")
    shape.set_url(f"#table-{slug(node.name)}")
    axes.add_patch(shape)
    head = Rectangle((box.x, box.y), box.width, HEAD, fc=dark, ec="none", zorder=4)
    head.set_clip_path(shape)
    axes.add_patch(head)
    if node.kind == "fact":
        # A fact table has a broad base: it is what gets added up.
        axes.add_patch(Rectangle((box.x, box.y + box.height - 0.045), box.width, 0.045, fc=dark, ec="none", zorder=4))
    _head_text(axes, box)
    for at, column in enumerate(node.columns):
        y = box.y + HEAD + (at + 0.5) * ROW
        mark = "◦ " if column in node.levels else ""
        axes.text(box.x + 0.14, y, mark + column, color=_TEXT, fontsize=8, va="center", zorder=5)


def _head_text(axes: Any, box: Box) -> None:
    node, middle = box.node, box.y + HEAD / 2
    name = axes.text(box.x + 0.14, middle, node.name, color="white", fontsize=9, weight="bold", va="center", zorder=5)
    name.set_url(f"#table-{slug(node.name)}")
    detail = f"role of {node.role_of}" if node.role_of else "" if node.rows is None else f"{node.rows:,}"
    if detail:
        axes.text(
            box.x + box.width - 0.14, middle, detail, color="white", fontsize=7.5, va="center", ha="right", zorder=5
        )


def _shape(node: Node, box: Box, light: str, dark: str) -> Any:
    """A fact has square corners, a lookup round ones, a calendar cut ones; a derived table has a dashed edge."""
    style: dict[str, Any] = {"fc": light, "ec": dark, "lw": 1.2, "zorder": 3}
    if node.role_of:
        style["ls"] = (0, (4, 2))
    match node.kind:
        case "fact":
            return Rectangle((box.x, box.y), box.width, box.height, **style)
        case "calendar":
            return Polygon(_cut(box, _CHAMFER), closed=True, **style)
        case "derived":
            return Rectangle((box.x, box.y), box.width, box.height, **{**style, "ls": (0, (5, 1.5)), "lw": 1.8})
        case "lookup" | "alone":
            return FancyBboxPatch(
                (box.x, box.y), box.width, box.height, boxstyle="round,pad=0,rounding_size=0.12", **style
            )
        case _:
            assert_never(node.kind)


def _cut(box: Box, cut: float) -> list[tuple[float, float]]:
    """The outline of a box with its corners cut."""
    left, right, top, low = box.x, box.x + box.width, box.y, box.y + box.height
    upper = [(left, top + cut), (left + cut, top), (right - cut, top), (right, top + cut)]
    return [*upper, (right, low - cut), (right - cut, low), (left + cut, low), (left, low - cut)]


# -- lines ------------------------------------------------------------------------------------------------------------


def _colour(edge: Edge) -> str:
    if edge.filters == "both" and edge.ends != ("1", "1"):
        return _WARNING
    return _QUIET if edge.standby or not edge.filters else _LINE


def _line(axes: Any, edge: Edge, route: Route, gid: str) -> None:
    colour = _colour(edge)
    if edge.filters and not edge.standby:
        shape = Polygon(band(route, edge.filters), closed=True, fc=colour, ec="none", alpha=0.75, zorder=1)
        shape.set_gid(gid)
        axes.add_patch(shape)
    else:
        style: Any = (0, (1, 2.2)) if not edge.filters else (0, (6, 3))
        (line,) = axes.plot(*zip(*route.points, strict=True), color=colour, lw=1.0, ls=style, zorder=1)
        line.set_gid(gid)
        if edge.standby and edge.filters:
            # Its direction is as a short broad piece where filters come from.
            _direction(axes, edge, route, colour)
    for place, side, mark in (
        (route.points[0], route.leaves, edge.ends[0]),
        (route.points[-1], route.arrives, edge.ends[1]),
    ):
        for one, other in foot(place, side, mark):
            axes.plot([one[0], other[0]], [one[1], other[1]], color=colour, lw=1.3, solid_capstyle="round", zorder=2)


def _direction(axes: Any, edge: Edge, route: Route, colour: str) -> None:
    count = len(route.points)
    reach = max(count // 6, 4)
    pieces = []
    if edge.filters in ("left", "both"):
        pieces.append(Route(route.points[-reach:], 1, 1))
    if edge.filters in ("right", "both"):
        pieces.append(Route(route.points[:reach][::-1], 1, 1))
    for piece in pieces:
        axes.add_patch(Polygon(band(piece, "left"), closed=True, fc=colour, ec="none", alpha=0.75, zorder=1))


# -- legend -----------------------------------------------------------------------------------------------------------


def _legend_of(graph: Graph) -> list[tuple[Sample, str]]:
    """The legend: only what the diagram contains."""
    kinds = {node.kind for node in graph.nodes}
    found: list[tuple[Sample, str, bool]] = [(kind, kind, kind in kinds) for kind in get_args(TableKind)]
    ends = {mark for edge in graph.edges for mark in edge.ends}
    found += [
        ("many", "many", "n" in ends),
        ("one", "one", "1" in ends),
        ("flow", "filters flow from broad to narrow", any(edge.filters in ("left", "right") for edge in graph.edges)),
        ("both", "filters flow both ways", any("both ways" in said_of(edge) for edge in graph.edges)),
        ("off", "lookups only", any(not edge.filters for edge in graph.edges)),
        ("standby", "standby: used with via", any(edge.standby for edge in graph.edges)),
        ("level", "◦ a level", any(node.levels for node in graph.nodes)),
    ]
    return [(kind, text) for kind, text, there in found if there]


def _wrapped(legend: list[tuple[Sample, str]], left: float, width: float) -> list[list[tuple[Sample, str, float]]]:
    lines: list[list[tuple[Sample, str, float]]] = [[]]
    x = left
    for kind, text in legend:
        wide = 0.62 + len(text) * 0.066 if kind != "level" else 0.3 + len(text) * 0.066
        if x + wide > width - 0.2 and lines[-1]:
            lines.append([])
            x = left
        lines[-1].append((kind, text, x))
        x += wide
    return lines


def _legend(axes: Any, lines: list[list[tuple[Sample, str, float]]], top: float) -> None:
    for number, line in enumerate(lines):
        y = top + 0.28 * number
        for kind, text, x in line:
            _sample(axes, kind, x, y)
            away = 0.0 if kind == "level" else 0.42
            axes.text(x + away, y, text, fontsize=7.5, color=_QUIET, va="center")


def _sample(axes: Any, kind: Sample, x: float, y: float) -> None:
    route = Route(((x, y), (x + 0.18, y), (x + 0.36, y)), 1, -1)
    match kind:
        case "level":
            return
        case "many" | "one":
            axes.plot([x + 0.05, x + 0.36], [y, y], color=_LINE, lw=1)
            axes.plot([x + 0.05, x + 0.05], [y - 0.07, y + 0.07], color=_LINE, lw=3)
            for one, other in foot((x + 0.05, y), 1, "n" if kind == "many" else "1"):
                axes.plot([one[0], other[0]], [one[1], other[1]], color=_LINE, lw=1.2)
        case "flow":
            axes.add_patch(Polygon(band(route, "right"), closed=True, fc=_LINE, ec="none"))
        case "both":
            axes.add_patch(Polygon(band(route, "both"), closed=True, fc=_WARNING, ec="none"))
        case "off" | "standby":
            style: Any = (0, (1, 2.2)) if kind == "off" else (0, (6, 3))
            axes.plot([x, x + 0.36], [y, y], color=_QUIET, lw=1, ls=style)
        case "fact" | "lookup" | "calendar" | "derived" | "alone":
            box = Box(Node(kind, kind, (), frozenset(), None), x + 0.04, y - 0.075, 0.3, 0.15)
            dark, light = COLOURS[kind]
            shape = _shape(box.node, box, light, dark)
            if isinstance(shape, FancyBboxPatch):
                shape.set_boxstyle("round,pad=0,rounding_size=0.06")
            if kind == "calendar":
                shape.set_xy(_cut(box, 0.05))
            axes.add_patch(shape)
            if kind == "fact":
                axes.add_patch(Rectangle((box.x, box.y + 0.12), 0.3, 0.03, fc=dark, ec="none", zorder=4))
        case _:
            assert_never(kind)
