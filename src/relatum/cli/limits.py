"""What every command has: ``--limit-…`` in place of the limits that the model states, and errors as sentences."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from typing import Annotated, Any, Optional

import typer

from relatum.cli.output import errors_as_sentences
from relatum.limits import LIMITS, Limit, limited

_METAVAR = {"count": "NUMBER", "size": "SIZE", "time": "TIME"}


def with_limits(command: Callable[..., None]) -> Callable[..., None]:
    """A command with an option for each limit, whose errors are printed as sentences."""
    signature = inspect.signature(command, eval_str=True)

    @functools.wraps(command)
    def bounded(**given: Any) -> None:
        stated = {name: given.pop(_parameter(name)) for name in LIMITS}
        with errors_as_sentences(), limited(**{name: text for name, text in stated.items() if text is not None}):
            command(**given)

    options = [
        inspect.Parameter(
            _parameter(name), inspect.Parameter.KEYWORD_ONLY, default=None, annotation=_option(name, each)
        )
        for name, each in LIMITS.items()
    ]
    own = [each.replace(kind=inspect.Parameter.KEYWORD_ONLY) for each in signature.parameters.values()]
    bounded.__signature__ = signature.replace(parameters=[*own, *options])  # type: ignore[attr-defined]
    return bounded


def _parameter(name: str) -> str:
    return f"limit_{name}"


def _option(name: str, each: Limit) -> Any:
    described = typer.Option(
        f"--limit-{name}",
        metavar=_METAVAR[each.kind],
        help=f"Limit: {each.bounds}.",
        show_default=False,
        rich_help_panel="Limits",
    )
    return Annotated[Optional[str], described]  # noqa: UP045 - typer reads this at run time
