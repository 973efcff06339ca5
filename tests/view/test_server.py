"""The server of a live page: who may ask, how much, and what happens to everyone else."""

from __future__ import annotations

import http.client
import json
import logging
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from typing import Any

import psutil
import pyarrow as pa
import pytest

import relatum
from processes import started
from relatum.face.live_model import LiveModel
from relatum.view.host import Host
from relatum.view.server import MOST_WAITING, TOKEN_HEADER, Server

OPEN = b'{"number": 1, "message": {"kind": "open"}}'


@pytest.fixture(scope="module")
def served(nursery: relatum.Model) -> Iterator[Server]:
    server = Server(Host(LiveModel(nursery, editable=False)))
    thread = server.in_background()
    yield server
    server.stop()
    thread.join(5)


def sent(
    server: Server, method: str = "POST", path: str = "/ask", body: bytes = OPEN, **headers: str | None
) -> tuple[int, bytes, Any]:
    """A request as our own page makes it, but for some headers; None leaves one out."""
    own: dict[str, str | None] = {
        "host": f"127.0.0.1:{server.port}",
        "content-type": "application/json",
        TOKEN_HEADER: server.token,
    }
    # Closed in any case: one that was refused at the door would be found open by a later test.
    with closing(http.client.HTTPConnection("127.0.0.1", server.port, timeout=20)) as connection:
        connection.putrequest(method, path, skip_host=True, skip_accept_encoding=True)
        for name, value in {**own, **{name.replace("_", "-"): value for name, value in headers.items()}}.items():
            if value is not None:
                connection.putheader(name, value)
        connection.putheader("content-length", str(len(body)))
        # In one piece: else a request that is refused for its headers is closed while its body is on its way, and the
        # answer to it lost.
        pieces: list[bytes] = []
        connection.send = pieces.append  # type: ignore[method-assign]
        connection.endheaders(body)
        connection.connect()
        connection.sock.sendall(b"".join(pieces))
        reply = connection.getresponse()
        return reply.status, reply.read(), reply.headers


def test_it_listens_on_this_machine_alone_and_serves_a_page_without_data(
    served: Server, nursery: relatum.Model
) -> None:
    listening = [
        each.laddr
        for each in psutil.Process().net_connections("tcp")
        if each.status == "LISTEN" and each.laddr.port == served.port
    ]
    assert [each.ip for each in listening] == ["127.0.0.1"]
    status, page, headers = sent(served, "GET", "/", b"", x_relatum_token=None)
    assert status == 200 and served.token.encode() not in page and b"sum(" not in page.split(b"<script>")[0]
    assert not any(name.encode() in page for name in nursery.declaration.measures if "_" in name)
    rule = headers["content-security-policy"]
    assert (
        "default-src 'none'" in rule
        and "script-src 'sha256-" in rule
        and "connect-src 'self'" in rule
        and "frame-ancestors 'none'" in rule
    )
    assert (
        "access-control-allow-origin" not in headers
        and headers["cache-control"] == "no-store"
        and headers["x-frame-options"] == "DENY"
    )


def test_our_own_page_is_answered(served: Server) -> None:
    status, body, headers = sent(served, origin=f"http://127.0.0.1:{served.port}", sec_fetch_site="same-origin")
    assert status == 200 and json.loads(body)["answer"]["model"] == "nursery"
    assert "access-control-allow-origin" not in headers and "server" not in headers


@pytest.mark.parametrize(("status", "headers"), [
    (403, {"x_relatum_token": None}),
    (403, {"x_relatum_token": ""}),
    (403, {"x_relatum_token": "a" * 43}),
    (403, {"x_relatum_token": "\xe9" * 43}),
    (403, {"origin": "http://elsewhere.example"}),
    (403, {"origin": "null"}),
    (403, {"origin": "https://127.0.0.1"}),
    (403, {"sec_fetch_site": "cross-site"}),
    (403, {"sec_fetch_site": "same-site"}),
    (421, {"host": "elsewhere.example"}),
    (421, {"host": "127.0.0.1"}),
    (421, {"host": "127.0.0.1.elsewhere.example"}),
    (421, {"host": None}),
    (415, {"content_type": "text/plain"}),
    (415, {"content_type": None}),
])  # fmt: skip
def test_nobody_else_is_answered(served: Server, status: int, headers: dict[str, str | None]) -> None:
    found, body, told = sent(served, **headers)
    assert found in (status, 400) and b"nursery" not in body and b"answer" not in body
    assert "access-control-allow-origin" not in told


