"""``--limit-…``: the limits that a command is given, in place of those that the model states."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from typing import Annotated, Any, Optional

import typer

from relatum.limits import LIMITS, limited

_UNITS = {"file": "SIZE", "model": "SIZE", "memory": "SIZE", "time": "TIME"}


def with_limits(command: Callable[..., None]) -> Callable[..., None]:
    """A command with an option for each limit."""
    signature = inspect.signature(command, eval_str=True)

    @functools.wraps(command)
    def bounded(**given: Any) -> None:
        from relatum.cli.output import errors_as_sentences

        stated = {name: given.pop(_parameter(name)) for name in LIMITS}
        with errors_as_sentences(), limited(**{name: text for name, text in stated.items() if text is not None}):
            command(**given)

    options = [
        inspect.Parameter(
            _parameter(name), inspect.Parameter.KEYWORD_ONLY, default=None, annotation=_option(name, what)
        )
        for name, (what, _) in LIMITS.items()
    ]
    own = [each.replace(kind=inspect.Parameter.KEYWORD_ONLY) for each in signature.parameters.values()]
    bounded.__signature__ = signature.replace(parameters=[*own, *options])  # type: ignore[attr-defined]
    return bounded


def _parameter(name: str) -> str:
    return f"limit_{name}"


def _option(name: str, what: str) -> Any:
    described = typer.Option(
        f"--limit-{name}",
        metavar=_UNITS.get(name, "NUMBER"),
        help=f"At most {'this much' if name in _UNITS else 'so many'} {what}.",
        show_default=False,
        rich_help_panel="Limits",
    )
    return Annotated[Optional[str], described]  # noqa: UP045 - typer reads this at run time
