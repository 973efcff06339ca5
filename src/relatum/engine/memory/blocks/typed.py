"""The plain loops for a column of any type, which is given by its address and the number of its kind."""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import carray
from numba.core import cgutils, types
from numba.extending import intrinsic

from relatum.engine.memory.blocks import loops
from relatum.engine.memory.blocks.bits import inner
from relatum.engine.memory.blocks.instructions import COMPARED, WIDTHS

#: The bytes that memory is brought near by at once.
_LINE = 64
#: What is said of how long a column is: nothing looks at it.
ONE = (1,)


@intrinsic
def pointer(typing: Any, address: Any) -> Any:
    """A number as an address."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.inttoptr(arguments[0], cgutils.voidptr_t)

    return types.voidptr(types.int64), generate


@intrinsic
def fetch(typing: Any, address: Any) -> Any:
    """Have the memory at an address brought near, without waiting for it; an address may be any number."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        number, byte = ir.IntType(32), ir.IntType(8).as_pointer()
        wanted = ir.FunctionType(ir.VoidType(), [byte, number, number, number])
        function = cgutils.get_or_insert_function(builder.module, wanted, "llvm.prefetch.p0")
        read, near, data = (ir.Constant(number, value) for value in (0, 2, 1))
        builder.call(function, [builder.inttoptr(arguments[0], byte), read, near, data])
        return context.get_dummy_value()

    return types.void(types.int64), generate


@inner
def fetch_block(kind, address, start):
    """Have a column's block from ``start`` on brought near."""
    width = WIDTHS[kind]
    first = address + width * np.int64(start)
    for line in range(first, first + width * COMPARED, _LINE):
        fetch(line)


@inner
def inside_of(kind, address, start, count, low, width, passing, way):
    """:func:`loops.inside` of a column by its kind and address; signed numbers are compared as unsigned ones."""
    if kind == 3:
        loops.inside(
            carray(pointer(address), ONE, np.uint64), start, count, np.uint64(low), width, np.uint64, passing, way
        )
    elif kind == 4:
        loops.inside(
            carray(pointer(address), ONE, np.uint8), start, count, np.uint8(low), width, np.uint8, passing, way
        )
    elif kind == 5:
        loops.inside(
            carray(pointer(address), ONE, np.uint16), start, count, np.uint16(low), width, np.uint16, passing, way
        )
    elif kind == 6:
        loops.inside(
            carray(pointer(address), ONE, np.uint32), start, count, np.uint32(low), width, np.uint32, passing, way
        )


@inner
def inside_some_of(kind, address, start, low, width, rows, count):
    """:func:`loops.inside_some` of a column by its kind and address."""
    if kind == 3:
        return loops.inside_some(
            carray(pointer(address), ONE, np.uint64), start, np.uint64(low), width, np.uint64, rows, count
        )
    if kind == 4:
        return loops.inside_some(
            carray(pointer(address), ONE, np.uint8), start, np.uint8(low), width, np.uint8, rows, count
        )
    if kind == 5:
        return loops.inside_some(
            carray(pointer(address), ONE, np.uint16), start, np.uint16(low), width, np.uint16, rows, count
        )
    if kind == 6:
        return loops.inside_some(
            carray(pointer(address), ONE, np.uint32), start, np.uint32(low), width, np.uint32, rows, count
        )
    return count


@inner
def marked_first_of(kind, address, start, count, marks, first, rows):
    """:func:`loops.marked_first` of a column by its kind and address."""
    if kind == 3:
        return loops.marked_first(carray(pointer(address), ONE, np.int64), start, count, marks, first, rows)
    if kind == 4:
        return loops.marked_first(carray(pointer(address), ONE, np.uint8), start, count, marks, first, rows)
    if kind == 5:
        return loops.marked_first(carray(pointer(address), ONE, np.uint16), start, count, marks, first, rows)
    if kind == 6:
        return loops.marked_first(carray(pointer(address), ONE, np.uint32), start, count, marks, first, rows)
    return np.uint64(0)


