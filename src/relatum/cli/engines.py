"""What commands that open a model have: where its tables live, and how long that took."""

from __future__ import annotations

import functools
import inspect
import time
from collections.abc import Callable
from typing import Annotated, Any, Optional

import typer

from relatum.cli.output import tell
from relatum.wording import counted

EngineOption = Annotated[
    Optional[str],  # noqa: UP045 - typer reads this at run time
    typer.Option(
        "--engine",
        metavar="ENGINE",
        help="Where the tables live: memory, duckdb, postgresql, spark, or an address: shop.duckdb, "
        "postgresql://localhost/shop.",
        show_default=False,
    ),
]
TimingOption = Annotated[
    bool, typer.Option("--timing", help="Show how long it took, and what was asked of the engine.")
]


def with_engine(command: Callable[..., None]) -> Callable[..., None]:
    """A command with ``--engine`` and ``--timing``; connections to engines are closed when it ends."""
    signature = inspect.signature(command, eval_str=True)

    @functools.wraps(command)
    def elsewhere(engine: str | None = None, timing: bool = False, **given: Any) -> None:
        from relatum.session.place import asked_of

        start = time.perf_counter()
        with asked_of(engine) as connections:
            command(**given)
        if timing:
            told = [f"{time.perf_counter() - start:.2f} s"]
            told += [f"{each.kind}: {counted(each.questions, 'question')}, {counted(each.rows, 'row')} back, "
                     f"{each.seconds:.2f} s" for each in connections]  # fmt: skip
            tell("\n".join(told))

    keyword = inspect.Parameter.KEYWORD_ONLY
    options = [
        inspect.Parameter("engine", keyword, default=None, annotation=EngineOption),
        inspect.Parameter("timing", keyword, default=False, annotation=TimingOption),
    ]
    own = [each.replace(kind=keyword) for each in signature.parameters.values()]
    elsewhere.__signature__ = signature.replace(parameters=[*own, *options])  # type: ignore[attr-defined]
    return elsewhere
