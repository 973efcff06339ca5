"""What every command shares: formats, files to write, errors as sentences, exit codes."""

from __future__ import annotations

import os
import shutil
import sys
import textwrap
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from relatum.cli.interrupts import INTERRUPTED
from relatum.cli.streams import silence, write_exactly
from relatum.errors import RelatumError
from relatum.runtime.paths import is_named_by
from relatum.wording import visible, visible_lines

if TYPE_CHECKING:
    from relatum.model.declaration import Declaration

#: Exit codes: nothing wrong, problems found, cannot be read or answered.
CLEAN, PROBLEMS, UNREADABLE = 0, 1, 2

#: Work that takes less than this many seconds shows no bar.
_MOMENT = 0.6


@contextmanager
def errors_as_sentences() -> Iterator[None]:
    """Print an error as what, where, why and what to do, and leave with its exit code; never a traceback."""
    try:
        with interrupts_understood():
            with progress_shown():
                yield
            sys.stdout.flush()
    except RelatumError as error:
        complain(str(error))
        raise click.exceptions.Exit(UNREADABLE) from None
    except BrokenPipeError:
        # The reader of our output has gone, as with head: nothing is wrong, and nothing more can be written.
        silence(sys.stdout)
        raise click.exceptions.Exit(CLEAN) from None
    except OSError as error:
        said = f"{error.filename}: {error.strerror}" if error.filename else f"This cannot be written: {error.strerror}"
        silence(sys.stdout)
        complain(f"{said}.\nThe operating system refused it; fix that and try again.")
        raise click.exceptions.Exit(UNREADABLE) from None
    except MemoryError:
        complain("There is not enough memory for this.\nAsk for fewer columns, or filter the rows first.")
        raise click.exceptions.Exit(UNREADABLE) from None
    except (click.exceptions.Exit, click.exceptions.Abort):
        raise
    except Exception as error:
        complain(
            f"This is a bug in Relatum: {type(error).__name__}: {error}\n"
            f"{_origin(error)}Nothing was written. Please report it with the command you ran."
        )
        raise click.exceptions.Exit(UNREADABLE) from None


@contextmanager
def interrupts_understood() -> Iterator[None]:
    """Leave with the exit code of an interrupt where one comes, as while a command's arguments are read."""
    try:
        yield
    except KeyboardInterrupt:
        _bar.close()
        silence(sys.stdout)
        raise click.exceptions.Exit(INTERRUPTED) from None


@contextmanager
def progress_shown() -> Iterator[None]:
    """While work goes on for longer than a moment, a bar on standard error; none where that is not a terminal."""
    if not sys.stderr.isatty():
        yield
        return
    from relatum.runtime.progress import listening

    try:
        with listening(_bar.hear):
            yield
    finally:
        _bar.close()


