"""Relatum: model business data as related tables, write measures once, ask them any way round."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from relatum.version import __version__

if TYPE_CHECKING:
    from relatum.api import Model
    from relatum.api import open_model as open
    from relatum.api import refresh_file as refresh
    from relatum.audit.cell.place import OTHERS
    from relatum.audit.check import Report
    from relatum.drafting import draft
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
    from relatum.explaining import Explanation
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
    "Explanation": ("relatum.explaining", "Explanation"),
    "Grid": ("relatum.present.grid", "Grid"),
    "Model": ("relatum.api", "Model"),
    "Report": ("relatum.audit.check", "Report"),
    "draft": ("relatum.drafting", "draft"),
    "OTHERS": ("relatum.audit.cell.place", "OTHERS"),
    "NO_MATCH": ("relatum.pivot.turning", "NO_MATCH"),
    "limited": ("relatum.limits", "limited"),
    "listening": ("relatum.progress", "listening"),
    "open": ("relatum.api", "open_model"),
    "refresh": ("relatum.api", "refresh_file"),
}


def __getattr__(name: str) -> Any:
    # The console command imports this package; everything else is loaded only once something needs it.
    if name in _LAZY:
        module, attribute = _LAZY[name]
        return getattr(importlib.import_module(module), attribute)
    raise AttributeError(f"module 'relatum' has no attribute {name!r}")
