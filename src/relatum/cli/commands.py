"""What commands are made of: a model file, an output format, an engine, limits, and help in sections."""

from __future__ import annotations

import functools
import inspect
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, Literal

import click

from relatum.cli.output import errors_as_sentences, tell
from relatum.runtime.limits import LIMITS, limited
from relatum.runtime.progress import noting_scans
from relatum.wording import counted

Format = Literal["text", "json"]

#: The type of an argument or option that is a path.
PATH = click.Path(path_type=Path)

model_file = click.argument("file", metavar="FILE", type=PATH, help="The model, a TOML file.")
format_option = click.option(
    "--format", default="text", type=click.Choice(["text", "json"]), show_default=True, help="The output format."
)

#: What a pivot is asked, as options: those of every command that asks one.
_REQUEST = (
    click.argument("name", default="", metavar="[NAME]", help="A saved pivot; options replace parts of it."),
    click.option(
        "--rows",
        multiple=True,
        metavar="FIELDS",
        help="The row fields: 'category.department by revenue desc, product.plant top 5 with others'.",
    ),
    click.option("--columns", multiple=True, metavar="FIELDS", help="The column fields, in the same form as --rows."),
    click.option(
        "--values",
        multiple=True,
        metavar="VALUES",
        help="Measures or formulas, separated by commas or by repeating the option; 'label: formula' names one.",
    ),
    click.option("--where", metavar="CONDITION", help="Only rows that meet this condition."),
    click.option(
        "--keep", multiple=True, metavar="KEEP", help="Which members to keep: 'customer where revenue > 1000'."
    ),
)
_METAVARS = {"count": "NUMBER", "size": "SIZE", "time": "TIME"}


class Command(click.Command):
    """A command whose help lists the limits in a separate section, and whose first line appears in lists."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options, then the limits."""
        options = [each for each in self.get_params(ctx) if isinstance(each, click.Option)]
        for heading, shown in (
            ("Options", [each for each in options if not _is_limit(each)]),
            ("Limits", [each for each in options if _is_limit(each)]),
        ):
            records = [record for each in shown if (record := each.get_help_record(ctx)) is not None]
            if records:
                with formatter.section(heading):
                    formatter.write_dl(records)


def _is_limit(option: click.Option) -> bool:
    return any(name.startswith("--limit-") for name in option.opts)


def request_options(function: Callable[..., None]) -> Callable[..., None]:
    """A command that takes a saved pivot's name, and the parts of a request."""
    for option in reversed(_REQUEST):
        function = option(function)
    return function


def command(function: Callable[..., None]) -> click.Command:
    """A command with an option for each limit, whose errors are printed as sentences."""
    return _made(_limited(function), function, _limit_options())


def opening_command(function: Callable[..., None]) -> click.Command:
    """A command that opens a model: also with ``--engine`` and ``--timing``."""
    return _made(_limited(_on_engine(function)), function, [*_engine_options(), *_limit_options()])


def _made(callback: Callable[..., None], function: Callable[..., None], more: Iterable[click.Option]) -> click.Command:
    made = click.command(cls=Command, short_help=inspect.getdoc(function).partition("\n")[0])(callback)  # type: ignore[union-attr]
    made.params += more
    return made


def _limited(function: Callable[..., None]) -> Callable[..., None]:
    @functools.wraps(function)
    def bounded(*context: Any, **given: Any) -> None:
        stated = {name: given.pop(f"limit_{name}") for name in LIMITS}
        with errors_as_sentences(), limited(**{name: text for name, text in stated.items() if text is not None}):
            function(*context, **given)

    return bounded


def _limit_options() -> list[click.Option]:
    return [
        click.Option(
            [f"--limit-{name}"], metavar=_METAVARS[each.kind], help=f"Maximum {each.bounds.removeprefix('of ')}."
        )
        for name, each in LIMITS.items()
    ]


def _on_engine(function: Callable[..., None]) -> Callable[..., None]:
    @functools.wraps(function)
    def elsewhere(engine: str | None = None, timing: bool = False, **given: Any) -> None:
        from relatum.session.engine_choice import asked_of

        start = time.perf_counter()
        with asked_of(engine) as connections, noting_scans() as scans:
            function(**given)
        if timing:
            lines = [f"{time.perf_counter() - start:.2f} s"]
            lines += [f"{each.kind}: {counted(each.questions, 'question')}, {counted(each.rows, 'row')} back, "
                     f"{each.seconds:.2f} s" for each in connections]  # fmt: skip
            lines += scans
            tell("\n".join(lines))

    return elsewhere


def _engine_options() -> list[click.Option]:
    return [
        click.Option(
            ["--engine"],
            metavar="ENGINE",
            help="Where the tables live: memory, duckdb, postgresql, spark, an address.",
        ),
        click.Option(
            ["--timing"], is_flag=True, help="Show how long it took, and how tables were scanned or engines asked."
        ),
    ]
