"""The address of a PostgreSQL server: read by rules of our own, and rewritten for the driver."""

from __future__ import annotations

import re
from urllib.parse import quote, unquote

from relatum.errors import SourceError

#: What an address may say beside where the server is: nothing that names a file, a user or another server.
_PARAMETERS = frozenset({"application_name", "connect_timeout", "sslmode", "target_session_attrs"})
#: A password is never sent as it is: whoever wrote the file would read it.
_ALWAYS = {"require_auth": "!password", "connect_timeout": "10"}
#: Several hosts with their ports, a database, settings. Anything the driver would read differently is refused.
_ADDRESS = re.compile(
    r"(?:postgresql|postgres)://(?P<hosts>[A-Za-z0-9._:,\[\]-]*)(?:/(?P<base>[^/?#&=\s]*))?(?:\?(?P<said>[^?#]*))?",
    re.IGNORECASE,
)
_VALUE = re.compile(r"[\w .-]*")


def plain_address(address: str, shown: str) -> str:
    """An address as the driver is handed it: host, port, database and a few settings, and nothing else.

    Parameters
    ----------
    address : str
        What a model or a person says: ``postgresql://host:port/database``.
    shown : str
        The address for messages.

    Raises
    ------
    SourceError
        It says more than where the server is, or it is not an address.

    Examples
    --------
    >>> plain_address("postgresql://127.0.0.1:5432/shop?sslmode=require", "shop")
    'postgresql://127.0.0.1:5432/shop?require_auth=%21password&connect_timeout=10&sslmode=require'
    """
    found = _ADDRESS.fullmatch(address)
    said = [each.partition("=") for each in (found["said"] or "").split("&") if each] if found else []
    names = [unquote(name) for name, _, _ in said]
    if "@" in address.partition("?")[0] or {"user", "password"} & set(names):
        raise SourceError(
            "The address holds a user or password, and a model file must not contain them.",
            path=shown,
            fix="Leave them out and set the environment variables PGUSER and PGPASSWORD.",
        )
    wrong = next((name for name in names if name not in _PARAMETERS), "")
    settings = {unquote(name): unquote(value) for name, _, value in said}
    base = unquote(found["base"] or "") if found is not None else ""
    if wrong or found is None or not all(map(_VALUE.fullmatch, settings.values())) or "\0" in base:
        raise SourceError(
            f"The address sets {wrong}, which a model file may not."
            if wrong
            else "Invalid address: expected postgresql://host:port/database.",
            path=shown,
            fix=f"It may set {', '.join(sorted(_PARAMETERS))}; set anything else in the environment.",
        )
    written = "&".join(f"{name}={quote(value, safe='')}" for name, value in {**_ALWAYS, **settings}.items())
    return f"postgresql://{found['hosts']}/{quote(base, safe='')}?{written}"
