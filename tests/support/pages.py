"""The documents' examples: found, run and compared. ``python tests/support/pages.py`` writes what they print now into them."""

from __future__ import annotations

import contextlib
import doctest
import io
import os
import re
import shlex
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from click.testing import CliRunner

from awkward import write_awkward
from relatum.cli.main import app
from relatum.demo.write import write_demo
from relatum.errors import RelatumError
from relatum.language.register import AGGREGATES, NARROWED, RANKINGS, SCALARS, SHORTHANDS

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
_BLOCK = re.compile(r"^```(python|console)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
_FUNCTIONS = re.compile(r"(<!-- functions -->\n).*?(<!-- end of functions -->)", re.DOTALL)


@dataclass(frozen=True)
class Example:
    """One example with its output."""

    kind: str
    source: str
    printed: str


def examples(block: re.Match[str]) -> Iterator[Example]:
    """The examples of one block."""
    if block[1] == "python":
        for each in doctest.DocTestParser().get_examples(block[2]):
            yield Example("python", each.source, each.want)
    else:
        for part in re.split(r"^\$ ", block[2], flags=re.MULTILINE)[1:]:
            command, _, printed = part.partition("\n")
            yield Example("console", command, printed)


def output_of(example: Example, names: dict[str, Any]) -> str:
    """What an example prints: the value or output, or the error's sentences."""
    if example.kind == "console":
        result = CliRunner().invoke(app, shlex.split(example.source)[1:], env={"COLUMNS": "100"})
        return _plain(result.stdout)
    buffer = io.StringIO()
    with contextlib.redirect_stdout(buffer):
        try:
            exec(compile(example.source, "example", "single"), names)
        except RelatumError as error:
            print(f"{type(error).__name__}: {error}")
    return _plain(buffer.getvalue())


def _plain(text: str) -> str:
    lines = [line.rstrip() for line in text.splitlines()]
    return "".join(f"{line}\n" for line in lines)


def rewritten(page: str) -> str:
    """A page with its examples' output, and the table of functions, as they are now."""
    names: dict[str, Any] = {}

    def block(match: re.Match[str]) -> str:
        lines = [f"```{match[1]}\n"]
        found = list(examples(match))
        for example in found:
            if example.kind == "console":
                lines.append(f"$ {example.source}\n")
            else:
                first, *rest = example.source.splitlines()
                lines += [f">>> {first}\n", *(f"... {line}\n" for line in rest)]
            # A blank line would end the expected output of a doctest.
            printed = output_of(example, names)
            lines.append(
                printed if example.kind == "console" else re.sub(r"^$", "<BLANKLINE>", printed.rstrip("\n"), flags=re.M)
            )
            if example.kind == "python" and printed:
                lines.append("\n")
            elif example.kind == "python":
                lines.pop()
        return "".join(lines) + ("\n" if match[1] == "python" else "") + "```"

    return _FUNCTIONS.sub(lambda match: match[1] + function_tables() + match[2], _BLOCK.sub(block, page))


def function_tables() -> str:
    """The register as tables."""
    groups = {
        "Aggregates": [
            (record.signature, record.about)
            for record in [*AGGREGATES.values(), *RANKINGS.values(), NARROWED]
            if record.signature
        ],
        "Functions of one row or cell": [
            (record.signature, record.about)
            for name, record in SCALARS.items()
            if "(" in record.signature and name != "in"
        ],
        "Written for another formula": [
            (each.signature, f"{each.about} Short for `{each.stands_for}`.") for each in SHORTHANDS
        ],
        "Operators": [
            (record.signature, record.about)
            for name, record in SCALARS.items()
            if record.signature and ("(" not in record.signature or name == "in")
        ],
    }
    parts = []
    for title, records in groups.items():
        rows = "".join(f"| `{signature.replace('|', chr(92) + '|')}` | {about} |\n" for signature, about in records)
        parts.append(f"\n### {title}\n\n| written | value |\n|---|---|\n{rows}")
    return "".join(parts) + "\n"


@contextlib.contextmanager
def beside_the_demo() -> Iterator[None]:
    """A folder with the demo in it, as ``relatum demo hollowmere`` leaves it."""
    here = Path.cwd()
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder) / "hollowmere")
        write_awkward(Path(folder) / "ferries")
        os.chdir(folder)
        columns = os.environ.get("COLUMNS")
        os.environ["COLUMNS"] = "100"
        try:
            yield
        finally:
            os.chdir(here)
            os.environ.pop("COLUMNS")
            if columns is not None:
                os.environ["COLUMNS"] = columns


def main() -> int:
    """Write every page again."""
    with beside_the_demo():
        for page in PAGES:
            page.write_text(rewritten(page.read_text("utf-8")), "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
