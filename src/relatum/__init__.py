"""Relatum: model business data as related tables, write measures once, ask them any way round."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from relatum.version import __version__

if TYPE_CHECKING:
    from relatum.audit.cell.location import OTHERS
    from relatum.audit.check import Report
    from relatum.errors import (
        ArgumentError,
        DataError,
        FormulaError,
        LimitError,
        ModelError,
        RelatumError,
        RequestError,
        SourceError,
        ValueOverflowError,
    )
    from relatum.face.drafting import draft
    from relatum.face.explaining import Explanation
    from relatum.face.model import Model
    from relatum.face.model import open_model as open
    from relatum.face.model import refresh_file as refresh
    from relatum.limits import limited
    from relatum.pivot.turning import NO_MATCH
    from relatum.present.grid import Grid
    from relatum.progress import listening


__all__ = [
    "NO_MATCH",
    "OTHERS",
    "ArgumentError",
    "DataError",
    "Explanation",
    "FormulaError",
    "Grid",
    "LimitError",
    "Model",
    "ModelError",
    "RelatumError",
    "Report",
    "RequestError",
    "SourceError",
    "ValueOverflowError",
    "__version__",
    "draft",
    "limited",
    "listening",
    "open",
    "refresh",
]

_LAZY = {
    "ArgumentError": ("relatum.errors", "ArgumentError"),
    "DataError": ("relatum.errors", "DataError"),
    "FormulaError": ("relatum.errors", "FormulaError"),
    "LimitError": ("relatum.errors", "LimitError"),
    "ModelError": ("relatum.errors", "ModelError"),
    "RelatumError": ("relatum.errors", "RelatumError"),
    "RequestError": ("relatum.errors", "RequestError"),
    "SourceError": ("relatum.errors", "SourceError"),
    "ValueOverflowError": ("relatum.errors", "ValueOverflowError"),
    "Explanation": ("relatum.face.explaining", "Explanation"),
    "Grid": ("relatum.present.grid", "Grid"),
    "Model": ("relatum.face.model", "Model"),
    "Report": ("relatum.audit.check", "Report"),
    "draft": ("relatum.face.drafting", "draft"),
    "OTHERS": ("relatum.audit.cell.location", "OTHERS"),
    "NO_MATCH": ("relatum.pivot.turning", "NO_MATCH"),
    "limited": ("relatum.limits", "limited"),
    "listening": ("relatum.progress", "listening"),
    "open": ("relatum.face.model", "open_model"),
    "refresh": ("relatum.face.model", "refresh_file"),
}


def __getattr__(name: str) -> Any:
    # The console command imports this package; everything else is loaded only once something needs it.
    if name in _LAZY:
        module, attribute = _LAZY[name]
        return getattr(importlib.import_module(module), attribute)
    raise AttributeError(f"module 'relatum' has no attribute {name!r}")
