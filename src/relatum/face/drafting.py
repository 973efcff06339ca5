"""Drafts: a model proposed from raw data."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from msgspec import structs

from relatum import markup
from relatum.arguments import checked, checked_call
from relatum.audit.tables import hierarchy_findings
from relatum.data.moments import check_zone
from relatum.data.table import TableData
from relatum.drafts.collect import LeftOut, collect
from relatum.drafts.draft import draft_model
from relatum.drafts.drafted import Drafted, demoted, retyped
from relatum.drafts.pivots import named_apart, pivot_proposals, with_pivots
from relatum.drafts.proposals import Proposal
from relatum.drafts.text import draft_text
from relatum.errors import ModelError, RelatumError
from relatum.face.model import Model
from relatum.model.declaration import Declaration, frozen
from relatum.model.names import split_name
from relatum.runtime.atomic import write_atomically
from relatum.session.reading import Whereabouts, load_table, load_tables, relative_source, source_path
from relatum.session.session import Session
from relatum.sources.together import together
from relatum.wording import counted

#: The kinds of proposals that a list of their own shows, and its heading.
_HEADINGS = {"relationship": "relationships", "measure": "measures", "hierarchy": "hierarchies", "pivot": "pivots"}
_TONES: dict[str, markup.Tone] = {"sure": "good", "likely": "context", "unsure": "notable", "note": "faint"}


def _row(each: Proposal) -> markup.Row:
    """A proposal as a line of its kind's list."""
    shown = f"{each.subject} = {each.statement}" if each.kind in ("measure", "pivot") else each.statement
    evidence = [markup.Text(each.evidence, tone="faint", prose=True)]
    evidence += [markup.Text(f"\nbut {each.doubt}", tone="notable", prose=True)] if each.doubt else []
    return [markup.Text(each.word, tone=_TONES[each.word]), markup.Text(shown, prose=True), tuple(evidence)]


def _remark(word: str, tone: markup.Tone, each: Proposal) -> markup.Line:
    """A proposal as a line of text."""
    evidence = markup.Text(f" ({each.evidence})" if each.evidence else "", tone="faint")
    doubt = markup.Text(f" {each.doubt}" if each.doubt else "", tone="notable")
    return markup.line(markup.Text(f"{word}  ", tone=tone), each.statement, evidence, doubt)


@checked
class Draft:
    """A model proposed from raw data: each part with its evidence, and a confidence from 0 to 1.

    What is likely (0.8 and up) is part of the model; what is not is in its file as a comment.
    """

    def __init__(self, drafted: Drafted, whereabouts: Whereabouts) -> None:
        self._drafted = drafted
        self._whereabouts = whereabouts

    @property
    def declaration(self) -> Declaration:
        """The model that is proposed, as immutable records."""
        return self._drafted.declaration

    @property
    def proposals(self) -> tuple[Proposal, ...]:
        """Everything proposed, doubted or noted, with its evidence."""
        return tuple(each for each in self._drafted.proposals if each.kind != "aside")

    @property
    def aside(self) -> tuple[Proposal, ...]:
        """What was considered and left out, with the evidence against it."""
        return tuple(each for each in self._drafted.proposals if each.kind == "aside")

    @property
    def left_out(self) -> tuple[LeftOut, ...]:
        """What was found and is not a table, and why."""
        return self._drafted.left_out

    @property
    def kinds(self) -> dict[str, str]:
        """What each table is: a fact, a lookup, a calendar, or alone."""
        return dict(self._drafted.kinds)

    @property
    def rows(self) -> dict[str, int]:
        """How many rows each table has that came from data."""
        return dict(self._drafted.rows)

    def __str__(self) -> str:
        return self.text()

    def blocks(self, everything: bool = False) -> list[markup.Block]:
        """What is proposed, by kind and surest first, then doubts and notes; for whatever draws it.

        With ``everything``, also what was considered and left out.
        """
        sizes = {name: f", {counted(rows, 'row')}" for name, rows in self.rows.items()}
        tables = ", ".join(f"{name} ({kind}{sizes.get(name, '')})" for name, kind in self.kinds.items())
        blocks: list[markup.Block] = [
            markup.line(markup.Text(f"{counted(len(self.kinds), 'table')}: ", bold=True), tables)
        ]
        for kind, heading in _HEADINGS.items():
            found = sorted((each for each in self.proposals if each.kind == kind), key=lambda each: -each.confidence)
            if found:
                blocks.append(markup.Table([["", heading, "evidence"]], list(map(_row, found)), apart=True))
        rest = [each for each in self.proposals if each.kind not in _HEADINGS]
        told = [each for each in rest if each.word in ("unsure", "note") or each.doubt]
        remarks = [_remark(each.word, _TONES[each.word], each) for each in told]
        aside = [_remark("considered and left out", "faint", each) for each in (self.aside if everything else ())]
        left_out = [
            markup.line(markup.Text("left out  ", tone="notable"), f"{each.what}: {each.why}") for each in self.left_out
        ]
        lines = [*remarks, *aside, *left_out]
        return [*blocks, *(structs.replace(each, apart=each is lines[0]) for each in lines)]

    def _repr_html_(self) -> str:
        return markup.html(self.blocks())

    def text(self, target: str | os.PathLike[str] = "model.toml", *, allow_outside: bool = True) -> str:
        """The model file as it would be written to ``target``."""
        sources = {}
        for name, table in self.declaration.tables.items():
            if table.source:
                file = source_path(table, self._whereabouts)
                path = Path(target)
                sources[name] = table.source if file is None else relative_source(file, path, name, allow_outside)
        return draft_text(self._drafted, sources)

    def model(self) -> Model:
        """The model itself, ready to be asked."""
        return Model.of(self.declaration, self._whereabouts)

    def save(self, path: str | os.PathLike[str], *, replace: bool = False) -> None:
        """Write the model file with all its comments.

        Parameters
        ----------
        path : path
            The file, in the folder of its data or above it.
        replace : bool
            Replace an existing file.

        Raises
        ------
        ModelError
            There is such a file, a table came as a frame, or its source lies outside the file's folder.
        """
        target = Path(path)
        if target.exists() and not replace:
            raise ModelError(
                "This file already exists.",
                path=target,
                fix="Name another file, or replace it: replace=True (--replace in the shell).",
            )
        if not target.parent.is_dir():
            raise ModelError(f"There is no folder {target.parent}.", path=target)
        frames = [name for name, table in self.declaration.tables.items() if table.frame]
        if frames:
            raise ModelError(
                f"The table {frames[0]} is a frame in memory, which a file cannot refer to.",
                fix="Write the frame to a Parquet file and draft from there.",
            )
        write_atomically(target, self.text(target, allow_outside=False))


