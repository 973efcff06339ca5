"""The drawing: nothing overlaps, every mark is there, in every form."""

from __future__ import annotations

import json
import random
import re
import xml.etree.ElementTree as tree
from itertools import combinations, pairwise
from pathlib import Path

import pyarrow as pa
import pytest

import relatum
from relatum.model.graph import Edge, Graph, Node, graph_of
from relatum.present.diagram import Diagram, layout
from relatum.present.diagram.edges import BROAD, NARROW, Place, Route, band, label_places, route_of
from relatum.present.diagram.layout import HEAD
from stall import make_stall, run


def random_graph(seed: int) -> Graph:
    """Up to 30 tables: facts, lookups, lookups of lookups, tables alone."""
    chance = random.Random(seed)
    facts = [f"fact_{n}" for n in range(chance.randint(1, 5))]
    lookups = [f"lookup_{n}" for n in range(chance.randint(1, 22))]
    edges = []
    for fact in facts:
        for lookup in chance.sample(lookups, chance.randint(1, min(8, len(lookups)))):
            edges.append(
                Edge(
                    fact,
                    (f"{lookup}_id",),
                    lookup,
                    ("id",),
                    ("n", "1"),
                    chance.choice(["left", "both", ""]),
                    chance.random() < 0.2,
                    "",
                )
            )
    for one, other in pairwise(lookups):
        if chance.random() < 0.3:
            edges.append(Edge(one, ("up",), other, ("id",), ("n", "1"), "left", False, "level"))
    columns: dict[str, dict[str, None]] = {name: {} for name in [*facts, *lookups, "lone"]}
    for edge in edges:
        columns[edge.left].update(dict.fromkeys(edge.left_columns))
        columns[edge.right].update(dict.fromkeys(edge.right_columns))
    kinds = {**dict.fromkeys(facts, "fact"), **dict.fromkeys(lookups, "lookup"), "lone": "alone"}
    return Graph(
        "g", tuple(Node(name, kinds[name], tuple(own), frozenset(), 7) for name, own in columns.items()), tuple(edges)
    )


@pytest.mark.parametrize("seed", range(40))
def test_nothing_overlaps(seed: int) -> None:
    graph = random_graph(seed)
    placed = layout(graph)
    assert set(placed.boxes) == {node.name for node in graph.nodes}
    boxes = list(placed.boxes.values())
    for one, other in combinations(boxes, 2):
        apart = one.x + one.width <= other.x or other.x + other.width <= one.x
        assert apart or one.y + one.height <= other.y or other.y + other.height <= one.y
    for lanes in placed.lanes.values():
        for lane in lanes:
            for box in boxes:
                beside = lane.right <= box.x or lane.left >= box.x + box.width
                assert beside or not box.y < lane.y < box.y + box.height, "a line passes behind a table"
    facts = {box.x for box in boxes if box.node.kind == "fact"}
    assert len(facts) == 1, "facts stand in one column"
    others = [box.x for box in boxes if box.node.kind == "lookup"]
    if len(others) > 3:
        assert min(others) < min(facts) or max(others) > min(facts)


@pytest.mark.parametrize("seed", range(25))
def test_labels_cover_nothing_and_lines_cross_no_head(seed: int) -> None:
    graph = random_graph(seed)
    placed = layout(graph)
    routes = [route_of(edge, placed.boxes, placed.lanes.get(number, ())) for number, edge in enumerate(graph.edges)]
    places = [place for _, place, _ in label_places(graph.edges, routes, placed.boxes)]
    for one, other in combinations(places, 2):
        assert not one.covers(other)
    for box in placed.boxes.values():
        table = Place(box.x + box.width / 2, box.y + box.height / 2, box.width / 2, box.height / 2)
        assert not any(place.covers(table) for place in places)
        for edge, route in zip(graph.edges, routes, strict=True):
            inside = [(x, y) for x, y in route.points if box.x < x < box.x + box.width and box.y < y < box.y + HEAD]
            assert not inside, f"{edge.left} to {edge.right} crosses the head of {box.node.name}"


@pytest.mark.parametrize(("filters", "broad"), [("left", -1), ("right", 0), ("both", None)])
def test_a_line_is_broad_where_filters_come_from(filters: str, broad: int | None) -> None:
    route = Route(tuple((x / 10, 0.0) for x in range(11)), 1, -1)
    outline = band(route, filters)
    upper, lower = outline[:11], outline[:10:-1]
    widths = [abs(one[1] - other[1]) for one, other in zip(upper, lower, strict=True)]
    if broad is None:
        assert widths[0] == widths[-1] == pytest.approx(BROAD) and min(widths) == pytest.approx(NARROW)
    else:
        assert widths[broad] == pytest.approx(BROAD) and widths[-1 - broad] == pytest.approx(NARROW)
        assert widths == sorted(widths, reverse=broad == 0)


