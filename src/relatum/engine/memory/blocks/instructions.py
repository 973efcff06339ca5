"""The words of the programs that the compiled loops carry out: each instruction is a row of whole numbers."""

from __future__ import annotations

#: The types of columns that loops read, by their numbers.
KINDS = ("i1", "i2", "i4", "i8", "u1", "u2", "u4")
#: The bytes of a number of each type.
WIDTHS = tuple(int(kind[1]) for kind in KINDS)
#: For each type the one of unsigned numbers of its width: above the lowest one, comparing these says the same. Of eight
#: bytes there is the signed type alone, which is read as unsigned.
UNSIGNED = tuple(KINDS.index(f"u{width}" if width < 8 else "i8") for width in WIDTHS)
#: How many rows are compared at once, and how many are folded: what is noted of them stays in the nearest caches.
COMPARED, BLOCK = 4096, 1024
#: How many rows are selected before they are folded: the notes on them stay in a nearer cache.
PART = 32 * BLOCK

#: The file that says that a folder holds every loop.
DONE = "done"

# Steps: word, kind, address, lowest number, highest minus lowest, address of the marks.
#: A row passes if its number lies between two.
INSIDE = 0
#: A row passes if its code is marked.
MARKED = 1
#: A row passes if its number lies between two, or passes the next step; the last of several such steps is INSIDE.
EITHER = 2
STEP_WIDTH = 6

#: What a comparison of all rows does: it says first which pass, says which of these still do, or which do as well.
ANEW, TOO, ALSO = 0, 1, 2

# Keys: kind, address, size.
KEY_WIDTH = 3

# Operations: word, kind, address, first and second operand, target.
#: A column's value.
LOAD = 0
#: What a column's row finds in a table: operand one is the address of the table.
PICK = 1
#: A number that is always the same: operand one.
FIXED = 2
#: Of two registers.
ADD = 3
SUBTRACT = 4
MULTIPLY = 5
#: All rows have a value, so far.
KNOWN = 6
#: Rows at which a column is null have none.
MISSING = 7
#: Nor have those that find null, or nothing, in a table: operand one is the address of the table.
MISSING_THERE = 8
#: Rows that find nothing, whose number is operand one, are counted at the address in operand two, unless they were.
LOST = 9
#: A register's whole numbers as floats, divided by operand two.
AS_FLOAT = 10
#: Of two registers of floats, which are held as the whole numbers with the same bits.
ADD_FLOATS = 11
SUBTRACT_FLOATS = 12
MULTIPLY_FLOATS = 13
DIVIDE_FLOATS = 14
OPERATION_WIDTH = 6

# Folds: word, register, register of what has no value or -1, address of what is folded into, bits of a code.
COUNT = 0
SUM = 1
LEAST = 2
GREATEST = 3
#: A mark for each pair of a group and a code.
MARK = 4
#: The rows of each group are counted beside, at the address in the place of the bits.
COUNT_AND_SUM = 5
#: Floats, row after row.
SUM_FLOATS = 6
FOLD_WIDTH = 5
