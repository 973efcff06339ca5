"""Eight rows at once: where the bytes of a word say which of them pass, their places are written in one go."""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba.core import types
from numba.extending import intrinsic

#: What a word of eight bytes, each 0 or 1, is multiplied by so that its highest byte has a bit for each of them.
GATHERED = np.uint64(0x0102040810204080)
#: For each of these bytes of bits, the numbers of the bits that are set; what follows them is written over later.
PLACES = np.array([([bit for bit in range(8) if bits >> bit & 1] + [0] * 8)[:8] for bits in range(256)], np.uint8)


@intrinsic
def number_set(typing: Any, bits: Any) -> Any:
    """How many bits are set."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.ctpop(arguments[0])

    return types.uint64(types.uint64), generate


@intrinsic
def write_places(typing: Any, rows: Any, kept: Any, places: Any, bits: Any, first: Any) -> Any:
    """Write the places of eight rows, counted from ``first``, into ``rows`` from ``kept`` on, those that pass first."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        given, kept, table, bits, first = arguments
        number, eight = ir.IntType(32), ir.VectorType(ir.IntType(32), 8)
        rows = context.make_array(signature.args[0])(context, builder, given).data
        places = context.make_array(signature.args[2])(context, builder, table).data
        row = builder.gep(places, [builder.mul(bits, ir.Constant(ir.IntType(64), 8))])
        set_bits = builder.load(builder.bitcast(row, ir.VectorType(ir.IntType(8), 8).as_pointer()), align=1)
        alone = builder.insert_element(ir.Constant(eight, ir.Undefined), first, ir.Constant(number, 0))
        shift = builder.shuffle_vector(alone, ir.Constant(eight, ir.Undefined), ir.Constant(eight, [0] * 8))
        target = builder.bitcast(builder.gep(rows, [kept]), eight.as_pointer())
        builder.store(builder.add(builder.zext(set_bits, eight), shift), target, align=4)
        return context.get_dummy_value()

    return types.void(rows, types.uint64, places, types.uint64, types.uint32), generate