@pytest.mark.parametrize(("method", "path"), [
    ("GET", "/ask"), ("OPTIONS", "/ask"), ("PUT", "/ask"), ("POST", "/"), ("GET", "/nursery.toml"), ("GET", "/../../etc/passwd"),
    ("GET", "/%2e%2e/%2e%2e/etc/passwd"), ("GET", "/docs"), ("TRACE", "/"),
])  # fmt: skip
def test_there_is_nothing_else_to_ask_for(served: Server, method: str, path: str) -> None:
    status, body, _ = sent(served, method, path)
    assert status in (404, 405) and b"root:" not in body and b"answer" not in body


@pytest.mark.parametrize("body", [
    b"", b"{", b"null", b"[]", b'"x"', b'{"number": 1}', b'{"number": "1", "message": {"kind": "open"}}', b"\xff\xfe",
    b'{"number": 1, "message": {"kind": "shell", "text": "rm"}}', b'{"number": 1, "message": {"kind": "ask", "request": {"rows": "x"}}}',
    b'{"number": 1, "message": {"kind": "ask", "request": {"rows": [' + b"[" * 10_000 + b"]" * 10_000 + b"]}}}",
    b'{"number": ' + b"9" * 400 + b', "message": {"kind": "open"}}', b'{"number": 1, "message": {"kind": "block", "grid": 1e400, "rows": [0, 1], "columns": [0, 1]}}',
])  # fmt: skip
def test_what_is_no_message_is_refused(served: Server, body: bytes) -> None:
    status, told, _ = sent(served, body=body)
    assert status == 400 and b"not a message" in told and b"Traceback" not in told
    assert sent(served)[0] == 200


@pytest.mark.parametrize("message", [
    {"kind": "ask", "request": {"values": ["revenue"], "where": "<script>"}}, {"kind": "ask", "request": {"values": ["(" * 5000]}},
    {"kind": "ask", "request": {"values": ["revenue"], "style": [{"value": 3}]}}, {"kind": "block", "grid": -1, "rows": [0, 1], "columns": [0, 1]},
    {"kind": "block", "grid": 1, "rows": [-5, 2**62], "columns": [0, 1]}, {"kind": "members", "column": "customer.town", "first": -7, "count": -1},
    {"kind": "members", "column": "customer.town", "first": 2**62, "count": 5}, {"kind": "explain", "grid": 1, "cell": [2**40, -2]},
    {"kind": "behindfile", "grid": 1, "cell": [0, 0], "evidence": 0, "ending": "/../x.csv"}, {"kind": "export", "grid": 1, "ending": "../../x.csv"},
    {"kind": "relationship", "link": "a -> b"}, {"kind": "impact", "name": "\u0000"}, {"kind": "stop", "number": 5}, {"kind": "progress", "number": 5},
    {"kind": "change", "edit": {"edit": "remove", "name": "revenue"}}, {"kind": "save"}, {"kind": "read", "text": "rows " + "a," * 20_000},
])  # fmt: skip
def test_a_message_that_asks_too_much_is_told_so_and_nothing_breaks(
    served: Server, message: dict[str, Any], tmp_path: Path
) -> None:
    status, body, _ = sent(served, body=json.dumps({"number": 4, "message": message}).encode())
    reply = json.loads(body)
    assert status == 200 and reply["number"] == 4 and "bug in Relatum" not in str(reply)
    assert "answer" in reply or reply["fault"]["reason"]


def test_a_message_that_is_too_large_is_refused_before_it_is_read_whole(served: Server) -> None:
    status, told, _ = sent(served, body=b'{"number": 1, "message": {"kind": "open", "x": "' + b"x" * (2 << 20) + b'"}}')
    assert status == 413 and b"at most" in told


def test_a_thousand_at_once_are_answered_or_refused_and_the_page_goes_on(served: Server) -> None:
    body = json.dumps(
        {"number": 2, "message": {"kind": "ask", "request": {"rows": ["customer.town"], "values": ["revenue"]}}}
    ).encode()

    def ask(_: int) -> int:
        try:
            return sent(served, body=body)[0]
        except (OSError, http.client.HTTPException):
            return 0  # refused at the door

    with ThreadPoolExecutor(200) as pool:
        found = list(pool.map(ask, range(1000)))
    assert set(found) <= {200, 429, 503, 0} and found.count(200) >= MOST_WAITING
    assert sent(served)[0] == 200


