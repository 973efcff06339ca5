"""A cache beside the model: columns and join indexes in Arrow's format, found by what the sources hold.

Everything in it can be made again: it is safe to delete. Things are written aside and moved into place, so that two
processes never see half of one; they are named by a digest of what they were made of, so that none is ever stale, and
begin with a keyed digest of what they hold, so that nobody else's are taken for ours.
"""

from __future__ import annotations

import functools
import logging
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import pyarrow as pa

from relatum.data.columns import Column
from relatum.data.joins import JoinIndex
from relatum.data.stored import batch_bytes, column_batch, column_of, numbers_batch, numbers_of, read_batch
from relatum.data.table import TableData
from relatum.data.types import parse_type
from relatum.errors import SourceError
from relatum.runtime.version import __version__
from relatum.session.vault import Vault
from relatum.sources.fingerprint import Digests, FileState, Known, refuse_changed, text_digest
from relatum.wording import visible

#: What another release of the program kept is not looked at: it may have read the same file otherwise.
_VERSION = f"3 {__version__}"
#: Sources smaller than this are read as fast as they would be found here.
WORTH_BYTES = 2_000_000
_WORTH_ROWS = 200_000
#: What was not used for so long is taken out when the model is refreshed.
_STALE_DAYS = 30
T = TypeVar("T")
_log = logging.getLogger("relatum")


class NotKeptError(SourceError):
    """A column that nobody has asked for so far, of rows that were read before: the source must be read again."""


class _Known(msgspec.Struct):
    """A table as its source was read: enough to know its columns without looking at the source."""

    types: dict[str, str]
    rows: int
    left_out: dict[str, str]
    remarks: list[str]


class _Latest(msgspec.Struct):
    """Where a table's rows were last found, and under which name they are kept."""

    identity: str
    files: list[FileState]


class Cache:
    """The cache of the models in one folder.

    Parameters
    ----------
    folder : Path
        Where the models are; the cache is the folder ``.relatum`` in it.
    verify : bool
        Look at every source as a whole, whatever is known of it.
    """

    def __init__(self, folder: Path, verify: bool = False) -> None:
        self.vault = Vault(folder / ".relatum")
        self.digests = Digests({} if verify else self._decoded("digests", dict[str, Known]) or {})
        self._latest: dict[str, _Latest] = self._decoded("latest", dict[str, _Latest]) or {}
        self._usable = True

    # -- tables -------------------------------------------------------------------------------------------------------

    def table(self, identity: str, files: tuple[FileState, ...]) -> TableData | None:
        """A table read before from the same content; None where there is none."""
        known = self._decoded(identity, _Known)
        if known is None:
            return None

        def lost(name: str) -> Column:
            raise NotKeptError(f"The cache does not contain the column {name}.")

        types = {name: parse_type(word) for name, word in known.types.items()}
        data = TableData(types, known.rows, lost, known.left_out, None, known.remarks, lost)
        return data.identified(identity, files)

    def kept(self, data: TableData, source: str, again: Callable[[], TableData]) -> TableData:
        """The same table, its columns kept here once they are read, and found here later.

        ``source`` names where its rows come from, whatever they are; ``again`` reads them again.
        """
        if self._decoded(data.identity, _Known) is None:
            types = {name: str(type_) for name, type_ in data.types.items()}
            known = _Known(types, data.rows, data.left_out, list(data.remarks))
            self._write(data.identity, msgspec.json.encode(known))
        latest = _Latest(data.identity, list(data.files))
        if self._latest.get(source) != latest:
            self._latest[source] = latest
            self._write("latest", msgspec.json.encode(self._latest))

        whole = functools.cache(again)

        def kept_or(key: str, read: Callable[[TableData], T]) -> Column | T:
            found = self._batch(key)
            if found is not None:
                return column_of(found)
            data.files = kept.files
            try:
                column = read(data)
            except NotKeptError:
                column = read(whole())
                refuse_changed(kept.files)
            if isinstance(column, Column):
                self._write(key, batch_bytes(column_batch(column)))
            return column

        def key_of(name: str) -> str:
            return f"{data.identity}-{text_digest(name)[:16]}"

        def fetch(name: str) -> Column:
            return kept_or(key_of(name), lambda table: table.column(name))

        def texts(name: str) -> Column | None:
            found = self._batch(key_of(name))  # the sorted column says as much
            if found is not None:
                return column_of(found)
            return kept_or(f"{key_of(name)}-texts", lambda table: table.texts(name))

        kept = data.fetched_by(fetch, texts=texts).identified(data.identity, data.files)
        return kept

    def latest(self, source: str) -> tuple[str, tuple[FileState, ...]] | None:
        """Under which name a source's rows were last kept, and of which files."""
        found = self._latest.get(source)
        return None if found is None else (found.identity, tuple(found.files))

    # -- joins --------------------------------------------------------------------------------------------------------

    def join(self, key: str, rows: int, make: Callable[[], JoinIndex]) -> JoinIndex:
        """A join index made before from the same columns, or made now and kept."""
        if rows < _WORTH_ROWS:
            return make()
        name = text_digest(f"{_VERSION} {key}")
        found = self._batch(name)
        if found is not None:
            positions, facts = numbers_of(found)
            return JoinIndex(positions, facts["size"], facts["null_keys"], facts["orphans"])
        index = make()
        batch = numbers_batch(index.positions, size=index.size, null_keys=index.null_keys, orphans=index.orphans)
        self._write(name, batch_bytes(batch))
        return index

    # -- state --------------------------------------------------------------------------------------------------------

    def state(self, model: str) -> bytes | None:
        """What was recorded when a model was last refreshed."""
        return self.vault.get(f"state-{text_digest(model)[:16]}")

    def record(self, model: str, state: bytes) -> None:
        """Record a model's state in one step.

        Raises
        ------
        SourceError
            It cannot be written; the previous state is kept.
        """
        try:
            self.vault.put(f"state-{text_digest(model)[:16]}", state)
        except OSError as error:
            raise SourceError(f"The state cannot be recorded: {error.strerror}.", path=self.vault.folder) from None

    def tidy(self) -> None:
        """Take out what was not used for a month, and what a process that was killed left half-written."""
        self.vault.tidy(_STALE_DAYS * 86_400)

    def close(self) -> None:
        """Remember the digests of the files that were looked at."""
        if self.digests.changed and self.vault.folder.is_dir():
            self._write("digests", msgspec.json.encode(self.digests.known))

    # -- files --------------------------------------------------------------------------------------------------------

    def _batch(self, name: str) -> Any:
        content = self.vault.get(name)
        try:
            return None if content is None else read_batch(content)
        except pa.ArrowException:
            return None  # of another release of the library that wrote it: it is made again

    def _decoded(self, name: str, kind: Any) -> Any:
        content = self.vault.get(name)
        try:
            return None if content is None else msgspec.json.decode(content, type=kind)
        except msgspec.MsgspecError:
            return None

    def _write(self, name: str, content: bytes) -> None:
        """Keep something. Where that fails, the work goes on without the cache."""
        if not self._usable:
            return
        try:
            self.vault.put(name, content)
        except OSError as error:
            self._usable = False
            _log.warning("the cache %s cannot be written: %s", visible(str(self.vault.folder)), error.strerror or error)


def identity_of(source: str, files: tuple[FileState, ...]) -> str:
    """The name of a table's content: what its source says, and what the files hold."""
    return text_digest(" ".join([_VERSION, source, *(each.digest for each in files)]))