class _Bar:
    """A bar that appears once work has gone on for a moment, even if its last report was long ago."""

    def __init__(self) -> None:
        self.started = time.monotonic()
        self.lock = threading.Lock()
        self.timer: threading.Timer | None = None
        self.progress: Any = None
        self.task: Any = None
        self.latest = ("", 0, 0)

    def hear(self, what: str, done: int, total: int) -> None:
        """Note how far work has come."""
        with self.lock:
            what = visible(what)
            self.latest = (what, done, total)
            if self.progress is not None:
                self.progress.update(self.task, description=what, completed=done, total=total or None)
            elif self.timer is None:
                left = max(0.0, _MOMENT - (time.monotonic() - self.started))
                self.timer = threading.Timer(left, self._show)
                self.timer.daemon = True
                self.timer.start()

    def _show(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

        with self.lock:
            if self.timer is None:
                return
            columns = (
                SpinnerColumn(),
                TextColumn("{task.description}", markup=False),
                BarColumn(),
                TimeElapsedColumn(),
            )
            self.progress = Progress(*columns, console=Console(stderr=True), transient=True)
            what, done, total = self.latest
            self.task = self.progress.add_task(what, completed=done, total=total or None)
            self.progress.start()

    def close(self) -> None:
        """Remove the bar, so that the next output has a clean line."""
        with self.lock:
            if self.timer is not None:
                self.timer.cancel()
                self.timer = None
            if self.progress is not None:
                self.progress.stop()
                self.progress = None


_bar = _Bar()


def _origin(error: Exception) -> str:
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    if trace is None:
        return ""
    return f"It happened in {Path(trace.tb_frame.f_code.co_filename).name}, line {trace.tb_lineno}.\n"


def complain(text: str) -> None:
    """Print an error on standard error."""
    _bar.close()
    text = visible_lines(text)
    with _last_words():
        click.secho("error: ", fg="red", bold=True, nl=False, err=True)
        click.echo(_wrapped(text) if sys.stderr.isatty() else text, err=True)


@contextmanager
def _last_words() -> Iterator[None]:
    """Where standard error cannot be written either, nothing is left to say it with: the exit code does."""
    try:
        yield
    except OSError:
        silence(sys.stderr)


def _wrapped(text: str) -> str:
    # Sentences are broken between words; a formula and the carets below it stay as they are.
    width = max(shutil.get_terminal_size().columns - len("error: "), 20)
    return "\n".join(line if line.startswith("  ") else textwrap.fill(line, width) for line in text.splitlines())


def tell(text: str) -> None:
    """Print a message on standard error."""
    _bar.close()
    with _last_words():
        click.secho(visible_lines(text), dim=True, err=True)


def say(text: str) -> None:
    """Print a document on standard output as it is; where that is a terminal, what it would obey is shown as marks."""
    _bar.close()
    text = text if text.endswith("\n") else text + "\n"
    if sys.stdout.isatty():
        click.echo(visible_lines(text), nl=False)
    else:
        write_exactly(text)


def print_json(value: Any) -> None:
    """Print a value as JSON."""
    import msgspec

    # The only values that it does not know are read-only views of mappings.
    encoded = msgspec.json.Encoder(decimal_format="number", enc_hook=dict).encode(value)
    say(msgspec.json.format(encoded, indent=2).decode())


def console() -> Any:
    """A rich console on standard output; as wide as the terminal, 100 columns without one."""
    from relatum.present.printed import Terminal

    _bar.close()
    width = None if sys.stdout.isatty() or "COLUMNS" in os.environ else 100
    return Terminal(highlight=False, markup=False, width=width, soft_wrap=False)


def paged(out: Any, draw: Callable[[Any], None]) -> None:
    """Draw on a console; output longer than an interactive terminal goes to its pager."""
    if not out.is_terminal:
        draw(out)
        return
    with out.capture() as captured:
        draw(out)
    text = captured.get()
    if text.count("\n") < out.height:
        sys.stdout.write(text)
        return
    # Colours are passed on, and what fits one screen after all is just shown.
    os.environ.setdefault("LESS", "-RFX")
    import pydoc

    pydoc.pager(text)


def refuse_over(out: Path, file: Path, model: Declaration) -> None:
    """Raise a ModelError where a result would be written over the model, or into what a table is read from."""
    from relatum.errors import ModelError

    folder = file.resolve().parent
    sources = [(f"the source of the table {each.name}", each.source) for each in model.tables.values() if each.source]
    sources += [("the theme of the model", model.theme_source)] * bool(model.theme_source)
    owners = [("the model itself", file), *((what, folder / source) for what, source in sources)]
    for what, path in owners:
        if _holds(path, out):
            raise ModelError(
                f"This is {what}, or inside it, so nothing was written.", path=out, fix="Name another file."
            )


def refuse_over_data(out: Path, data: Sequence[str]) -> None:
    """Raise a ModelError where a model would be written over data: a file of it, whatever its name."""
    from relatum.errors import ModelError

    for each in map(Path, data):
        # A model may be in the folder of its data.
        files = [path for path in each.iterdir() if path.suffix != ".toml"] if each.is_dir() else [each]
        if any(path.is_file() and _holds(path, out) for path in files):
            raise ModelError(
                "This is a data file and will not be overwritten with a model.", path=out, fix="Name another file."
            )


def _holds(path: Path, out: Path) -> bool:
    """Whether a file is what a path names: the file itself by whatever name, or one that a folder or pattern holds."""
    try:
        if "*" in path.name:
            return out.resolve().parent == path.parent.resolve() and is_named_by(out.name, path.name)
        if path.is_dir():
            return out.resolve().parent == path.resolve()
        return path.exists() and out.exists() and path.samefile(out)
    except (OSError, RuntimeError, ValueError):
        return False  # no path that anything can be written to: the writing says so
