"""A workbook read back as a spreadsheet shows it: number formats applied, sums over ranges computed again."""

from __future__ import annotations

import io
import re
import warnings
from datetime import timedelta
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import openpyxl

_PART = re.compile(r'"([^"]*)"|\\(.)|([#0,.]*[#0][#0,.]*)|(%)|(\[h\]:mm(?::ss)?|\[m+\]:ss|\[hh\]:mm)')


def drawn(number: float, code: str, decimal: str, group: str) -> str:
    """A number by a format code of ECMA-376, with the separators of whoever looks at it."""
    sections = code.split(";")
    pick = (
        0 if number > 0 or len(sections) == 1 else 2 if number == 0 and len(sections) > 2 else 0 if number == 0 else 1
    )
    section = sections[pick]
    size = abs(Decimal(repr(number)))
    clock = _PART.search(section)
    pieces = list(_PART.finditer(section))
    if any(piece[5] for piece in pieces):
        assert clock is not None
        return "".join(_clock(size, piece[5]) if piece[5] else piece[1] or piece[2] or "" for piece in pieces)
    percent = sum(piece[4] is not None for piece in pieces)
    digits = [piece for piece in pieces if piece[3]]
    pattern = "".join(piece[3] for piece in digits)
    size *= Decimal(100) ** percent
    while pattern.endswith(","):
        pattern, size = pattern[:-1], size / 1000
    places = len(pattern.partition(".")[2])
    size = size.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)
    whole, _, fraction = f"{size:f}".partition(".")
    slots = pattern.partition(".")[0].replace(",", "")
    whole = whole.zfill(slots.count("0"))
    if "," in pattern:
        whole = re.sub(r"(?<=\d)(?=(\d{3})+$)", group, whole)
    if len(digits) == 1:
        return "".join(
            whole + (decimal + fraction if fraction else "") if piece[3] else piece[1] or piece[2] or "%"
            for piece in pieces
        )
    # Groups that no code has are between digits as literal signs: digits are dealt out from the right.
    left, out = whole, []
    for at, piece in reversed(list(enumerate(pieces))):
        if not piece[3]:
            out.append(piece[1] or piece[2] or "%")
            continue
        slots = piece[3].partition(".")[0].rstrip(",")
        own = (
            left if at == min(place for place, each in enumerate(pieces) if each[3]) else left[len(left) - len(slots) :]
        )
        left = left[: len(left) - len(own)]
        out.append(own + (decimal + fraction if "." in piece[3] else ""))
    return "".join(reversed(out))


def _clock(days: Decimal, code: str) -> str:
    seconds = int((days * 86400).quantize(Decimal(1), ROUND_HALF_UP))
    if code.startswith("[h"):
        width = code.index("]") - 1
        hours, rest = divmod(seconds, 3600)
        text = f"{hours:0{width}d}:{rest // 60:02d}"
        return text + (f":{rest % 60:02d}" if code.endswith("ss") else "")
    return f"{seconds // 60:0{code.index(']') - 1}d}:{seconds % 60:02d}"


class Book:
    """A workbook: its sheets by name, their cells as shown."""

    def __init__(self, content: bytes, decimal: str = ".", group: str = ",") -> None:
        with warnings.catch_warnings():
            warnings.simplefilter(
                "ignore", UserWarning
            )  # bars of one colour are an extension that the reader leaves out
            self.book = openpyxl.load_workbook(io.BytesIO(content))
            self.cached = openpyxl.load_workbook(io.BytesIO(content), data_only=True)
        self.separators = decimal, group

    def text(self, sheet: str, row: int, column: int) -> str:
        """A cell as shown."""
        cell = self.cached[sheet].cell(row, column)
        if cell.value is None:
            return ""
        if isinstance(cell.value, str):
            return cell.value
        value = cell.value.total_seconds() / 86400 if isinstance(cell.value, timedelta) else float(cell.value)
        return drawn(value, cell.number_format, *self.separators)

    def rows(self, sheet: str) -> list[list[str]]:
        """All cells as shown."""
        page = self.book[sheet]
        return [
            [self.text(sheet, row, column) for column in range(1, page.max_column + 1)]
            for row in range(1, page.max_row + 1)
        ]

    def worked_out(self, formula: str) -> Any:
        """A formula of sums over ranges, computed again from the cells that it names."""
        text = formula.lstrip("=")
        for call in re.findall(r"SUM\([^()]*\)|SUMPRODUCT\((?:\([^()]*\)\*)+[^()]*\)", text):
            text = text.replace(call, f"({self._sum(call)})", 1)
        assert re.fullmatch(r"[-+*/().\d eE]+", text), text
        try:
            return eval(text)
        except ZeroDivisionError:
            return None

    def _sum(self, call: str) -> float:
        *criteria, summed = re.findall(r"('[^']+'![$A-Z\d:]+)(?:=(-?\d+))?", call)
        total = self._range(summed[0])
        kept = [True] * len(total)
        for where, wanted in criteria:
            kept = [keep and value == int(wanted) for keep, value in zip(kept, self._range(where), strict=True)]
        return sum(float(value) for value, keep in zip(total, kept, strict=True) if keep and value is not None)

    def _range(self, name: str) -> list[Any]:
        sheet, _, cells = name.rpartition("!")
        return [line[0].value for line in self.book[sheet.strip("'")][cells.replace("$", "")]]
