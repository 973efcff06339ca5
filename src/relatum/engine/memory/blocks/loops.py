"""The plain loops over a block of rows, which the compiler makes machine code of, one for every type of column.

A block's rows are given by their places counted from ``start``: ``count`` of them in ``rows``, or with ``every`` all
from there on. Nothing here looks whether a place lies within an array: ``program.py`` has seen to that.
"""

from __future__ import annotations

import numpy as np

from relatum.engine.memory.blocks.bits import PLACES, bits_of, inner, lowest, number_set, write_places
from relatum.engine.memory.blocks.instructions import ALSO, ANEW, TOO

# -- loops over neighbours, which the compiler vectorizes -------------------------------------------------------------


@inner
def inside_first(values, start, count, low, width, wide, passing):
    """Whether each row has a number from ``low`` to ``width`` above it."""
    for at in range(count):
        passing[at] = wide(values[start + at] - low) <= width


@inner
def inside_too(values, start, count, low, width, wide, passing):
    """Leave of the rows that pass those that have a number from ``low`` to ``width`` above it."""
    for at in range(count):
        passing[at] &= wide(values[start + at] - low) <= width


@inner
def inside_also(values, start, count, low, width, wide, passing):
    """Add to the rows that pass those that have a number from ``low`` to ``width`` above it."""
    for at in range(count):
        passing[at] |= wide(values[start + at] - low) <= width


@inner
def pass_too(other, count, passing):
    """Leave of the rows that pass those that do by another note as well."""
    for at in range(count):
        passing[at] &= other[at]


@inner
def group_all(codes, start, count, size, groups):
    """Go on with the groups by the codes of rows that follow each other."""
    for at in range(count):
        groups[at] = groups[at] * size + np.uint32(codes[start + at])


@inner
def load_all(values, start, count, target):
    """The values of rows that follow each other."""
    for at in range(count):
        target[at] = values[start + at]


@inner
def add(one, other, target, count):
    """Two registers added."""
    for at in range(count):
        target[at] = one[at] + other[at]


@inner
def subtract(one, other, target, count):
    """One register less another."""
    for at in range(count):
        target[at] = one[at] - other[at]


@inner
def multiply(one, other, target, count):
    """Two registers multiplied."""
    for at in range(count):
        target[at] = one[at] * other[at]


@inner
def divide(one, other, target, count):
    """One register of floats divided by another."""
    for at in range(count):
        target[at] = one[at] / other[at]


@inner
def as_float(values, divisor, target, count):
    """Whole numbers as floats, divided by a number."""
    for at in range(count):
        target[at] = np.float64(values[at]) / divisor


@inner
def total(values, count):
    """The sum of a register."""
    total = np.int64(0)
    for at in range(count):
        total += values[at]
    return total


# -- loops that gather, which it must not ------------------------------------------------------------------------------


@inner
def marked_first(codes, start, count, marks, first, rows):
    """Note which rows have a marked code, counted from ``first``, and say how many."""
    kept = np.uint64(0)
    for at in range(count):
        rows[kept] = first + at
        kept += marks[codes[start + at]]
    return kept


@inner
def marked_some(codes, start, marks, rows, count):
    """Leave of the noted rows those that have a marked code, and say how many."""
    kept = np.uint64(0)
    for at in range(count):
        place = rows[at]
        rows[kept] = place
        kept += marks[codes[start + place]]
    return kept


@inner
def inside_some(values, start, low, width, wide, rows, count):
    """Leave of the noted rows those that have a number from ``low`` to ``width`` above it, and say how many."""
    kept = np.uint64(0)
    for at in range(count):
        place = rows[at]
        rows[kept] = place
        kept += np.uint64(wide(values[start + place] - low) <= wide(width))
    return kept


@inner
def noted(passing, count, first, rows):
    """Note the rows that pass, counted from ``first``, and say how many."""
    kept, one = np.uint64(0), np.uint64(1)
    for begin in range(np.uint64(0), count, np.uint64(64)):
        bits = bits_of(passing, begin)
        found = number_set(bits)
        place = np.uint32(first + begin)
        if found <= np.uint64(4):
            # Always four, of which the next ones write some over: going by their number would be guessed wrongly.
            for at in range(np.uint64(4)):
                rows[kept + at] = place + np.uint32(lowest(bits))
                bits &= bits - one
            kept += found
        else:
            for _ in range(8):
                eight = bits & np.uint64(255)
                write_places(rows, kept, PLACES, eight, place)
                kept += number_set(eight)
                bits >>= np.uint64(8)
                place += np.uint32(8)
    return kept


