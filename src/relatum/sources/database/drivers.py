"""The packages that read databases: heavy, optional, and imported where one is asked for."""

from __future__ import annotations

from importlib import import_module
from importlib.util import find_spec
from typing import Any

from relatum.errors import SourceError


def driver(module: str, extra: str = "databases") -> Any:
    """A package that reads databases; ``extra`` is our optional group that installs it.

    Raises
    ------
    SourceError
        It is not installed.
    """
    needed(module, extra)
    return import_module(module)


def needed(module: str, extra: str = "databases") -> None:
    """Raise a SourceError where a package is not installed.

    Raises
    ------
    SourceError
        It is not.
    """
    if find_spec(module.partition(".")[0]) is None:
        raise SourceError(
            f"Reading this database needs the package {module.partition('.')[0].replace('_', '-')}.",
            fix=f"Install it with: pip install 'relatum[{extra}]'",
        )