def test_a_page_that_vanishes_stops_its_question() -> None:
    model = relatum.Model("long")
    model.add_table("t", pa.table({"a": list(range(200_000)), "b": [each % 500 for each in range(200_000)]}), key="a")
    host = Host(LiveModel(model))
    server = Server(host)
    thread = server.in_background()
    message = {"kind": "ask", "request": {"rows": ["t.b"], "values": ["sum(rank(sum(t.a) among t) per t.a)"]}}
    body = json.dumps({"number": 1, "message": message}).encode()
    with socket.create_connection(("127.0.0.1", server.port)) as own:
        head = f"POST /ask HTTP/1.1\r\nhost: 127.0.0.1:{server.port}\r\n{TOKEN_HEADER}: {server.token}\r\ncontent-type: application/json\r\ncontent-length: {len(body)}\r\n\r\n"
        own.sendall(head.encode() + body)
        end = time.monotonic() + 10
        while not host._questions and time.monotonic() < end:
            time.sleep(0.01)
        (question,) = host._questions.values()
    assert question.stopped.wait(5), "it goes on for nobody"
    server.stop()
    thread.join(5)


def test_half_a_request_holds_up_nobody(served: Server) -> None:
    held = [socket.create_connection(("127.0.0.1", served.port)) for _ in range(40)]
    for each in held:
        each.sendall(b"POST /ask HTTP/1.1\r\nhost: 127.0.0.1")
    assert sent(served)[0] == 200
    for each in held:
        each.close()


def test_the_token_is_in_no_log(
    nursery: relatum.Model, caplog: pytest.LogCaptureFixture, capfd: pytest.CaptureFixture[str]
) -> None:
    with caplog.at_level(logging.DEBUG):
        server = Server(Host(LiveModel(nursery, editable=False)))
        thread = server.in_background()
        sent(server)
        sent(server, path=f"/?token={server.token}", method="GET")
        sent(server, x_relatum_token=server.token + "x")
        server.stop()
        thread.join(5)
    out = capfd.readouterr()
    assert server.token not in caplog.text + out.out + out.err


# -- the command ------------------------------------------------------------------------------------------------------


def command(*arguments: str) -> list[str]:
    return [sys.executable, "-m", "relatum", "view", *arguments, "--no-browser"]


def test_the_command_prints_the_address_and_control_c_ends_it_within_a_second(hollowmere: Path) -> None:
    with started(
        command(str(hollowmere), "seasons"), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as process:
        address = process.stdout.readline().strip()
        place, token = address.split("/#token=")
        port = int(place.rsplit(":", 1)[1])
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        connection.request("POST", "/ask", OPEN, {"content-type": "application/json", TOKEN_HEADER: token})
        start = json.loads(connection.getresponse().read())["answer"]
        assert (
            start["can"] == {"edit": True, "save": True}
            and start["file"] == str(hollowmere)
            and start["start"]["rows"] == ["calendar.month"]
        )
        slow = {"rows": ["sales.order_no"], "values": ["sum(rank(revenue among sales.order_no) per sales.order_no)"]}
        connection.request(
            "POST",
            "/ask",
            json.dumps({"number": 2, "message": {"kind": "ask", "request": slow}}),
            {"content-type": "application/json", TOKEN_HEADER: token},
        )
        time.sleep(0.3)
        process.send_signal(signal.SIGINT)
        begin = time.monotonic()
        process.wait(10)
        assert time.monotonic() - begin < 1.5 and process.returncode == 130
        assert "Traceback" not in process.stderr.read()
        connection.close()


@pytest.mark.parametrize(("arguments", "told"), [
    (["nowhere.toml"], "nowhere.toml"), (["{file}", "no_pivot"], "Unknown saved pivot no_pivot"), (["{file}", "--port", "{port}"], "is in use"),
])  # fmt: skip
def test_the_command_says_what_is_wrong(hollowmere: Path, served: Server, arguments: list[str], told: str) -> None:
    filled = [each.format(file=hollowmere, port=served.port) for each in arguments]
    done = subprocess.run(
        command(*filled), capture_output=True, text=True, timeout=60, env={**os.environ, "COLUMNS": "200"}
    )
    assert done.returncode == 2 and told in done.stderr and "Traceback" not in done.stderr and not done.stdout


def test_the_command_says_what_to_install(hollowmere: Path) -> None:
    script = f"import sys; sys.modules['uvicorn'] = None; sys.argv = ['relatum', 'view', {str(hollowmere)!r}, '--no-browser']; from relatum.__main__ import main; main()"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, timeout=60)
    assert done.returncode == 2 and "uvicorn is not installed" in done.stderr and "relatum[view]" in done.stderr
