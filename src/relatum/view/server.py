"""The live page over HTTP, for the person at this machine alone.

Only the loopback address is listened on. Everything but the empty page needs the token of this start, which the page
takes from the fragment of its address (fragments are never sent) and sends in a header. Host and Origin are checked, so
that another site, or a name that was made to lead here, reaches nothing.
"""

from __future__ import annotations

import asyncio
import hmac
import secrets
import socket
import threading
from collections.abc import Awaitable, Callable
from contextlib import nullcontext
from typing import Any

import msgspec
import uvicorn
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import ClientDisconnect, Request
from starlette.responses import HTMLResponse, PlainTextResponse, Response
from starlette.routing import Route

from relatum.present.page.write import live_html
from relatum.view.host import Host
from relatum.view.protocol import MOST_BYTES, Call, Progress, Reply, Stop, read_call

TOKEN_HEADER = "x-relatum-token"
#: How many questions are answered at once, and how many may wait; more are refused.
MOST_AT_ONCE, MOST_WAITING = 4, 64
#: How often it is looked whether the page still wants an answer, in seconds.
_LOOK = 0.1
_HEADERS = {
    "cache-control": "no-store",
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "cross-origin-resource-policy": "same-origin",
    "cross-origin-opener-policy": "same-origin",
    "x-frame-options": "DENY",
}


class Server:
    """A live page on a port of this machine.

    Parameters
    ----------
    host : Host
        Answers the page.
    port : int
        The port; 0 takes a free one.
    """

    def __init__(self, host: Host, port: int = 0) -> None:
        self.host = host
        self.token = secrets.token_urlsafe(32)
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self._socket.bind(("127.0.0.1", port))
        except OSError:
            self._socket.close()
            raise
        self.port: int = self._socket.getsockname()[1]
        declaration = host.live.declaration
        page, rule = live_html(declaration.name, declaration.locale, declaration.theme)
        self._page = HTMLResponse(page, headers={**_HEADERS, "content-security-policy": rule})
        self._waiting = 0
        self._gate = asyncio.Semaphore(MOST_AT_ONCE)
        routes = [Route("/", self._root, methods=["GET"]), Route("/ask", self._ask, methods=["POST"])]
        app = Starlette(routes=routes, exception_handlers={404: _unknown, 405: _unknown})
        config = uvicorn.Config(
            _guarded(app, self.port),
            log_config=None,
            log_level="critical",
            access_log=False,
            server_header=False,
            lifespan="off",
            timeout_graceful_shutdown=0,
            limit_concurrency=MOST_WAITING * 8,
            h11_max_incomplete_event_size=1 << 16,
        )
        self._server = _Quiet(config)

    @property
    def address(self) -> str:
        """Where the page is, with the token of this start."""
        return f"http://127.0.0.1:{self.port}/#token={self.token}"

    def run(self) -> None:
        """Serve until :meth:`stop`."""
        self._server.run(sockets=[self._socket])

    def stop(self) -> None:
        """Stop serving, and every question."""
        self.host.stop_all()
        self._server.should_exit = True
        self._server.force_exit = True

    def in_background(self) -> threading.Thread:
        """Serve in a thread, and return once the page can be opened."""
        thread = threading.Thread(target=self.run, daemon=True, name="relatum-view")
        thread.start()
        while not self._server.started and thread.is_alive():
            thread.join(0.01)
        return thread

    # -- what is served -----------------------------------------------------------------------------------------------

    async def _root(self, request: Request) -> Response:
        return self._page

    async def _ask(self, request: Request) -> Response:
        if not hmac.compare_digest(request.headers.get(TOKEN_HEADER, "").encode(), self.token.encode()):
            return _refused(403, "This page was not opened with the address that relatum view printed.")
        if request.headers.get("content-type", "").partition(";")[0].strip() != "application/json":
            return _refused(415, "A message is sent as application/json.")
        try:
            body = await _body(request)
        except ClientDisconnect:
            return _refused(400, "The page has gone.")
        if body is None:
            return _refused(413, f"A message has at most {MOST_BYTES:,} bytes.")
        try:
            call = read_call(body)
        except (msgspec.DecodeError, RecursionError) as error:
            return _refused(400, f"This is not a message: {error}")
        if isinstance(call.message, Stop | Progress):
            return _sent(self.host.answer(call))
        if self._waiting >= MOST_WAITING:
            return _refused(429, "Too many questions are waiting.")
        self._waiting += 1
        try:
            async with self._gate:
                return _sent(await self._answered(call, request))
        finally:
            self._waiting -= 1

    async def _answered(self, call: Call, request: Request) -> Reply:
        """The reply, worked out in a thread; a question whose page has gone is stopped."""
        work = asyncio.ensure_future(run_in_threadpool(self.host.answer, call))
        while True:
            done, _ = await asyncio.wait({work}, timeout=_LOOK)
            if done:
                return work.result()
            if await request.is_disconnected():
                self.host.stop(call.number)


class _Quiet(uvicorn.Server):
    """A server that leaves the signals of its process alone."""

    def capture_signals(self) -> Any:
        """Catch none."""
        return nullcontext()


async def _body(request: Request) -> bytes | None:
    """The body of a request; None where it is too large, as soon as that is known."""
    parts, size = [], 0
    async for part in request.stream():
        size += len(part)
        if size > MOST_BYTES:
            return None
        parts.append(part)
    return b"".join(parts)


def _sent(reply: Reply) -> Response:
    return Response(msgspec.json.encode(reply), media_type="application/json", headers=_HEADERS)


def _refused(status: int, why: str) -> Response:
    return PlainTextResponse(why + "\n", status, headers={**_HEADERS, "content-security-policy": "default-src 'none'"})


async def _unknown(request: Request, error: Exception) -> Response:
    return _refused(getattr(error, "status_code", 404), "There is nothing here.")


_App = Callable[[Any, Any, Any], Awaitable[None]]


def _guarded(app: _App, port: int) -> _App:
    """The application for those who ask for this very address, from its own page."""
    names = {f"127.0.0.1:{port}", f"localhost:{port}"}
    origins = {f"http://{name}" for name in names}

    async def guarded(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        headers = [(name.decode("latin-1").lower(), value.decode("latin-1")) for name, value in scope["headers"]]
        hosts = [value for name, value in headers if name == "host"]
        asked_from = [value for name, value in headers if name == "origin"]
        site = [value for name, value in headers if name == "sec-fetch-site"]
        if len(hosts) != 1 or hosts[0] not in names:
            await _refused(421, "This address is not served here.")(scope, receive, send)
        elif any(each not in origins for each in asked_from) or any(each not in _SITES for each in site):
            await _refused(403, "Another site may not ask here.")(scope, receive, send)
        else:
            await app(scope, receive, send)

    return guarded


#: Where a browser says that a request comes from: the page itself, or a person who opened the address.
_SITES = ("same-origin", "none")
