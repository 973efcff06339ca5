"""Programs carried out as machine code: which rows pass, and folding them, block after block.

The loops are compiled for every type that a column can have, never for a single question: a question is a program of
numbers (``program.py``) that :class:`Loops` read.

This module brings the compiler, and is imported only by ``ready.py``: here, and in a process of its own that compiles
the loops into the person's cache folder (:func:`main`), which takes about half a minute.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numba
import numpy as np
from numba import carray
from numba.core import config, types

from relatum.data.columns import Array
from relatum.engine.memory.blocks import loops, typed
from relatum.engine.memory.blocks.bits import inner
from relatum.engine.memory.blocks.instructions import (
    ADD,
    ADD_FLOATS,
    ALSO,
    ANEW,
    AS_FLOAT,
    BLOCK,
    COMPARED,
    COUNT,
    COUNT_AND_SUM,
    DIVIDE_FLOATS,
    DONE,
    EITHER,
    FIXED,
    GREATEST,
    INSIDE,
    KINDS,
    KNOWN,
    LEAST,
    LOAD,
    LOST,
    MARK,
    MARKED,
    MISSING,
    MISSING_THERE,
    MULTIPLY,
    MULTIPLY_FLOATS,
    PART,
    PICK,
    SUBTRACT,
    SUBTRACT_FLOATS,
    SUM,
    SUM_FLOATS,
    TOO,
)

_TABLE = types.Array(types.int64, 2, "C")
_RUN = types.int64(
    *(types.int64, types.int64, types.int64, types.boolean, _TABLE, types.uint32[::1], types.uint8[::1]),
    *(_TABLE, _TABLE, _TABLE, types.boolean, types.uint32[::1], _TABLE, types.Array(types.uint8, 2, "C")),
)


@inner
def _select(start, stop, steps, rows, passing):
    """Note which rows of a stretch pass every step, counted from its start, and say how many they are.

    Comparisons at the start are made for all rows of a block at once; ``passing`` has two places for each.
    """
    total, origin = np.uint64(0), np.uint64(start)
    passing, some = passing[:COMPARED], passing[COMPARED:]
    for begin in range(origin, np.uint64(stop), np.uint64(COMPARED)):
        many = min(np.uint64(COMPARED), np.uint64(stop) - begin)
        if many < COMPARED:
            passing[:] = 0
        own = rows[total:]
        done, whole, begun = 0, 0, False
        while done < len(steps) and steps[done, 0] != MARKED:
            word, kind, address, low, width, _ = steps[done]
            if begun or (word == EITHER and whole > 0):
                either = passing if whole == 0 else some
                typed.inside_of(kind, address, begin, many, low, width, either, ALSO if begun else ANEW)
                if word == INSIDE and whole > 0:
                    loops.pass_too(some, many, passing)
            else:
                typed.inside_of(kind, address, begin, many, low, width, passing, ANEW if whole == 0 else TOO)
            typed.fetch_block(kind, address, begin + many)
            begun = word == EITHER
            done += 1
            if not begun:
                whole = done
        if done == 0:
            table = carray(typed.pointer(steps[0, 5]), typed.ONE, np.uint8)
            count = typed.marked_first_of(steps[0, 1], steps[0, 2], begin, many, table, begin - origin, own)
            done = 1
        else:
            count = loops.noted(passing, many, begin - origin, own)
        while done < len(steps) and count > 0:
            word, kind, address, low, width, marks = steps[done]
            if word == INSIDE:
                count = typed.inside_some_of(kind, address, origin, low, width, own, count)
            else:
                count = typed.marked_some_of(
                    kind, address, origin, carray(typed.pointer(marks), typed.ONE, np.uint8), own, count
                )
            done += 1
        total += count
    return np.int64(total)


@inner
def _on_floats(word, one, other, target, count):
    """An operation on two registers, as floats."""
    left, right, result = one.view(np.float64), other.view(np.float64), target.view(np.float64)
    if word == ADD_FLOATS:
        loops.add(left, right, result, count)
    elif word == SUBTRACT_FLOATS:
        loops.subtract(left, right, result, count)
    elif word == MULTIPLY_FLOATS:
        loops.multiply(left, right, result, count)
    elif word == DIVIDE_FLOATS:
        loops.divide(left, right, result, count)


@inner
def _fold(start, rows, total, every, keys, operations, folds, one, groups, registers, missing):
    """Fold rows of a stretch, counted from its start: ``every`` says that they are all from there on.

    ``one`` says that all rows are in one group.
    """
    for begin in range(np.uint64(0), np.uint64(total), np.uint64(BLOCK)):
        count = min(np.uint64(BLOCK), np.uint64(total) - begin)
        own = rows[begin:]
        place = np.uint64(start)
        if every:
            place += begin
        groups[:count] = 0
        for number in range(len(keys)):
            kind, address, size = keys[number]
            typed.group_of(kind, address, place, own, every, count, np.uint32(size), groups)
        for number in range(len(operations)):
            word, kind, address, first, second, target = operations[number]
            if word == LOAD:
                typed.load_of(kind, address, place, own, every, count, registers[target])
            elif word == PICK:
                table = carray(typed.pointer(first), typed.ONE, np.int64)
                typed.pick_of(kind, address, table, place, own, every, count, registers[target])
            elif word == FIXED:
                registers[target][:count] = first
            elif word == ADD:
                loops.add(registers[first], registers[second], registers[target], count)
            elif word == SUBTRACT:
                loops.subtract(registers[first], registers[second], registers[target], count)
            elif word == MULTIPLY:
                loops.multiply(registers[first], registers[second], registers[target], count)
            elif word == AS_FLOAT:
                loops.as_float(registers[first], np.float64(second), registers[target].view(np.float64), count)
            elif ADD_FLOATS <= word <= DIVIDE_FLOATS:
                _on_floats(word, registers[first], registers[second], registers[target], count)
            elif word == KNOWN:
                missing[target][:count] = 0
            elif word == MISSING:
                loops.missing(
                    carray(typed.pointer(address), typed.ONE, np.uint8), place, own, every, count, missing[target]
                )
            elif word == MISSING_THERE:
                gone = carray(typed.pointer(first), typed.ONE, np.uint8)
                typed.missing_there_of(kind, address, gone, place, own, every, count, missing[target])
            elif word == LOST:
                found = carray(typed.pointer(second), typed.ONE, np.int64)
                typed.lost_of(kind, address, first, place, own, every, count, missing[target], found)
        for number in range(len(folds)):
            word, register, unknown, address, bits = folds[number]
            into = carray(typed.pointer(address), typed.ONE, np.int64)
            if word == COUNT:
                if unknown >= 0:
                    loops.count_known(groups, missing[unknown], count, into)
                elif one:
                    into[0] += count
                else:
                    loops.count_rows(groups, count, into)
            elif word == SUM:
                if unknown >= 0:
                    loops.sum_known(registers[register], missing[unknown], groups, count, into)
                elif one:
                    into[0] += loops.total(registers[register], count)
                else:
                    loops.add_up(registers[register], groups, count, into)
            elif word == SUM_FLOATS:
                sums = carray(typed.pointer(address), typed.ONE, np.float64)
                values = registers[register].view(np.float64)
                if unknown >= 0:
                    loops.sum_known(values, missing[unknown], groups, count, sums)
                else:
                    loops.add_up(values, groups, count, sums)
            elif word == COUNT_AND_SUM:
                counts = carray(typed.pointer(bits), typed.ONE, np.int64)
                loops.count_and_sum(registers[register], groups, count, counts, into)
            elif word == LEAST:
                loops.least(registers[register], missing[max(unknown, 0)], unknown >= 0, groups, count, into)
            elif word == GREATEST:
                loops.greatest(registers[register], missing[max(unknown, 0)], unknown >= 0, groups, count, into)
            elif word == MARK:
                marks = carray(typed.pointer(address), typed.ONE, np.uint8)
                gone_here = missing[max(unknown, 0)]
                loops.mark(registers[register], gone_here, unknown >= 0, groups, count, np.uint64(bits), marks)


def _run(start, stop, noted, folding, steps, notes, passing, keys, operations, folds, one, groups, registers, missing):
    """Note which rows of a stretch pass, unless ``noted`` says how many are noted already, and fold them where wanted.

    All of it is one loop, since what it calls would be compiled and loaded again for each. It goes part by part, so
    that the notes stay near. Returns how many rows pass where they are not folded.
    """
    if not folding:
        return _select(start, stop, steps, notes, passing)
    if noted >= 0:
        _fold(start, notes, noted, noted == stop - start, keys, operations, folds, one, groups, registers, missing)
        return noted
    for begin in range(start, stop, PART):
        end = min(begin + PART, stop)
        count = end - begin
        if len(steps) > 0:
            count = _select(begin, end, steps, notes, passing)
        if count > 0:
            every = count == end - begin
            _fold(begin, notes, count, every, keys, operations, folds, one, groups, registers, missing)
    return np.int64(0)


class Loops:
    """The compiled loop, asked for one thing at a time."""

    def __init__(self, run: Any) -> None:
        self._run = run
        none = np.zeros((0, 6), np.int64)
        self._no_tests = none, np.zeros(0, np.uint8)
        self._no_folds = none, none, none, True, np.zeros(0, np.uint32), none, np.zeros((0, 0), np.uint8)

    def select(self, start: int, stop: int, steps: Array, notes: Array, passing: Array) -> int:
        """Note which rows pass every step, counted from ``start``, and say how many they are."""
        return int(self._run(start, stop, -1, False, steps, notes, passing, *self._no_folds))

    def fold(self, start: int, stop: int, count: int, notes: Array, *into: Any) -> None:
        """Fold the rows that are noted."""
        steps, passing = self._no_tests
        self._run(start, stop, count, True, steps, notes, passing, *into)

    def both(self, start: int, stop: int, steps: Array, notes: Array, passing: Array, *into: Any) -> None:
        """Note which rows pass, and fold them."""
        self._run(start, stop, -1, True, steps, notes, passing, *into)


def _prepare_neighbours() -> None:
    """Compile the loops over neighbours while the compiler vectorizes; what calls them is compiled without."""
    for number in (types.uint8, types.uint16, types.uint32, types.uint64):
        values, passing = types.Array(number, 1, "C"), types.uint8[::1]
        given = (values, types.uint64, types.uint64, number, number, types.NumberClass(number), passing)
        loops.inside_first.compile(given)
        loops.inside_too.compile(given)
        loops.inside_also.compile(given)
    for code in (types.uint8, types.uint16, types.uint32, types.int64):
        values = types.Array(code, 1, "C")
        loops.group_all.compile((values, types.uint64, types.uint64, types.uint32, types.uint32[::1]))
    for name in KINDS:
        values = types.Array(numba.from_dtype(np.dtype(name)), 1, "C")
        loops.load_all.compile((values, types.uint64, types.uint64, types.int64[::1]))
    loops.pass_too.compile((types.uint8[::1], types.uint64, types.uint8[::1]))
    register, floats = types.int64[::1], types.float64[::1]
    for loop in (loops.add, loops.subtract, loops.multiply):
        loop.compile((register, register, register, types.uint64))
        loop.compile((floats, floats, floats, types.uint64))
    loops.divide.compile((floats, floats, floats, types.uint64))
    loops.as_float.compile((register, types.float64, floats, types.uint64))
    loops.total.compile((register, types.uint64))


def compiled(folder: Path, afresh: bool = False) -> Loops:
    """The loops; what the folder holds is taken from there, what it lacks is compiled into it."""
    before = config.CACHE_DIR, config.LOOP_VECTORIZE
    config.CACHE_DIR = str(folder)
    try:
        if afresh:
            _prepare_neighbours()
        config.LOOP_VECTORIZE = 0
        return Loops(numba.njit(_RUN, nogil=True, cache=True, boundscheck=False)(_run))
    finally:
        config.CACHE_DIR, config.LOOP_VECTORIZE = before


def main(folder: Path) -> None:
    """Compile the loops into a folder, and say there that it is done."""
    compiled(folder, afresh=True)
    (folder / DONE).touch()
