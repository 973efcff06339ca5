"""The messages between a live page and its host: the same for every host, and described in ``docs/view.md``.

A page sends a :class:`Call`, a numbered message. The host replies with a :class:`Reply` of the same number.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta, Struct, field

from relatum.model.names import unquoted
from relatum.pivot.request import AxisWord

#: The longest message that a host takes, in bytes, and the longest text in one.
MOST_BYTES, MOST_TEXT = 1 << 20, 100_000
#: The most cells of one block, lines of a list, and rows of one page of rows.
MOST_CELLS, MOST_LISTED, MOST_ROWS = 40_000, 1_000, 1_000


class Parts(Struct, frozen=True, kw_only=True):
    """A request as its texts, in the form of LANGUAGE section 10: what :meth:`relatum.Model.pivot` takes."""

    rows: list[str] = []
    columns: list[str] = []
    values: list[str] = []
    where: str = ""
    keep: str = ""
    totals: bool = True
    show_empty: bool = False
    values_on: AxisWord = "columns"
    style: list[dict[str, Any]] = []


# -- edits of the model -----------------------------------------------------------------------------------------------


class Edit(Struct, frozen=True, tag_field="edit", tag=str.lower, kw_only=True):
    """A change of the model."""


class WriteMeasure(Edit, frozen=True, kw_only=True):
    """Add a measure, or change the formula, format and description of one."""

    name: str
    formula: str
    format: str = ""
    about: str = ""


class Direct(Edit, frozen=True, kw_only=True):
    """Set a relationship's direction, and whether it is on standby."""

    link: str
    direction: str
    standby: bool = False


class Rename(Edit, frozen=True, kw_only=True):
    """Rename something, and every reference to it."""

    name: str
    new: str


class Remove(Edit, frozen=True, kw_only=True):
    """Remove something; ``force`` removes what needs it too."""

    name: str
    force: bool = False


class KeepPivot(Edit, frozen=True, kw_only=True):
    """Save a request as a pivot of the model."""

    name: str
    request: Parts
    about: str = ""


Edits = WriteMeasure | Direct | Rename | Remove | KeepPivot


def bare(name: str) -> str:
    """A name without the quotes that formulas need around some."""
    return unquoted(name[1:-1]) if len(name) > 1 and name[0] == name[-1] == '"' else name


# -- messages ---------------------------------------------------------------------------------------------------------


class Message(Struct, frozen=True, tag_field="kind", tag=str.lower, kw_only=True):
    """Something that a page asks its host."""


class Open(Message, frozen=True, kw_only=True):
    """What there is: the model's names, the request to start with, and what this host can do."""


class Ask(Message, frozen=True, kw_only=True):
    """The grid of a request: its heads, its first cells, and the words of its sentence."""

    request: Parts


class Understand(Message, frozen=True, kw_only=True):
    """The words of a request and its forms, without its grid."""

    request: Parts


class Block(Message, frozen=True, kw_only=True):
    """Cells of a grid, by the numbers of their lines and columns; the ends are not included."""

    grid: int
    rows: tuple[int, int]
    columns: tuple[int, int]


class Read(Message, frozen=True, kw_only=True):
    """The request that a text of lines (``rows …``, ``values …``) says."""

    text: str


class Members(Message, frozen=True, kw_only=True):
    """Members of a column: those from number ``first`` that contain ``like``, with the rows of each under a filter."""

    column: str
    where: str = ""
    like: str = ""
    first: int = 0
    count: int = 200


class Choose(Message, frozen=True, kw_only=True):
    """A request with other members of a column chosen: these ones, or with ``rest`` all but these."""

    request: Parts
    column: str
    rest: bool
    members: list[str]


class Turn(Message, frozen=True, kw_only=True):
    """The request of a grid with the member of a line or column chosen, left out, opened or closed."""

    grid: int
    axis: AxisWord
    line: int
    how: Literal["only", "without", "open", "close"]


