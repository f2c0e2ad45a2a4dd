"""Asking a server of Kind Echo with a token, which comes from the environment or from a file of its owner alone."""

import http.client
import json
import os
import shutil
import urllib.error
import urllib.request
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click

from kind_echo.cli.exits import NoAnswer
from kind_echo.core.registry.errors import KindEchoError

TOKEN_VARIABLE, TOKEN_FILE_VARIABLE = "KIND_ECHO_TOKEN", "KIND_ECHO_TOKEN_FILE"
SERVER_VARIABLE = "KIND_ECHO_SERVER"
_SECONDS = 120.0
_PIECE = 1 << 20


class Refused(KindEchoError):
    """A server answers, and says no; `status` is that of HTTP."""

    def __init__(self, status: int, detail: str) -> None:
        self.status = status
        super().__init__(detail)


def read_token() -> str:
    """The token. Raises ClickException where there is none, or where its file can be read by others."""
    token = os.environ.get(TOKEN_VARIABLE)
    if token:
        return token.strip()
    named = os.environ.get(TOKEN_FILE_VARIABLE)
    if not named:
        raise click.ClickException(f"set {TOKEN_VARIABLE}, or {TOKEN_FILE_VARIABLE} to a file that holds it")
    path = Path(named)
    try:
        if path.stat().st_mode & 0o077:
            raise click.ClickException(f"{path} can be read by others; chmod 600 it")
        return path.read_text().strip()
    except OSError as error:
        raise click.ClickException(f"{path} cannot be read ({error.strerror})") from error


class Server:
    """A server, asked with a token."""

    def __init__(self, address: str, token: str) -> None:
        if not address.startswith(("http://", "https://")):
            raise click.BadParameter(f"{address} is no address that begins with http:// or https://")
        self.address, self._token = address.rstrip("/"), token

    def get(self, path: str) -> Any:
        """What the server says at a path. Raises NoAnswer, Refused."""
        return json.loads(self.fetch(path))

    def fetch(self, path: str) -> bytes:
        """The bytes at a path. Raises NoAnswer, Refused."""
        return self._ask("GET", path, None, "")

    def save(self, path: str, target: Path) -> None:
        """Write the bytes at a path to a file, a piece at a time. Raises NoAnswer, Refused."""
        with self._opened("GET", path, None, "") as answer, target.open("wb") as file:
            promised = answer.length
            try:
                shutil.copyfileobj(answer, file, _PIECE)
            except (OSError, http.client.HTTPException) as error:
                raise NoAnswer(f"{self.address} broke off ({error}).") from error
            if promised is not None and file.tell() != promised:
                raise NoAnswer(f"{self.address} broke off after {file.tell()} of {promised} bytes.")

    def post(self, path: str, body: Mapping[str, object] | bytes) -> Any:
        """What the server says to a body, JSON or bytes; None where it says nothing. Raises NoAnswer, Refused."""
        raw = isinstance(body, bytes)
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        said = self._ask("POST", path, data, "application/octet-stream" if raw else "application/json")
        return json.loads(said) if said else None

    def _ask(self, method: str, path: str, data: bytes | None, kind: str) -> bytes:
        with self._opened(method, path, data, kind) as answer:
            try:
                return bytes(answer.read())
            except (OSError, http.client.HTTPException) as error:
                raise NoAnswer(f"{self.address} broke off ({error}).") from error

    def _opened(self, method: str, path: str, data: bytes | None, kind: str) -> http.client.HTTPResponse:
        headers = {"Authorization": f"Bearer {self._token}", **({"Content-Type": kind} if kind else {})}
        asked = urllib.request.Request(self.address + path, data, headers, method=method)
        try:
            opened: http.client.HTTPResponse = urllib.request.urlopen(asked, timeout=_SECONDS)
            return opened
        except urllib.error.HTTPError as error:
            if error.code in (502, 503, 504):
                raise NoAnswer(f"{self.address} does not answer (status {error.code}).") from error
            raise Refused(error.code, _detail(error)) from error
        except (OSError, ValueError) as error:
            raise NoAnswer(f"{self.address} does not answer ({getattr(error, 'reason', error)}).") from error


def _detail(error: urllib.error.HTTPError) -> str:
    try:
        return str(json.loads(error.read())["detail"])
    except (ValueError, KeyError, TypeError, OSError):
        return f"the server answered with status {error.code}"
