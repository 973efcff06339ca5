"""A draft as a model file: what is likely as settings, what is not as comments, the evidence beside both."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import tomlkit

from relatum.drafts.drafted import Drafted
from relatum.drafts.proposals import Proposal
from relatum.model.declaration import Hierarchy, Measure, Relationship
from relatum.model.entries import VERSION
from relatum.model.names import split_name
from relatum.model.rewrite import toml_item
from relatum.model.save import to_document
from relatum.wording import counted, visible


def draft_text(drafted: Drafted, sources: Mapping[str, str]) -> str:
    """The model file of a draft.

    Parameters
    ----------
    drafted : Drafted
        The draft.
    sources : mapping of str to str
        Each table's source as it is in the file.
    """
    return "\n".join(_lines(drafted, to_document(drafted.declaration, sources))).rstrip() + "\n"


def _lines(drafted: Drafted, document: dict[str, Any]) -> Iterator[str]:
    yield f"relatum = {VERSION}"
    yield from _dumped({key: document[key] for key in ("name", "timezone") if key in document})
    yield ""
    yield "# A draft. Each part has its evidence beside it; less likely parts are commented out, with the"
    yield "# reason against them. Read the comments once, then make the model your own."
    for thing in drafted.left_out:
        yield _remark(f"left out: {thing.what}: {thing.why}")
    for name, table in document.get("table", {}).items():
        yield ""
        rows = f", {counted(drafted.rows[name], 'row')}" if name in drafted.rows else ""
        yield _remark(f"{drafted.kinds[name]}{rows}")
        for each in drafted.proposals:
            if _speaks_of(each, name):
                yield from _comment(each)
        yield from _dumped({"table": {name: table}})
    yield from _section(drafted, "relationship", document)
    yield from _section(drafted, "measure", document)
    yield from _section(drafted, "hierarchy", document)
    yield from _section(drafted, "pivot", document)


def _speaks_of(proposal: Proposal, table: str) -> bool:
    if proposal.kind not in ("type", "null", "key", "calendar", "note"):
        return False
    return next(iter(split_name(proposal.subject)), proposal.subject) == table


def _section(drafted: Drafted, kind: str, document: Mapping[str, Any]) -> Iterator[str]:
    found = [each for each in drafted.proposals if each.kind == kind]
    order = {"sure": 0, "likely": 0, "unsure": 1}
    if found:
        yield ""
        yield f"# ---- {'hierarchies' if kind == 'hierarchy' else kind + 's'} ----"
    for each in sorted(found, key=lambda one: order[one.word]):
        yield ""
        yield from _comment(each)
        block = list(_dumped(_block(each, document)))
        yield from block if each.active else map(_remark, block)
    for each in drafted.proposals:
        if each.kind == "note" and kind == "relationship" and "->" in each.subject:
            yield ""
            yield from _comment(each)


def _block(proposal: Proposal, document: Mapping[str, Any]) -> dict[str, Any]:
    content = proposal.content
    if isinstance(content, Relationship):
        entry: dict[str, Any] = {"link": str(content)}
        entry |= {"direction": content.direction} if content.direction != "down" else {}
        entry |= {"match": content.match} if content.match != "equal" else {}
        entry |= {"level": True} if content.level else {}
        entry |= {"standby": True} if content.standby else {}
        return {"relationship": [entry]}
    if isinstance(content, Measure):
        return {"measure": {content.name: {"formula": content.formula, "format": content.format}}}
    if isinstance(content, Hierarchy):
        return {"hierarchy": {content.name: {"levels": list(content.levels)}}}
    return {proposal.kind: {proposal.subject: document[proposal.kind][proposal.subject]}}


def _comment(proposal: Proposal) -> Iterator[str]:
    said = proposal.evidence
    if proposal.kind in ("note", "type", "null", "key", "calendar"):
        said = f"{proposal.statement}{f' ({said})' if said else ''}"
    yield _remark(f"{proposal.word}: {said}")
    if proposal.doubt:
        yield _remark(f"  but {proposal.doubt}")


def _remark(text: str) -> str:
    """A comment of one line, whatever the data that it tells of holds: what follows a line's end would be a setting."""
    return f"# {visible(text)}"


def _dumped(value: dict[str, Any]) -> Iterator[str]:
    document = tomlkit.document()
    for key, each in value.items():
        document[key] = toml_item(each)
    yield from tomlkit.dumps(document).strip().split("\n")
