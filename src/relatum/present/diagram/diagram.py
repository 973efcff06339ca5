"""A model's diagram, as a picture or as text."""

from __future__ import annotations

import os
import re
import xml.etree.ElementTree as xml
from collections.abc import Iterator
from pathlib import Path

from relatum.arguments import checked
from relatum.errors import SourceError
from relatum.model.graph import Graph
from relatum.present.diagram.edges import edge_title
from relatum.present.pictures import PICTURES, picture_bytes
from relatum.runtime.atomic import write_atomically, write_bytes_atomically
from relatum.wording import counted, visible

#: Endings of drawings as Mermaid text.
TEXTS = (".mmd", ".mermaid", ".md")
_SVG = "http://www.w3.org/2000/svg"


@checked
class Diagram:
    """A drawing of a model: as a picture (SVG, PNG, PDF) or as Mermaid text.

    A crow's foot is the many end of a line, a bar the one end. A line is broad where filters come from and narrow
    where they end; a dashed one is on standby, a dotted one only answers lookups.
    """

    def __init__(self, graph: Graph) -> None:
        self.graph = graph

    def save(self, path: str | os.PathLike[str]) -> None:
        """Write the drawing; the ending says in which form.

        Raises
        ------
        SourceError
            The ending is not one of .svg, .png, .pdf, .mmd, .mermaid and .md, or the file cannot be written.
        """
        target = Path(path)
        kind = target.suffix.lower()
        if kind == ".md":
            write_atomically(target, f"```mermaid\n{self.mermaid()}```\n")
        elif kind in TEXTS:
            write_atomically(target, self.mermaid())
        elif kind == ".svg":
            write_atomically(target, self.svg())
        elif kind in PICTURES:
            write_bytes_atomically(target, self._picture(kind))
        else:
            known = ", ".join((*PICTURES, *TEXTS))
            raise SourceError(
                f"Drawings ending in {kind or 'nothing'} are not supported.", path=target, fix=f"Known: {known}."
            )

    def svg(self) -> str:
        """The drawing as SVG: each table is a link to ``#table-NAME``, and tables and lines have titles."""
        return self._titled(self._picture(".svg"))

    def png(self) -> bytes:
        """The drawing as PNG."""
        return self._picture(".png")

    def _picture(self, ending: str) -> bytes:
        from relatum.present.diagram.draw import figure_of  # noqa: PLC0415 - heavy, and needed by drawings alone

        return picture_bytes(figure_of(self.graph), ending)

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

    # -- titles -------------------------------------------------------------------------------------------------------

    def _titled(self, svg: bytes) -> str:
        """The drawing with a title on each table and line, which a pointer resting there shows."""
        from relatum.present.diagram.draw import slug  # noqa: PLC0415 - as above

        titles = {f"relationship-{number}": edge_title(edge) for number, edge in enumerate(self.graph.edges)}
        for node in self.graph.nodes:
            rows = "" if node.rows is None else f", {counted(node.rows, 'row')}"
            role = f", a role of {node.role_of}" if node.role_of else ""
            titles[f"table-{slug(node.name)}"] = f"{node.name}: {node.kind}{rows}{role}"
        xml.register_namespace("", _SVG)
        xml.register_namespace("xlink", "http://www.w3.org/1999/xlink")
        root = xml.fromstring(svg, xml.XMLParser(target=xml.TreeBuilder(insert_comments=True)))
        for element in root.iter(f"{{{_SVG}}}g"):
            text = titles.get(element.get("id", ""))
            if text is not None:
                title = xml.Element(f"{{{_SVG}}}title")
                title.text = visible(text)
                element.insert(0, title)
        return '<?xml version="1.0" encoding="utf-8"?>\n' + xml.tostring(root, encoding="unicode") + "\n"


def _plain(text: str) -> str:
    return re.sub(r'["<>|`]', "'", visible(text)).replace("#", "#35;")