def test_a_role_stands_below_what_it_is_a_role_of() -> None:
    model = make_stall()
    graph = graph_of(model.declaration)
    nodes = (*graph.nodes, Node("shipped", "calendar", ("date",), frozenset(), None, "calendar"))
    edges = (
        *graph.edges,
        Edge("sales", graph.edges[0].left_columns, "shipped", ("date",), ("n", "1"), "left", True, ""),
    )
    placed = layout(Graph("g", nodes, edges))
    same = placed.boxes["shipped"].x == placed.boxes["calendar"].x
    if same:
        gap = placed.boxes["shipped"].y - placed.boxes["calendar"].y - placed.boxes["calendar"].height
        assert 0 < gap < 0.5, "nothing stands between them"


def test_ports_are_at_the_columns() -> None:
    for box in layout(random_graph(3)).boxes.values():
        heights = [box.port((column,)) for column in box.node.columns]
        assert heights == sorted(heights)
        assert all(box.y < height < box.y + box.height for height in heights)


def test_what_a_drawing_shows(tmp_path: Path) -> None:
    model = make_stall()
    model.relate("sales.product -> kind.kind", standby=True)
    model.add_table("club", pa.table({"customer": ["ann"], "club": ["chess"]}))
    model.relate("customer.customer >-< club.customer", direction="left")
    svg = model.diagram().svg()
    texts = re.findall(r"<!-- (.*?) -->", svg)
    for table, rows in (("sales", "6"), ("product", "4"), ("calendar", "366")):
        assert table in texts
        assert rows in texts
    assert "level" in texts
    titles = re.findall(r"<title>(.*?)</title>", svg)
    assert "product: lookup, 4 rows" in titles
    assert "sales.product to kind.kind, many to one, filters travel from kind to sales, standby" in titles
    assert "customer.customer to club.customer, many to many, filters travel from club to customer" in titles
    assert 'xlink:href="#table-sales"' in svg
    assert {"many", "one", "filters flow from broad to narrow", "standby: used with via"} <= set(texts)
    assert "◦ month" in texts
    tree.fromstring(svg)
    mermaid = model.diagram().mermaid()
    assert mermaid.startswith("flowchart LR\n")
    assert 't1 -->|"product = product<br/>1 : n"| t0' in mermaid
    assert 't2 -.->|"product = kind<br/>1 : n, standby"| t0' in mermaid
    assert "n : n" in mermaid


EDGES = [
    ("left", False, "-->"),
    ("right", False, "-->"),
    ("both", False, "<-->"),
    ("", False, "-.-"),
    ("left", True, "-.->"),
    ("both", True, "<-.->"),
]


@pytest.mark.parametrize(("filters", "standby", "arrow"), EDGES)
def test_arrows_of_mermaid(filters: str, standby: bool, arrow: str) -> None:
    nodes = (Node("a", "fact", ("x",), frozenset(), None), Node("b", "lookup", ("y",), frozenset(), None))
    graph = Graph("g", nodes, (Edge("a", ("x",), "b", ("y",), ("n", "1"), filters, standby, ""),))
    (line,) = [line for line in Diagram(graph).mermaid().splitlines() if "|" in line]
    left, right = ("t0", "t1") if filters == "right" else ("t1", "t0")
    assert line.strip().startswith(f'{left} {arrow}|"x = y')
    assert line.endswith(f"| {right}")


@pytest.mark.outside
def test_in_the_shell(hollowmere: Path, nursery: relatum.Model, tmp_path: Path) -> None:
    for name, start in (("a.svg", b"<?xml"), ("b.png", b"\x89PNG"), ("c.mmd", b"flowchart"), ("d.md", b"```mermaid")):
        result = run("diagram", hollowmere, "-o", tmp_path / name)
        assert result.exit_code == 0, result.stderr
        assert (tmp_path / name).read_bytes().startswith(start)
    assert run("diagram", hollowmere).stdout == nursery.diagram().mermaid()
    assert nursery.diagram().svg() == nursery.diagram().svg(), "the same drawing each time"
    graph = json.loads(run("diagram", hollowmere, "--format", "json").stdout)
    assert [node["name"] for node in graph["nodes"]] == list(nursery.declaration.tables)
    assert len(graph["edges"]) == 10
    assert graph_of(nursery.declaration).nodes[0].rows is None