class Explain(Message, frozen=True, kw_only=True):
    """Why a cell has its value, or what moved since ``against``; ``along`` is the column that this goes by."""

    grid: int
    cell: tuple[int, int]
    against: tuple[int, int] | None = None
    along: str = ""


class Behind(Message, frozen=True, kw_only=True):
    """A page of the rows behind an aggregate of a cell."""

    grid: int
    cell: tuple[int, int]
    evidence: int
    first: int = 0
    count: int = 100


class BehindFile(Message, frozen=True, kw_only=True):
    """All rows behind an aggregate of a cell, as a file."""

    grid: int
    cell: tuple[int, int]
    evidence: int
    ending: str


class Chart(Message, frozen=True, kw_only=True):
    """A picture of a grid, its size in inches; ``auto`` chooses a kind that fits."""

    grid: int
    chart: str = "auto"
    mode: Literal["light", "dark"] = "light"
    size: tuple[float, float] = (6.4, 4.6)


class Export(Message, frozen=True, kw_only=True):
    """A grid as a file of some kind."""

    grid: int
    ending: str
    chart: str = "auto"


class Model(Message, frozen=True, kw_only=True):
    """Tables, relationships and measures, with a drawing of them."""


class Relationship(Message, frozen=True, kw_only=True):
    """What the audit finds about a relationship: coverage, and samples of rows that find nothing."""

    link: str


class Impact(Message, frozen=True, kw_only=True):
    """What depends on something."""

    name: str


class Try(Message, frozen=True, kw_only=True):
    """What an edit would change, without making it: dependants, and the values of a request before and after."""

    edit: Edits
    request: Parts


class Change(Message, frozen=True, kw_only=True):
    """Make an edit. Nothing is written to the file."""

    edit: Edits


class TakeBack(Message, frozen=True, kw_only=True):
    """Take the last edit back."""


class Check(Message, frozen=True, kw_only=True):
    """What the audit finds."""


class Refresh(Message, frozen=True, kw_only=True):
    """Read the sources again."""


class Unsaved(Message, frozen=True, kw_only=True):
    """What saving would change in the model file, as a difference of lines."""


class Save(Message, frozen=True, kw_only=True):
    """Write the model file."""


class Progress(Message, frozen=True, kw_only=True):
    """How far a question has come."""

    number: int


class Stop(Message, frozen=True, kw_only=True):
    """Stop a question."""

    number: int


Messages = (
    Open | Ask | Understand | Block | Read | Members | Choose | Turn | Explain | Behind | BehindFile | Chart | Export
    | Model | Relationship | Impact | Try | Change | TakeBack | Check | Refresh | Unsaved | Save | Progress | Stop
)  # fmt: skip


#: A script's numbers are exact up to here.
Number = Annotated[int, Meta(ge=0, lt=1 << 53)]


class Call(Struct, frozen=True):
    """A message with the number that its reply will have."""

    number: Number
    message: Messages


class Fault(Struct, frozen=True):
    """Why something cannot be answered. ``text`` is the formula at fault, ``start`` and ``stop`` the stretch of it."""

    reason: str
    fix: str = ""
    text: str = ""
    start: int = 0
    stop: int = 0
    stopped: bool = False


class Reply(Struct, frozen=True, omit_defaults=True):
    """The answer to a call, or why there is none."""

    number: int
    answer: Any = field(default=None)
    fault: Fault | None = None


_decoder = msgspec.json.Decoder(Call)


def read_call(data: bytes | str) -> Call:
    """A call from its JSON.

    Raises
    ------
    msgspec.DecodeError
        It is not a call.
    """
    return _decoder.decode(data)


def call_of(data: Any) -> Call:
    """A call from plain values.

    Raises
    ------
    msgspec.ValidationError
        It is not a call.
    """
    return msgspec.convert(data, Call)


def plain(reply: Reply) -> Any:
    """A reply as plain values."""
    return msgspec.to_builtins(reply, str_keys=True)