@checked_call("draft")
def draft(*data: str | os.PathLike[str], name: str = "model", timezone: str = "UTC", **frames: object) -> Draft:
    """Propose a model of raw data.

    Parameters
    ----------
    *data : path
        Files (CSV, JSON lines, Parquet, Arrow IPC), folders, workbooks, a Data Package's descriptor, addresses of
        databases.
    name : str
        What the model is called.
    timezone : str
        The time zone, such as ``Europe/Berlin``, that timestamps with a zone are converted to.
    **frames : frame
        Frames by table name.

    Returns
    -------
    Draft
        Column types, keys, relationships, a calendar, measures, hierarchies and pivots, each with its evidence.

    Raises
    ------
    SourceError
        Something cannot be read, or holds no table.

    Examples
    --------
    >>> import pyarrow as pa, relatum
    >>> draft = relatum.draft(
    ...     sales=pa.table({"product_id": ["P1", "P2", "P1"], "quantity": [1, 2, 3]}),
    ...     product=pa.table({"product_id": ["P1", "P2"], "plant": ["Ivy", "Fern"]}),
    ... )
    >>> [str(each) for each in draft.declaration.relationships]
    ['sales.product_id -> product.product_id']
    >>> draft.model().evaluate("quantity")
    6
    """
    folder = Path.cwd()
    check_zone(timezone)
    whereabouts = Whereabouts(folder, dict(frames), True)
    with together():
        raws, left_out = collect(data, frames, folder, timezone)
        known = {raw.name: raw.data for raw in raws}
        return Draft(_standing(draft_model(raws, left_out, name, timezone), whereabouts, known), whereabouts)


def _standing(drafted: Drafted, whereabouts: Whereabouts, known: Mapping[str, TableData]) -> Drafted:
    """The draft as a model that opens and passes its own check: what keeps it from doing so is among the doubts."""
    while True:
        try:
            session = _opened(drafted.declaration, whereabouts, known)
        except RelatumError as error:
            drafted = _without(drafted, error, whereabouts)
            continue
        failing = {each.subject: each.text for each in hierarchy_findings(session) if each.severity == "problem"}
        for subject, text in failing.items():
            (name,) = split_name(subject.removeprefix("hierarchy "))
            drafted = demoted(drafted, "hierarchy", name, text)
        if not failing:
            proposed = tuple(named_apart(pivot_proposals(session), drafted.declaration))
            declaration = with_pivots(drafted.declaration, proposed)
            return structs.replace(drafted, declaration=declaration, proposals=(*drafted.proposals, *proposed))


def _opened(declaration: Declaration, whereabouts: Whereabouts, known: Mapping[str, TableData]) -> Session:
    """The model's session; a table of which nothing is stated but names is not read again."""
    plain = {
        name: known[name]
        for name, table in declaration.tables.items()
        if name in known and not table.null
        if not any(each.type or each.pattern or each.null for each in table.columns.values())
    }
    session = Session.of(declaration, load_tables(declaration, whereabouts, plain))
    session.verify(declaration.relationships)
    return session


def _without(drafted: Drafted, error: RelatumError, whereabouts: Whereabouts) -> Drafted:
    """The draft without the part that an error is about; raises the error if nothing drafted caused it."""
    match error.place:
        case ("table", str(table), *_) if table in drafted.declaration.tables:
            return _retyped(drafted, table, error, whereabouts)
        case ("measure", str(name), *_) if name in drafted.declaration.measures:
            return demoted(drafted, "measure", name, error.reason)
        case ("hierarchy", str(name), *_) if name in drafted.declaration.hierarchies:
            return demoted(drafted, "hierarchy", name, error.reason)
        case ("relationship", int(number), *_):
            return demoted(drafted, "relationship", str(drafted.declaration.relationships[number]), error.reason)
    raise error


def _retyped(drafted: Drafted, name: str, error: RelatumError, whereabouts: Whereabouts) -> Drafted:
    """The draft without the types of a table's columns that its source does not hold."""
    declaration = drafted.declaration
    table = declaration.tables[name]
    for column, settings in table.columns.items():
        if not settings.type and not settings.pattern:
            continue
        alone = structs.replace(table, columns=frozen({column: settings}))
        try:
            load_table(alone, declaration, whereabouts).column(column)
        except RelatumError as wrong:
            return retyped(drafted, name, column, wrong.reason)
    raise error
