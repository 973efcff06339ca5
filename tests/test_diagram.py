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
from conftest import make_stall, run
from relatum.model.graph import Edge, Graph, Node, graph_of
from relatum.present.diagram import Diagram, layout


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
    assert texts.count("n") == 9, "each relationship has its marks"
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
