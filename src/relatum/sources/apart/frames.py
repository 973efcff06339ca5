"""What the two processes say to each other: frames of a kind, a length and bytes."""

from __future__ import annotations

import json
import struct
from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.ipc as paipc

#: A frame's kind, and how many bytes follow.
HEAD = struct.Struct("<cQ")
#: What a frame holds: a question or answer as JSON, a piece of an Arrow stream, its end, an error as JSON.
SAID, PIECE, END, FAILED = b"S", b"P", b"E", b"F"
#: Pieces are gathered up to this many bytes.
_PIECE = 1 << 20


class Outgoing:
    """A file that an Arrow stream is written to: its bytes leave as frames."""

    def __init__(self, write: Callable[[bytes], object]) -> None:
        self._write = write
        self._pieces: list[bytes] = []
        self._size = 0
        self.closed = False

    def write(self, data: Any) -> int:
        """Take bytes."""
        piece = bytes(data)
        self._pieces.append(piece)
        self._size += len(piece)
        if self._size >= _PIECE:
            self.flush()
        return len(piece)

    def flush(self) -> None:
        """Send the gathered pieces."""
        if self._pieces:
            self._write(framed(PIECE, b"".join(self._pieces)))
            self._pieces, self._size = [], 0

    def close(self) -> None:
        """Send the rest."""
        self.flush()
        self.closed = True


def framed(kind: bytes, content: bytes) -> bytes:
    """A frame."""
    return HEAD.pack(kind, len(content)) + content


def said(kind: bytes, what: Any) -> bytes:
    """A frame of JSON."""
    return framed(kind, json.dumps(what).encode())


def send_batches(write: Callable[[bytes], object], schema: Any, batches: Any) -> None:
    """Send an Arrow stream, and its end."""
    sink = pa.PythonFile(Outgoing(write), mode="w")
    with paipc.new_stream(sink, schema) as writer:
        for batch in batches:
            writer.write_batch(batch)
    sink.close()
    write(framed(END, b""))
