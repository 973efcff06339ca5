"""The members of a column, for people and programs."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from relatum import markup
from relatum.arguments import checked
from relatum.data.arrow import python_values
from relatum.pivot.members import Found
from relatum.pivot.turning import NO_MATCH
from relatum.present.numbers import formatter
from relatum.present.sheet import code_names
from relatum.wording import counted, visible

if TYPE_CHECKING:
    from rich.console import Console

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

    def __str__(self) -> str:
        from relatum.present.printed import printed  # noqa: PLC0415 - rich is not needed to ask a model

        return printed(lambda console: print_members(self, console), 100)

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return members_html(self)


def print_members(members: MemberList, console: Console, most: int | None = 200) -> None:
    """Print members: the condition, each with its rows (those without marked by a dash), how many there are."""
    from rich.table import Table  # noqa: PLC0415 - as above
    from rich.text import Text  # noqa: PLC0415 - as above

    found = members.found
    caption = Text.assemble((visible(found.model), "bold"), f"  members of {visible(found.axis.name)}")
    caption.append(f"\nwhere {found.where}" if found.where else "\nno filters", style="cyan" if found.where else "dim")
    console.print(caption)
    headings, lines = members.lines(most)
    table = Table(box=None, show_edge=False, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    table.add_column(Text(visible(headings[0])), overflow="fold")
    for heading in headings[1:]:
        table.add_column(Text(visible(heading)), justify="right", no_wrap=True)
    for texts, there in lines:
        table.add_row(*map(Text, map(visible, texts)), style=None if there else "dim")
    console.print(table)
    console.print(Text(members.summary(len(lines)), style="dim"))


def members_html(members: MemberList) -> str:
    """The members of a column with their counts."""
    headings, lines = members.lines(_MOST_IN_HTML)
    found = members.found
    rows = [
        [
            markup.Text(texts[0], faint=not there),
            *(markup.Text(text, number=True, faint=not there) for text in texts[1:]),
        ]
        for texts, there in lines
    ]
    return markup.block(
        markup.line(f"members of {found.axis.name}", bold=True),
        markup.line(f"where {found.where}" if found.where else "no filters", faint=True),
        markup.table([[headings[0], *(markup.Text(each, number=True) for each in headings[1:])]], rows),
        markup.line(members.summary(len(lines)), faint=True),
    )
