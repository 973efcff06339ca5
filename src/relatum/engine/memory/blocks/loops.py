"""The inner loops of a scan as machine code: which rows pass, and folding them, block after block.

They are compiled for every type that a column can have, never for a single question: a question is a program of numbers
(``program.py``) that :func:`select` and :func:`fold` read. Columns are handed over as addresses, and nothing here looks
whether a place lies within one: ``program.py`` has seen to that.

This module brings the compiler, and is imported only by ``ready.py``: here, and in a process of its own that compiles
the loops into the person's cache folder (:func:`main`), which takes about half a minute.
"""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numba
import numpy as np
from numba import carray
from numba.core import cgutils, config, types
from numba.extending import intrinsic

from relatum.engine.memory.blocks.instructions import (
    ADD,
    BLOCK,
    COUNT,
    COUNT_AND_SUM,
    DONE,
    FIXED,
    GREATEST,
    INSIDE,
    KINDS,
    KNOWN,
    LEAST,
    LOAD,
    LOST,
    MARK,
    MISSING,
    MISSING_THERE,
    MULTIPLY,
    PART,
    PICK,
    SUBTRACT,
    SUM,
)

_TABLE = types.Array(types.int64, 2, "C")
_SELECT = types.int64(types.int64, types.int64, _TABLE, types.uint32[::1], types.uint8[::1])
_INTO = (_TABLE, _TABLE, _TABLE, types.boolean, types.uint32[::1], _TABLE, types.Array(types.uint8, 2, "C"))
_FOLD = types.void(types.int64, types.uint32[::1], types.int64, types.boolean, *_INTO)
_BOTH = types.void(types.int64, types.int64, _TABLE, types.uint32[::1], types.uint8[::1], *_INTO)
#: What is said of how long a column is: nothing looks at it.
_ONE = (1,)
#: One row in so many, or fewer, are few: most eights of rows have none.
_FEW = 32


