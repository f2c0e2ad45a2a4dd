"""One request to an address that takes webhooks, as the Standard Webhooks specification says (version 1.0.0).

The address is a person's, and the request goes out from within the installation's network: names are resolved once,
what they resolve to must be public, and it is that very address that is connected to. No redirect is followed.
"""

import http.client
import ipaddress
import os
import socket
import ssl
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import SplitResult, urlsplit

from standardwebhooks import Webhook

from kind_echo import __version__
from kind_echo.core.registry.errors import BadParameter

PRIVATE_VARIABLE = "KIND_ECHO_NOTICES_PRIVATE"
"""Set to anything: addresses within one's own network, and without encryption, are allowed."""

GONE = 410
"""The status by which a receiver says that it wants nothing more."""

_SECONDS = 15.0
_MOST_BYTES = 2000  # of an answer
_PORTS = {"https": 443, "http": 80}


@dataclass(frozen=True)
class Answer:
    """What came back: a status with the beginning of its text, or no status and why there is none."""

    status: int | None
    text: str

    @property
    def taken(self) -> bool:
        """The receiver has it."""
        return self.status is not None and 200 <= self.status < 300


def check_address(address: str) -> None:
    """Raises BadParameter for an address that no notice may go to; a name is looked up only when one is sent."""
    parts = _split(address)
    allowed = ("https", "http") if _private_allowed() else ("https",)
    if parts is None or parts.scheme not in allowed or not parts.hostname or parts.username or parts.password:
        raise BadParameter("address", address, f"an address that begins with {' or '.join(f'{a}://' for a in allowed)}")
    try:
        number = ipaddress.ip_address(parts.hostname)
    except ValueError:
        return
    if not _may_reach(number):
        raise BadParameter("address", address, f"a public address, unless {PRIVATE_VARIABLE} is set on the server")


def post(address: str, secret: str, number: str, body: str, now: datetime) -> Answer:
    """Send a body, signed. Args: number: of the notice, the same each time that it is tried."""
    parts = _split(address)
    assert parts is not None
    try:
        check_address(address)
        place = _resolve(parts)
    except (BadParameter, OSError, UnicodeError) as error:
        return Answer(None, str(error))
    headers = signed_headers(secret, number, body, now) | {
        "Content-Type": "application/json", "User-Agent": f"kind-echo/{__version__}", "Connection": "close",
    }  # fmt: skip
    return _ask(parts, place, body.encode(), headers)


def signed_headers(secret: str, number: str, body: str, now: datetime) -> dict[str, str]:
    """The headers that say which notice it is, when it was sent, and that it is ours."""
    # The library takes the clock's figures for UTC, whatever zone stands beside them.
    signature = Webhook(secret).sign(number, now.astimezone(UTC), body)
    return {
        "webhook-id": number, "webhook-timestamp": str(int(now.timestamp())), "webhook-signature": signature,
    }  # fmt: skip


def _ask(parts: SplitResult, place: str, body: bytes, headers: Mapping[str, str]) -> Answer:
    host, port = parts.hostname or "", parts.port or _PORTS[parts.scheme]
    path = f"{parts.path or '/'}{f'?{parts.query}' if parts.query else ''}"
    connection = _to(parts.scheme, host, port, place)
    try:
        connection.request("POST", path, body, dict(headers))
        response = connection.getresponse()
        text = response.read(_MOST_BYTES).decode("utf-8", "replace")
        return Answer(response.status, text)
    except (OSError, http.client.HTTPException, ValueError) as error:
        return Answer(None, str(error) or type(error).__name__)
    finally:
        connection.close()


def _to(scheme: str, host: str, port: int, place: str) -> http.client.HTTPConnection:
    """A connection to the address that was looked up, under the name that it was looked up by."""
    if scheme == "https":
        secure = http.client.HTTPSConnection(host, port, timeout=_SECONDS)

        def connect_securely() -> None:
            plain = socket.create_connection((place, port), _SECONDS)
            secure.sock = ssl.create_default_context().wrap_socket(plain, server_hostname=host)

        secure.connect = connect_securely  # type: ignore[method-assign]
        return secure
    connection = http.client.HTTPConnection(host, port, timeout=_SECONDS)

    def connect() -> None:
        connection.sock = socket.create_connection((place, port), _SECONDS)

    connection.connect = connect  # type: ignore[method-assign]
    return connection


def _resolve(parts: SplitResult) -> str:
    """The first address of a name. Raises BadParameter where any of them may not be reached, OSError for no name."""
    host = parts.hostname or ""
    found = socket.getaddrinfo(host, parts.port or _PORTS[parts.scheme], type=socket.SOCK_STREAM)
    places = [str(one[4][0]) for one in found]
    for place in places:
        if not _may_reach(ipaddress.ip_address(place.partition("%")[0])):
            raise BadParameter("address", host, f"a name of public addresses, and it is that of {place}")
    return places[0]


def _may_reach(number: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    if _private_allowed():
        return True
    inner = number.ipv4_mapped if isinstance(number, ipaddress.IPv6Address) else None
    return (inner or number).is_global and not (inner or number).is_multicast


def _private_allowed() -> bool:
    return bool(os.environ.get(PRIVATE_VARIABLE))


def _split(address: str) -> SplitResult | None:
    try:
        parts = urlsplit(address)
        parts.port  # noqa: B018 - reading it is what refuses one that is no number
    except ValueError:
        return None
    plain = address.isascii() and address.isprintable() and " " not in address
    return parts if plain and len(address) <= 2000 else None