@inner
def inside(values, start, count, low, width, wide, passing, way):
    """A comparison of all rows of a block, in one of the ways that there are."""
    if way == ANEW:
        inside_first(values, start, count, low, wide(width), wide, passing)
    elif way == TOO:
        inside_too(values, start, count, low, wide(width), wide, passing)
    elif way == ALSO:
        inside_also(values, start, count, low, wide(width), wide, passing)


@inner
def group(codes, start, rows, every, count, size, groups):
    """Go on with the group of each row by its code of a key that has ``size`` codes."""
    if every:
        group_all(codes, start, count, size, groups)
    else:
        for at in range(count):
            groups[at] = groups[at] * size + np.uint32(codes[start + rows[at]])


@inner
def load(values, start, rows, every, count, target):
    """The value of each row."""
    if every:
        load_all(values, start, count, target)
    else:
        for at in range(count):
            target[at] = values[start + rows[at]]


@inner
def pick(positions, table, start, rows, every, count, target):
    """What each row finds in a table."""
    if every:
        for at in range(count):
            target[at] = table[np.uint64(positions[start + at])]
    else:
        for at in range(count):
            target[at] = table[np.uint64(positions[start + rows[at]])]


@inner
def missing_there(positions, table, start, rows, every, count, missing):
    """Mark rows that find null, or nothing, in a table."""
    if every:
        for at in range(count):
            missing[at] |= table[np.uint64(positions[start + at])]
    else:
        for at in range(count):
            missing[at] |= table[np.uint64(positions[start + rows[at]])]


@inner
def missing(nulls, start, rows, every, count, missing):
    """Mark rows that are null."""
    if every:
        for at in range(count):
            missing[at] |= nulls[start + at]
    else:
        for at in range(count):
            missing[at] |= nulls[start + rows[at]]


@inner
def lost(positions, nowhere, start, rows, every, count, missing, found):
    """Mark and count rows that find nothing, unless an earlier lookup did."""
    # A row that is lost already is marked with 3, so that the next lookup does not count it again.
    for at in range(count):
        place = start + at if every else start + rows[at]
        if np.int64(positions[place]) == nowhere and missing[at] != 3:
            missing[at] = 3
            found[0] += 1


@inner
def count_rows(groups, count, counts):
    """Count the rows of each group."""
    for at in range(count):
        counts[groups[at]] += 1


@inner
def count_known(groups, missing, count, counts):
    """Count the rows of each group that have a value."""
    for at in range(count):
        counts[groups[at]] += missing[at] == 0


@inner
def add_up(values, groups, count, sums):
    """Add the value of each row to the sum of its group."""
    for at in range(count):
        sums[groups[at]] += values[at]


@inner
def count_and_sum(values, groups, count, counts, sums):
    """Count the rows of each group, and add their values up."""
    for at in range(count):
        group = groups[at]
        counts[group] += 1
        sums[group] += values[at]


@inner
def sum_known(values, missing, groups, count, sums):
    """Add the value of each row that has one to the sum of its group."""
    for at in range(count):
        if missing[at] == 0:
            sums[groups[at]] += values[at]


@inner
def least(values, missing, some, groups, count, best):
    """Lower the best value of each group to the least of its rows."""
    for at in range(count):
        if (not some or missing[at] == 0) and values[at] < best[groups[at]]:
            best[groups[at]] = values[at]


@inner
def greatest(values, missing, some, groups, count, best):
    """Raise the best value of each group to the greatest of its rows."""
    for at in range(count):
        if (not some or missing[at] == 0) and values[at] > best[groups[at]]:
            best[groups[at]] = values[at]


@inner
def mark(values, missing, some, groups, count, bits, marks):
    """Mark the pair of its group and its code for each row that has one."""
    for at in range(count):
        if not some or missing[at] == 0:
            marks[(np.uint64(groups[at]) << bits) + np.uint64(values[at])] = 1