@inner
def marked_some_of(kind, address, start, marks, rows, count):
    """:func:`loops.marked_some` of a column by its kind and address."""
    if kind == 3:
        return loops.marked_some(carray(pointer(address), ONE, np.int64), start, marks, rows, count)
    if kind == 4:
        return loops.marked_some(carray(pointer(address), ONE, np.uint8), start, marks, rows, count)
    if kind == 5:
        return loops.marked_some(carray(pointer(address), ONE, np.uint16), start, marks, rows, count)
    if kind == 6:
        return loops.marked_some(carray(pointer(address), ONE, np.uint32), start, marks, rows, count)
    return count


@inner
def group_of(kind, address, start, rows, every, count, size, groups):
    """:func:`loops.group` of a column by its kind and address."""
    if kind == 3:
        loops.group(carray(pointer(address), ONE, np.int64), start, rows, every, count, size, groups)
    elif kind == 4:
        loops.group(carray(pointer(address), ONE, np.uint8), start, rows, every, count, size, groups)
    elif kind == 5:
        loops.group(carray(pointer(address), ONE, np.uint16), start, rows, every, count, size, groups)
    elif kind == 6:
        loops.group(carray(pointer(address), ONE, np.uint32), start, rows, every, count, size, groups)


@inner
def load_of(kind, address, start, rows, every, count, target):
    """:func:`loops.load` of a column by its kind and address."""
    if kind == 0:
        loops.load(carray(pointer(address), ONE, np.int8), start, rows, every, count, target)
    elif kind == 1:
        loops.load(carray(pointer(address), ONE, np.int16), start, rows, every, count, target)
    elif kind == 2:
        loops.load(carray(pointer(address), ONE, np.int32), start, rows, every, count, target)
    elif kind == 3:
        loops.load(carray(pointer(address), ONE, np.int64), start, rows, every, count, target)
    elif kind == 4:
        loops.load(carray(pointer(address), ONE, np.uint8), start, rows, every, count, target)
    elif kind == 5:
        loops.load(carray(pointer(address), ONE, np.uint16), start, rows, every, count, target)
    elif kind == 6:
        loops.load(carray(pointer(address), ONE, np.uint32), start, rows, every, count, target)


@inner
def pick_of(kind, address, table, start, rows, every, count, target):
    """:func:`loops.pick` of a column by its kind and address."""
    if kind == 3:
        loops.pick(carray(pointer(address), ONE, np.int64), table, start, rows, every, count, target)
    elif kind == 4:
        loops.pick(carray(pointer(address), ONE, np.uint8), table, start, rows, every, count, target)
    elif kind == 5:
        loops.pick(carray(pointer(address), ONE, np.uint16), table, start, rows, every, count, target)
    elif kind == 6:
        loops.pick(carray(pointer(address), ONE, np.uint32), table, start, rows, every, count, target)


@inner
def missing_there_of(kind, address, table, start, rows, every, count, missing):
    """:func:`loops.missing_there` of a column by its kind and address."""
    if kind == 3:
        loops.missing_there(carray(pointer(address), ONE, np.int64), table, start, rows, every, count, missing)
    elif kind == 4:
        loops.missing_there(carray(pointer(address), ONE, np.uint8), table, start, rows, every, count, missing)
    elif kind == 5:
        loops.missing_there(carray(pointer(address), ONE, np.uint16), table, start, rows, every, count, missing)
    elif kind == 6:
        loops.missing_there(carray(pointer(address), ONE, np.uint32), table, start, rows, every, count, missing)


@inner
def lost_of(kind, address, nowhere, start, rows, every, count, missing, found):
    """:func:`loops.lost` of a column by its kind and address."""
    if kind == 3:
        loops.lost(carray(pointer(address), ONE, np.int64), nowhere, start, rows, every, count, missing, found)
    elif kind == 4:
        loops.lost(carray(pointer(address), ONE, np.uint8), nowhere, start, rows, every, count, missing, found)
    elif kind == 5:
        loops.lost(carray(pointer(address), ONE, np.uint16), nowhere, start, rows, every, count, missing, found)
    elif kind == 6:
        loops.lost(carray(pointer(address), ONE, np.uint32), nowhere, start, rows, every, count, missing, found)