@intrinsic
def _pointer(typing: Any, address: Any) -> Any:
    """A number as an address."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.inttoptr(arguments[0], cgutils.voidptr_t)

    return types.voidptr(types.int64), generate


# -- loops over neighbours, which the compiler vectorizes -------------------------------------------------------------


@numba.njit(nogil=True)
def _inside_first(values, start, count, low, width, wide, passing):
    for at in range(count):
        passing[at] = wide(values[start + at] - low) <= width


@numba.njit(nogil=True)
def _inside_too(values, start, count, low, width, wide, passing):
    for at in range(count):
        passing[at] &= wide(values[start + at] - low) <= width


@numba.njit(nogil=True)
def _group_all(codes, start, count, size, groups):
    for at in range(count):
        groups[at] = groups[at] * size + np.uint32(codes[start + at])


@numba.njit(nogil=True)
def _load_all(values, start, count, target):
    for at in range(count):
        target[at] = values[start + at]


@numba.njit(nogil=True)
def _number(passing, count):
    number = np.uint64(0)
    for at in range(count):
        number += passing[at]
    return number


@numba.njit(nogil=True)
def _raised(rows, count, shift):
    for at in range(count):
        rows[at] += shift


@numba.njit(nogil=True)
def _add(one, other, target, count):
    for at in range(count):
        target[at] = one[at] + other[at]


@numba.njit(nogil=True)
def _subtract(one, other, target, count):
    for at in range(count):
        target[at] = one[at] - other[at]


@numba.njit(nogil=True)
def _multiply(one, other, target, count):
    for at in range(count):
        target[at] = one[at] * other[at]


@numba.njit(nogil=True)
def _total(values, count):
    total = np.int64(0)
    for at in range(count):
        total += values[at]
    return total


# -- loops that gather, which it must not ------------------------------------------------------------------------------


@numba.njit(nogil=True)
def _marked_first(codes, start, count, marks, rows):
    kept = np.uint64(0)
    for at in range(count):
        rows[kept] = at
        kept += marks[codes[start + at]]
    return kept


@numba.njit(nogil=True)
def _marked_some(codes, start, marks, rows, count):
    kept = np.uint64(0)
    for at in range(count):
        place = rows[at]
        rows[kept] = place
        kept += marks[codes[start + place]]
    return kept


@numba.njit(nogil=True)
def _inside_some(values, start, low, width, wide, rows, count):
    kept = np.uint64(0)
    for at in range(count):
        place = rows[at]
        rows[kept] = place
        kept += np.uint64(wide(values[start + place] - low) <= wide(width))
    return kept


@numba.njit(nogil=True)
def _noted(passing, eights, count, rows):
    """Note the rows that pass; where few do, eight that do not are passed over at once."""
    kept = np.uint64(0)
    if _number(passing, count) * np.uint64(_FEW) < count:
        for eight in range((count + np.uint64(7)) // np.uint64(8)):
            if eights[eight] != 0:
                first = eight * np.uint64(8)
                for at in range(first, first + np.uint64(8)):
                    rows[kept] = at
                    kept += passing[at]
        return kept
    for at in range(count):
        rows[kept] = at
        kept += passing[at]
    return kept


@numba.njit(nogil=True)
def _inside(values, start, count, low, width, wide, passing, first):
    if first:
        _inside_first(values, start, count, low, wide(width), wide, passing)
    else:
        _inside_too(values, start, count, low, wide(width), wide, passing)


@numba.njit(nogil=True)
def _group(codes, start, rows, every, count, size, groups):
    if every:
        _group_all(codes, start, count, size, groups)
    else:
        for at in range(count):
            groups[at] = groups[at] * size + np.uint32(codes[start + rows[at]])


@numba.njit(nogil=True)
def _load(values, start, rows, every, count, target):
    if every:
        _load_all(values, start, count, target)
    else:
        for at in range(count):
            target[at] = values[start + rows[at]]


@numba.njit(nogil=True)
def _pick(positions, table, start, rows, every, count, target):
    if every:
        for at in range(count):
            target[at] = table[np.uint64(positions[start + at])]
    else:
        for at in range(count):
            target[at] = table[np.uint64(positions[start + rows[at]])]


@numba.njit(nogil=True)
def _missing_there(positions, table, start, rows, every, count, missing):
    if every:
        for at in range(count):
            missing[at] |= table[np.uint64(positions[start + at])]
    else:
        for at in range(count):
            missing[at] |= table[np.uint64(positions[start + rows[at]])]


@numba.njit(nogil=True)
def _missing(nulls, start, rows, every, count, missing):
    if every:
        for at in range(count):
            missing[at] |= nulls[start + at]
    else:
        for at in range(count):
            missing[at] |= nulls[start + rows[at]]


@numba.njit(nogil=True)
def _lost(positions, nowhere, start, rows, every, count, missing, found):
    # A row that is lost already is marked with 3, so that the next lookup does not count it again.
    for at in range(count):
        place = start + at if every else start + rows[at]
        if np.int64(positions[place]) == nowhere and missing[at] != 3:
            missing[at] = 3
            found[0] += 1


@numba.njit(nogil=True)
def _count(groups, count, counts):
    for at in range(count):
        counts[groups[at]] += 1


@numba.njit(nogil=True)
def _count_known(groups, missing, count, counts):
    for at in range(count):
        counts[groups[at]] += missing[at] == 0


@numba.njit(nogil=True)
def _sum(values, groups, count, sums):
    for at in range(count):
        sums[groups[at]] += values[at]


@numba.njit(nogil=True)
def _count_and_sum(values, groups, count, counts, sums):
    for at in range(count):
        group = groups[at]
        counts[group] += 1
        sums[group] += values[at]


@numba.njit(nogil=True)
def _sum_known(values, missing, groups, count, sums):
    for at in range(count):
        if missing[at] == 0:
            sums[groups[at]] += values[at]


@numba.njit(nogil=True)
def _least(values, missing, some, groups, count, best):
    for at in range(count):
        if (not some or missing[at] == 0) and values[at] < best[groups[at]]:
            best[groups[at]] = values[at]


@numba.njit(nogil=True)
def _greatest(values, missing, some, groups, count, best):
    for at in range(count):
        if (not some or missing[at] == 0) and values[at] > best[groups[at]]:
            best[groups[at]] = values[at]


@numba.njit(nogil=True)
def _mark(values, missing, some, groups, count, bits, marks):
    for at in range(count):
        if not some or missing[at] == 0:
            marks[(np.uint64(groups[at]) << bits) + np.uint64(values[at])] = 1


# -- a column of any type ----------------------------------------------------------------------------------------------


@numba.njit(nogil=True)
def _inside_of(kind, address, start, count, low, width, passing, first):
    if kind == 0:
        _inside(carray(_pointer(address), _ONE, np.int8), start, count, np.int8(low), width, np.uint8, passing, first)
    elif kind == 1:
        _inside(
            carray(_pointer(address), _ONE, np.int16), start, count, np.int16(low), width, np.uint16, passing, first
        )
    elif kind == 2:
        _inside(
            carray(_pointer(address), _ONE, np.int32), start, count, np.int32(low), width, np.uint32, passing, first
        )
    elif kind == 3:
        _inside(
            carray(_pointer(address), _ONE, np.int64), start, count, np.int64(low), width, np.uint64, passing, first
        )
    elif kind == 4:
        _inside(carray(_pointer(address), _ONE, np.uint8), start, count, np.uint8(low), width, np.uint8, passing, first)
    elif kind == 5:
        _inside(
            carray(_pointer(address), _ONE, np.uint16), start, count, np.uint16(low), width, np.uint16, passing, first
        )
    elif kind == 6:
        _inside(
            carray(_pointer(address), _ONE, np.uint32), start, count, np.uint32(low), width, np.uint32, passing, first
        )


@numba.njit(nogil=True)
def _inside_some_of(kind, address, start, low, width, rows, count):
    if kind == 0:
        return _inside_some(carray(_pointer(address), _ONE, np.int8), start, np.int8(low), width, np.uint8, rows, count)
    if kind == 1:
        return _inside_some(
            carray(_pointer(address), _ONE, np.int16), start, np.int16(low), width, np.uint16, rows, count
        )
    if kind == 2:
        return _inside_some(
            carray(_pointer(address), _ONE, np.int32), start, np.int32(low), width, np.uint32, rows, count
        )
    if kind == 3:
        return _inside_some(
            carray(_pointer(address), _ONE, np.int64), start, np.int64(low), width, np.uint64, rows, count
        )
    if kind == 4:
        return _inside_some(
            carray(_pointer(address), _ONE, np.uint8), start, np.uint8(low), width, np.uint8, rows, count
        )
    if kind == 5:
        return _inside_some(
            carray(_pointer(address), _ONE, np.uint16), start, np.uint16(low), width, np.uint16, rows, count
        )
    if kind == 6:
        return _inside_some(
            carray(_pointer(address), _ONE, np.uint32), start, np.uint32(low), width, np.uint32, rows, count
        )
    return count


@numba.njit(nogil=True)
def _marked_first_of(kind, address, start, count, marks, rows):
    if kind == 3:
        return _marked_first(carray(_pointer(address), _ONE, np.int64), start, count, marks, rows)
    if kind == 4:
        return _marked_first(carray(_pointer(address), _ONE, np.uint8), start, count, marks, rows)
    if kind == 5:
        return _marked_first(carray(_pointer(address), _ONE, np.uint16), start, count, marks, rows)
    if kind == 6:
        return _marked_first(carray(_pointer(address), _ONE, np.uint32), start, count, marks, rows)
    return np.uint64(0)


@numba.njit(nogil=True)
def _marked_some_of(kind, address, start, marks, rows, count):
    if kind == 3:
        return _marked_some(carray(_pointer(address), _ONE, np.int64), start, marks, rows, count)
    if kind == 4:
        return _marked_some(carray(_pointer(address), _ONE, np.uint8), start, marks, rows, count)
    if kind == 5:
        return _marked_some(carray(_pointer(address), _ONE, np.uint16), start, marks, rows, count)
    if kind == 6:
        return _marked_some(carray(_pointer(address), _ONE, np.uint32), start, marks, rows, count)
    return count


@numba.njit(nogil=True)
def _group_of(kind, address, start, rows, every, count, size, groups):
    if kind == 3:
        _group(carray(_pointer(address), _ONE, np.int64), start, rows, every, count, size, groups)
    elif kind == 4:
        _group(carray(_pointer(address), _ONE, np.uint8), start, rows, every, count, size, groups)
    elif kind == 5:
        _group(carray(_pointer(address), _ONE, np.uint16), start, rows, every, count, size, groups)
    elif kind == 6:
        _group(carray(_pointer(address), _ONE, np.uint32), start, rows, every, count, size, groups)


@numba.njit(nogil=True)
def _load_of(kind, address, start, rows, every, count, target):
    if kind == 0:
        _load(carray(_pointer(address), _ONE, np.int8), start, rows, every, count, target)
    elif kind == 1:
        _load(carray(_pointer(address), _ONE, np.int16), start, rows, every, count, target)
    elif kind == 2:
        _load(carray(_pointer(address), _ONE, np.int32), start, rows, every, count, target)
    elif kind == 3:
        _load(carray(_pointer(address), _ONE, np.int64), start, rows, every, count, target)
    elif kind == 4:
        _load(carray(_pointer(address), _ONE, np.uint8), start, rows, every, count, target)
    elif kind == 5:
        _load(carray(_pointer(address), _ONE, np.uint16), start, rows, every, count, target)
    elif kind == 6:
        _load(carray(_pointer(address), _ONE, np.uint32), start, rows, every, count, target)


@numba.njit(nogil=True)
def _pick_of(kind, address, table, start, rows, every, count, target):
    if kind == 3:
        _pick(carray(_pointer(address), _ONE, np.int64), table, start, rows, every, count, target)
    elif kind == 4:
        _pick(carray(_pointer(address), _ONE, np.uint8), table, start, rows, every, count, target)
    elif kind == 5:
        _pick(carray(_pointer(address), _ONE, np.uint16), table, start, rows, every, count, target)
    elif kind == 6:
        _pick(carray(_pointer(address), _ONE, np.uint32), table, start, rows, every, count, target)


@numba.njit(nogil=True)
def _missing_there_of(kind, address, table, start, rows, every, count, missing):
    if kind == 3:
        _missing_there(carray(_pointer(address), _ONE, np.int64), table, start, rows, every, count, missing)
    elif kind == 4:
        _missing_there(carray(_pointer(address), _ONE, np.uint8), table, start, rows, every, count, missing)
    elif kind == 5:
        _missing_there(carray(_pointer(address), _ONE, np.uint16), table, start, rows, every, count, missing)
    elif kind == 6:
        _missing_there(carray(_pointer(address), _ONE, np.uint32), table, start, rows, every, count, missing)


@numba.njit(nogil=True)
def _lost_of(kind, address, nowhere, start, rows, every, count, missing, found):
    if kind == 3:
        _lost(carray(_pointer(address), _ONE, np.int64), nowhere, start, rows, every, count, missing, found)
    elif kind == 4:
        _lost(carray(_pointer(address), _ONE, np.uint8), nowhere, start, rows, every, count, missing, found)
    elif kind == 5:
        _lost(carray(_pointer(address), _ONE, np.uint16), nowhere, start, rows, every, count, missing, found)
    elif kind == 6:
        _lost(carray(_pointer(address), _ONE, np.uint32), nowhere, start, rows, every, count, missing, found)


# -- programs ----------------------------------------------------------------------------------------------------------


@numba.njit(nogil=True)
def _select(start, stop, steps, rows, passing):
    """Note which rows of a stretch pass every step, counted from its start, and say how many they are.

    Comparisons at the start are made for all rows of a block at once; ``passing`` has a place for each.
    """
    total = np.uint64(0)
    eights = passing.view(np.uint64)
    for begin in range(np.uint64(start), np.uint64(stop), np.uint64(BLOCK)):
        many = min(np.uint64(BLOCK), np.uint64(stop) - begin)
        if many < BLOCK:
            passing[:] = 0
        own = rows[total:]
        done = 0
        while done < len(steps) and steps[done, 0] == INSIDE:
            _inside_of(steps[done, 1], steps[done, 2], begin, many, steps[done, 3], steps[done, 4], passing, done == 0)
            done += 1
        if done == 0:
            table = carray(_pointer(steps[0, 5]), _ONE, np.uint8)
            count = _marked_first_of(steps[0, 1], steps[0, 2], begin, many, table, own)
            done = 1
        else:
            count = _noted(passing, eights, many, own)
        while done < len(steps) and count > 0:
            word, kind, address, low, width, marks = steps[done]
            if word == INSIDE:
                count = _inside_some_of(kind, address, begin, low, width, own, count)
            else:
                count = _marked_some_of(kind, address, begin, carray(_pointer(marks), _ONE, np.uint8), own, count)
            done += 1
        _raised(own, count, np.uint32(begin - np.uint64(start)))
        total += count
    return np.int64(total)


@numba.njit(nogil=True)
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
        if not one:
            groups[:count] = 0
        for number in range(len(keys)):
            kind, address, size = keys[number]
            _group_of(kind, address, place, own, every, count, np.uint32(size), groups)
        for number in range(len(operations)):
            word, kind, address, first, second, target = operations[number]
            if word == LOAD:
                _load_of(kind, address, place, own, every, count, registers[target])
            elif word == PICK:
                table = carray(_pointer(first), _ONE, np.int64)
                _pick_of(kind, address, table, place, own, every, count, registers[target])
            elif word == FIXED:
                registers[target][:count] = first
            elif word == ADD:
                _add(registers[first], registers[second], registers[target], count)
            elif word == SUBTRACT:
                _subtract(registers[first], registers[second], registers[target], count)
            elif word == MULTIPLY:
                _multiply(registers[first], registers[second], registers[target], count)
            elif word == KNOWN:
                missing[target][:count] = 0
            elif word == MISSING:
                _missing(carray(_pointer(address), _ONE, np.uint8), place, own, every, count, missing[target])
            elif word == MISSING_THERE:
                gone = carray(_pointer(first), _ONE, np.uint8)
                _missing_there_of(kind, address, gone, place, own, every, count, missing[target])
            elif word == LOST:
                found = carray(_pointer(second), _ONE, np.int64)
                _lost_of(kind, address, first, place, own, every, count, missing[target], found)
        for number in range(len(folds)):
            word, register, unknown, address, bits = folds[number]
            into = carray(_pointer(address), _ONE, np.int64)
            if word == COUNT:
                if unknown >= 0:
                    _count_known(groups, missing[unknown], count, into)
                elif one:
                    into[0] += count
                else:
                    _count(groups, count, into)
            elif word == SUM:
                if unknown >= 0:
                    _sum_known(registers[register], missing[unknown], groups, count, into)
                elif one:
                    into[0] += _total(registers[register], count)
                else:
                    _sum(registers[register], groups, count, into)
            elif word == COUNT_AND_SUM:
                counts = carray(_pointer(bits), _ONE, np.int64)
                _count_and_sum(registers[register], groups, count, counts, into)
            elif word == LEAST:
                _least(registers[register], missing[max(unknown, 0)], unknown >= 0, groups, count, into)
            elif word == GREATEST:
                _greatest(registers[register], missing[max(unknown, 0)], unknown >= 0, groups, count, into)
            elif word == MARK:
                marks = carray(_pointer(address), _ONE, np.uint8)
                gone_here = missing[max(unknown, 0)]
                _mark(registers[register], gone_here, unknown >= 0, groups, count, np.uint64(bits), marks)


def select(start, stop, steps, notes, passing):
    """Note which rows pass every step, counted from ``start``, and say how many they are."""
    return _select(start, stop, steps, notes, passing)


def fold(start, notes, total, every, keys, operations, folds, one, groups, registers, missing):
    """Fold rows that are noted; ``every`` says that they are all from ``start`` on."""
    _fold(start, notes, total, every, keys, operations, folds, one, groups, registers, missing)


def both(start, stop, steps, notes, passing, keys, operations, folds, one, groups, registers, missing):
    """Note which rows pass, and fold them; a part of the stretch at a time, so that the notes stay near."""
    for begin in range(start, stop, PART):
        end = min(begin + PART, stop)
        count = end - begin
        if len(steps) > 0:
            count = _select(begin, end, steps, notes, passing)
        if count > 0:
            every = count == end - begin
            _fold(begin, notes, count, every, keys, operations, folds, one, groups, registers, missing)


def _prepare_neighbours() -> None:
    """Compile the loops over neighbours while the compiler vectorizes; what calls them is compiled without."""
    for name in KINDS:
        kind, unsigned = (numba.from_dtype(np.dtype(each)) for each in (name, f"u{name[1:]}"))
        values, passing = types.Array(kind, 1, "C"), types.uint8[::1]
        given = (values, types.uint64, types.uint64, kind, unsigned, types.NumberClass(unsigned), passing)
        _inside_first.compile(given)
        _inside_too.compile(given)
        _group_all.compile((values, types.uint64, types.uint64, types.uint32, types.uint32[::1]))
        _load_all.compile((values, types.uint64, types.uint64, types.int64[::1]))
    _number.compile((types.uint8[::1], types.uint64))
    _raised.compile((types.uint32[::1], types.uint64, types.uint32))
    register = types.int64[::1]
    for loop in (_add, _subtract, _multiply):
        loop.compile((register, register, register, types.uint64))
    _total.compile((register, types.uint64))


def compiled(folder: Path, afresh: bool = False) -> SimpleNamespace:
    """Both programs' loops; what the folder holds is taken from there, what it lacks is compiled into it."""
    before = config.CACHE_DIR, config.LOOP_VECTORIZE
    config.CACHE_DIR = str(folder)
    try:
        if afresh:
            _prepare_neighbours()
        config.LOOP_VECTORIZE = 0
        options = {"nogil": True, "cache": True, "boundscheck": False}
        wanted = {select: _SELECT, fold: _FOLD, both: _BOTH}
        made = {loop.__name__: numba.njit(signature, **options)(loop) for loop, signature in wanted.items()}
        return SimpleNamespace(**made)
    finally:
        config.CACHE_DIR, config.LOOP_VECTORIZE = before


def main(folder: Path) -> None:
    """Compile the loops into a folder, and say there that it is done."""
    compiled(folder, afresh=True)
    (folder / DONE).touch()
