"""Texts in the order of their code points: sorted, on all cores where they are many, and numbered."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from relatum.data import compute as pc
from relatum.data.buffers import array_values, in_one_piece, positions_array
from relatum.limits import refuse_stopped
from relatum.threads import cores, shared_out

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
    if _hardly_repeat(texts):
        return _sorted_whole(in_one_piece(texts))
    encoded = in_one_piece(pc.dictionary_encode(texts))
    order, in_order = sorted_order(encoded.dictionary)
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    positions = rank[array_values(encoded.indices, 0)] if len(order) else np.zeros(len(texts), np.int64)
    return in_one_piece(in_order), positions


def sorted_order(texts: Any) -> tuple[NDArray[np.int64], Any]:
    """The positions of texts in their order, null last; and the texts in this order.

    Parameters
    ----------
    texts : pyarrow.Array of large_string
        Texts; those that are equal come in any order.

    Returns
    -------
    numpy.ndarray of int64, pyarrow.ChunkedArray of large_string
        As long as the texts.
    """
    parts = cores() if len(texts) >= _MANY else 1
    if parts == 1:
        order = pc.array_sort_indices(texts)
        return array_values(order).astype(np.int64), pa.chunked_array([pc.take(texts, order)])
    drawn = pc.take(texts, positions_array(np.linspace(0, len(texts) - 1, _PIVOTS_FROM).astype(np.int64)))
    in_order = array_values(pc.array_sort_indices(drawn))
    number = np.zeros(len(texts), np.intp)
    for part in range(1, parts):
        pivot = drawn[int(in_order[part * _PIVOTS_FROM // parts])]
        if pivot.is_valid:
            number += ~array_values(pc.less(texts, pivot), False)

    def sort(parts: Iterator[int]) -> list[tuple[int, NDArray[np.int64], Any]]:
        done = []
        for part in parts:
            own = np.flatnonzero(number == part)
            here = pc.take(texts, positions_array(own))
            order = pc.array_sort_indices(here)
            done.append((part, own[array_values(order)], pc.take(here, order)))
        return done

    made = [each for done in shared_out(sort, range(parts), refuse_stopped) for each in done]
    made.sort(key=lambda each: each[0])
    return np.concatenate([order for _, order, _ in made]), pa.chunked_array([texts for *_, texts in made])


def _hardly_repeat(texts: Any) -> bool:
    """Whether most texts are probably there once: looking each up among those seen takes longer than sorting all.

    Two rows drawn at random hold one text as often as texts repeat.
    """
    rows = len(texts)
    if rows < _MANY:
        return False
    drawn = np.random.default_rng(rows).integers(0, rows, min(_DRAWN, rows // 8))
    found = in_one_piece(pc.dictionary_encode(in_one_piece(pc.take(texts, positions_array(np.sort(drawn))))))
    return (len(drawn) - len(found.dictionary)) * rows < len(drawn) ** 2


def _sorted_whole(texts: Any) -> tuple[Any, NDArray[np.int64]]:
    known = len(texts) - texts.null_count
    order, found = sorted_order(texts)
    order, in_order = order[:known], in_one_piece(found)[:known]
    new = np.ones(len(order), np.bool_)
    new[1:] = array_values(pc.not_equal(in_order[1:], in_order[:-1]))
    positions = np.zeros(len(texts), np.int64)
    positions[order] = np.cumsum(new) - 1
    return (in_order if new.all() else pc.take(in_order, positions_array(np.flatnonzero(new)))), positions
