"""Relatum: model business data as related tables, write measures once, ask them any way round."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

from relatum.runtime.version import __version__

if TYPE_CHECKING:
    # For type checkers, the same names as below.
    from relatum.audit.cell.location import OTHERS as OTHERS
    from relatum.audit.check import Report as Report
    from relatum.errors import ArgumentError as ArgumentError
    from relatum.errors import DataError as DataError
    from relatum.errors import FormulaError as FormulaError
    from relatum.errors import LimitError as LimitError
    from relatum.errors import ModelError as ModelError
    from relatum.errors import RelatumError as RelatumError
    from relatum.errors import RequestError as RequestError
    from relatum.errors import SourceError as SourceError
    from relatum.errors import ValueOverflowError as ValueOverflowError
    from relatum.face.drafting import draft as draft
    from relatum.face.explaining import Explanation as Explanation
    from relatum.face.model import Model as Model
    from relatum.face.model import open as open
    from relatum.face.model import refresh as refresh
    from relatum.pivot.turning import NO_MATCH as NO_MATCH
    from relatum.present.grid import Grid as Grid
    from relatum.runtime.limits import limited as limited
    from relatum.runtime.progress import listening as listening

#: The module that each public name is loaded from once something needs it.
_HOMES = {
    "relatum.audit.cell.location": ("OTHERS",),
    "relatum.audit.check": ("Report",),
    "relatum.errors": (
        "ArgumentError",
        "DataError",
        "FormulaError",
        "LimitError",
        "ModelError",
        "RelatumError",
        "RequestError",
        "SourceError",
        "ValueOverflowError",
    ),
    "relatum.face.drafting": ("draft",),
    "relatum.face.explaining": ("Explanation",),
    "relatum.face.model": ("Model", "open", "refresh"),
    "relatum.runtime.limits": ("limited",),
    "relatum.pivot.turning": ("NO_MATCH",),
    "relatum.present.grid": ("Grid",),
    "relatum.runtime.progress": ("listening",),
}
_HOME_OF = {name: module for module, names in _HOMES.items() for name in names}
__all__ = [*_HOME_OF, "__version__"]


def __getattr__(name: str) -> Any:
    # The console command imports this package; everything else is loaded only once something needs it.
    if name in _HOME_OF:
        return getattr(importlib.import_module(_HOME_OF[name]), name)
    raise AttributeError(f"module 'relatum' has no attribute {name!r}")
