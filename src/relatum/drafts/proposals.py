"""What a draft is made of: proposals with their evidence."""

from __future__ import annotations

from msgspec import Struct

from relatum.model.declaration import Hierarchy, Measure, Relationship, SavedPivot

SURE, LIKELY = 0.95, 0.8


class Proposal(Struct, frozen=True):
    """One thing proposed: what, how sure, and why.

    ``kind`` is ``type``, ``null``, ``key``, ``relationship``, ``calendar``, ``measure``, ``hierarchy``, ``pivot``,
    ``note``, or ``aside`` for what was considered and left out; ``statement`` says it in one line; ``confidence`` is
    from 0 to 1; ``doubt`` says what speaks against it. A proposal below 0.8 is written into the model as a comment.
    """

    kind: str
    subject: str
    statement: str
    confidence: float
    evidence: str
    doubt: str = ""
    content: Relationship | Measure | Hierarchy | SavedPivot | None = None

    @property
    def active(self) -> bool:
        """Whether it is part of the model, rather than a comment in it."""
        return self.confidence >= LIKELY and self.kind not in ("note", "aside")

    @property
    def word(self) -> str:
        """How sure it is, in a word."""
        if self.kind in ("note", "aside"):
            return self.kind
        return "sure" if self.confidence >= SURE else "likely" if self.confidence >= LIKELY else "unsure"
