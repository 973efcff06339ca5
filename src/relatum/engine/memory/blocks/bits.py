"""Rows as bits: a word has one for each of 64 rows, and the places of those that pass are written from it."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba.core import types
from numba.extending import intrinsic

#: For each byte of bits, the numbers of the bits that are set; what follows them is written over later.
PLACES = np.array([([bit for bit in range(8) if bits >> bit & 1] + [0] * 8)[:8] for bits in range(256)], np.uint8)


#: What only other compiled loops call: nothing is made by which Python could call it.
inner = numba.njit(nogil=True, no_cpython_wrapper=True, no_cfunc_wrapper=True)


@intrinsic
def number_set(typing: Any, bits: Any) -> Any:
    """How many bits are set."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.ctpop(arguments[0])

    return types.uint64(types.uint64), generate


@intrinsic
def lowest(typing: Any, bits: Any) -> Any:
    """The number of the lowest bit that is set; 64 where none is."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        return builder.cttz(arguments[0], ir.Constant(ir.IntType(1), 0))

    return types.uint64(types.uint64), generate


@intrinsic
def bits_of(typing: Any, passing: Any, start: Any) -> Any:
    """A bit for each of 64 bytes from ``start`` on: whether it is other than 0."""

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        given, start = arguments
        many = ir.VectorType(ir.IntType(8), 64)
        data = context.make_array(signature.args[0])(context, builder, given).data
        place = builder.bitcast(builder.gep(data, [start]), many.as_pointer())
        found = builder.icmp_unsigned("!=", builder.load(place, align=1), ir.Constant(many, [0] * 64))
        return builder.bitcast(found, ir.IntType(64))

    return types.uint64(passing, types.uint64), generate


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
