"""The members of a column, for people and programs."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from relatum import markup
from relatum.arguments import checked
from relatum.data.arrow import python_values
from relatum.pivot.members import Found
from relatum.pivot.turning import NO_MATCH
from relatum.present.numbers import formatter
from relatum.present.sheet import code_names
from relatum.wording import counted

#: How many members are shown in a notebook.
_MOST_IN_HTML = 60


@checked
class MemberList:
    """The members of a column in their order, each with its rows under a condition.

    Printing it shows them; iterating gives pairs of member and first count (``relatum.NO_MATCH`` stands for rows whose
    lookup found nothing). It hands itself to other libraries through the Arrow C stream interface.
    """

    def __init__(self, found: Found) -> None:
        self.found = found

    def __len__(self) -> int:
        return len(self.found.codes)

    def __iter__(self) -> Iterator[tuple[Any, Any]]:
        axis = self.found.axis
        names = {**axis.member_values(self.found.codes), axis.members.null: None, axis.members.no_match: NO_MATCH}
        counts = python_values(self.found.values[0][1])
        return iter([(names[code], count) for code, count in zip(self.found.codes.tolist(), counts, strict=True)])

    def to_arrow(self) -> Any:
        """A ``pyarrow.Table``: the member, its counts or value, and ``present``: whether it has any."""
        return self.found.to_arrow()

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def lines(self, most: int | None = None) -> tuple[list[str], list[tuple[list[str], bool]]]:
        """The headings, and for each member its texts and whether it has rows; only the first members.

        Those that have rows come before those that have none.
        """
        found = self.found
        chosen = np.argsort(~found.present, kind="stable")[:most]
        codes = found.codes[chosen]
        names = code_names(found.axis, codes, found.locale)
        columns = []
        for value, column in found.values:
            known = python_values(column.take(chosen))
            write = formatter(value.type, value.format, known, found.locale, found.currency)
            columns.append([write(each) for each in known])
        headings = [found.axis.label, *(value.label for value, _ in found.values)]
        rows = zip(codes.tolist(), found.present[chosen].tolist(), strict=True)
        return headings, [
            ([names[code], *(column[at] for column in columns)], bool(there)) for at, (code, there) in enumerate(rows)
        ]

    def summary(self, shown: int) -> str:
        """How many members there are, how many have nothing under the condition, and how many are not shown."""
        missing, left = int((~self.found.present).sum()), len(self) - shown
        what = "rows" if self.found.values[0][0].label.startswith("rows of ") else "a value"
        text = f"{counted(len(self), 'member')}, {missing:,} without {what}"
        if left <= 0:
            return text
        return f"{text}; {left:,} not shown" + (f", all without {what}" if len(self) - missing <= shown else "")

    def blocks(self, most: int | None = 200) -> list[markup.Block]:
        """The condition, the first members with their rows, and how many there are; for whatever draws them."""
        found = self.found
        headings, lines = self.lines(most)
        heads: markup.Row = [headings[0], *(markup.Text(each, number=True) for each in headings[1:])]
        rows: list[markup.Row] = []
        for (name, *numbers), there in lines:
            tone: markup.Tone = "" if there else "faint"
            counts = (markup.Text(text, number=True, tone=tone) for text in numbers)
            rows.append([markup.Text(name, tone=tone), *counts])
        return [
            markup.line(markup.Text(found.model, bold=True), f"  members of {found.axis.name}"),
            markup.line(f"where {found.where}", tone="context")
            if found.where
            else markup.line("no filters", tone="faint"),
            markup.Table([heads], rows),
            markup.line(self.summary(len(lines)), tone="faint"),
        ]

    def __str__(self) -> str:
        from relatum.present.printed import print_blocks, printed  # noqa: PLC0415 - rich is not needed to ask a model

        return printed(lambda console: print_blocks(self.blocks(), console), 100)

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return markup.html(self.blocks(_MOST_IN_HTML))
