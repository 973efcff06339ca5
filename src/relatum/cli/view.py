"""``relatum view``."""

from __future__ import annotations

from pathlib import Path

import click

from relatum.cli.commands import model_file, opening_command
from relatum.cli.output import say, tell


@opening_command
@model_file
@click.argument("name", default="", metavar="[PIVOT]", help="The saved pivot to begin with (default: the first one).")
@click.option("--port", default=0, metavar="N", type=click.IntRange(0, 65535), help="The port (default: a free one).")
@click.option("--read-only", is_flag=True, help="Ask only: nothing of the model can be changed.")
@click.option("--no-browser", is_flag=True, help="Print the address and open no browser.")
def view(file: Path, name: str, port: int, read_only: bool, no_browser: bool) -> None:
    """Open a page in the browser: turn, chart, explain and edit.

    Only this machine can reach it, with the address that is printed. Ctrl-C ends it.

    Example: relatum view hollowmere/nursery.toml by_category
    """
    import webbrowser

    import relatum
    from relatum.errors import RelatumError
    from relatum.face.live_model import LiveModel
    from relatum.runtime.garbage import look_as_usual
    from relatum.view.host import Host, first_request

    try:
        from relatum.view.server import Server
    except ModuleNotFoundError as error:
        raise RelatumError(f"{error.name} is not installed.", fix="pip install 'relatum[view]'") from None
    live = LiveModel(relatum.open(file), file, editable=not read_only)
    host = Host(live, first_request(live, name))
    try:
        server = Server(host, port)
    except OSError:
        raise RelatumError(f"Port {port} is in use.", fix="Name another one, or leave out --port.") from None
    look_as_usual()
    thread = server.in_background()
    say(server.address)
    tell("Ctrl-C ends it.")
    if not no_browser:
        webbrowser.open(server.address)
    try:
        while thread.is_alive():
            thread.join(0.2)
    except KeyboardInterrupt:
        server.stop()
        thread.join(0.5)
        raise
