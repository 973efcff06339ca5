"""Which members of a field a request opens: the same for every engine."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from relatum.data import compute as pc
from relatum.data.buffers import array_values, texts_array
from relatum.data.columns import Members
from relatum.plan.nodes import Closing


def opened_members(closing: Closing, members: Members) -> NDArray[np.bool_]:
    """Which members of a field are open, by their codes."""
    known = members.values
    opened = np.zeros(members.size, np.bool_)
    if closing.members and known.dictionary is not None:
        texts = texts_array([text for text in closing.members if isinstance(text, str)])
        opened[: members.null] = array_values(pc.is_in(known.dictionary, texts))[known.values]
    elif closing.members:
        # A fraction is not a member of a column of whole numbers, and must not make floats of the rest.
        fraction = known.values.dtype.kind == "f"
        wanted = [each for each in closing.members if isinstance(each, float) == fraction]
        opened[: members.null] = np.isin(known.values, wanted)
    opened[members.null], opened[members.no_match] = closing.null, closing.no_match
    return opened
