"""The functions of ``pyarrow.compute``, which is loaded when the first of them is used.

Importing it makes some three hundred functions, which takes longer than reading a small model.
"""

from __future__ import annotations

from typing import Any


def __getattr__(name: str) -> Any:
    import pyarrow.compute as compute  # noqa: PLC0415 - see above

    return getattr(compute, name)
