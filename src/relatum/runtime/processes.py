"""Processes of our own that work for this one: they read what they are asked from standard input, and answer."""

from __future__ import annotations

import json
import subprocess
import sys


def started(module: str, function: str) -> subprocess.Popen[bytes]:
    """Start another Python that calls a function of a module, found where this one finds it.

    Raises
    ------
    OSError
        It cannot be started.
    """
    paths = json.dumps([each for each in sys.path if each])
    program = f"import sys; sys.path[:0] = {paths}; from {module} import {function}; {function}()"
    return subprocess.Popen(
        [sys.executable, "-c", program], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    )
