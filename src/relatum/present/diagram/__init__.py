"""The star, drawn."""

from relatum.present.diagram.diagram import Diagram
from relatum.present.diagram.layout import layout

__all__ = ["Diagram", "layout"]
