"""Texts in the order of their code points: sorted, on all cores where they are many, and numbered."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data import compute as pc
from relatum.data.buffers import array_values, in_one_piece, positions_array
from relatum.runtime.limits import refuse_stopped
from relatum.runtime.threads import cores, shared_map

#: Fewer texts than this are sorted by one thread, and numbered without looking whether they repeat.
_MANY = 50_000
#: How many texts are drawn to see whether they repeat, and to divide them into parts.
_DRAWN, _PIVOTS_FROM = 1 << 16, 1000


def sorted_texts(texts: Any) -> tuple[Any, NDArray[np.int64]]:
    """The distinct texts in order, and for each given text its position among them.

    Parameters
    ----------
    texts : pyarrow.Array or pyarrow.ChunkedArray of large_string
        Texts, some of them may be null.

    Returns
    -------
    pyarrow.Array of large_string, numpy.ndarray of int
        The texts, and the positions, one for each given text; of null any.
    """
    texts = in_one_piece(texts)
    if hardly_repeat(texts):
        return _ranked(texts)
    encoded = pc.dictionary_encode(texts)
    known, rank = _ranked(encoded.dictionary)
    positions = rank[array_values(encoded.indices, 0)] if len(rank) else np.zeros(len(texts), np.int64)
    return known, positions


def _ranked(texts: Any) -> tuple[Any, NDArray[np.int64]]:
    """The distinct texts in order and the place of each given one, found by sorting them; of null any place."""
    rows = np.arange(len(texts)) if not texts.null_count else np.flatnonzero(~array_values(pc.is_null(texts)))
    parts = cores() if len(rows) >= _MANY else 1
    number = np.zeros(len(texts), np.intp)
    if parts > 1:
        drawn = pc.take(texts, positions_array(rows[np.linspace(0, len(rows) - 1, _PIVOTS_FROM).astype(np.int64)]))
        in_order = array_values(pc.array_sort_indices(drawn))
        for part in range(1, parts):
            pivot = drawn[int(in_order[part * _PIVOTS_FROM // parts])]
            number += ~array_values(pc.less(texts, pivot), False)

    def sort(part: int) -> tuple[NDArray[np.int64], NDArray[np.bool_], Any]:
        own = rows[number[rows] == part]
        here = pc.take(texts, positions_array(own))
        order = pc.array_sort_indices(here)
        in_order = pc.take(here, order)
        new = np.ones(len(own), np.bool_)
        new[1:] = array_values(pc.not_equal(in_order[1:], in_order[:-1]))
        distinct = in_order if new.all() else pc.take(in_order, positions_array(np.flatnonzero(new)))
        return own[array_values(order)], new, distinct

    made = shared_map(sort, range(parts), refuse_stopped)
    positions, count = np.zeros(len(texts), np.int64), 0
    for own, new, distinct in made:
        positions[own] = np.cumsum(new) + (count - 1)
        count += len(distinct)
    return in_one_piece(pa.chunked_array([distinct for *_, distinct in made])), positions


def hardly_repeat(texts: Any) -> bool:
    """Whether most of many texts are probably there once: looking each up among those seen takes longer than sorting.

    Two rows drawn at random hold one text as often as texts repeat.
    """
    rows = len(texts)
    if rows < _MANY:
        return False
    drawn = np.random.default_rng(rows).integers(0, rows, min(_DRAWN, rows // 8))
    found = pc.dictionary_encode(pc.take(texts, positions_array(np.sort(drawn))))
    return (len(drawn) - len(found.dictionary)) * rows < len(drawn) ** 2
