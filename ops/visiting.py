"""A visitor of a running server: signed in by a link, asking and changing as the page does."""

from typing import Any, cast

from playwright.sync_api import APIRequestContext, BrowserContext


class Visitor:
    """The requests of a browser's context; its pages share the session."""

    def __init__(self, context: BrowserContext, address: str) -> None:
        self._request: APIRequestContext = context.request
        self._address = address

    def sign_in(self, secret: str) -> None:
        """Come in by the secret of a link."""
        self.send("/api/links/use", {"secret": secret})

    def ask(self, path: str) -> dict[str, Any]:
        """What the server says at a path."""
        return cast(dict[str, Any], self._request.get(self._address + path, fail_on_status_code=True).json())

    def fetch(self, path: str) -> bytes:
        """The file at a path."""
        return self._request.get(self._address + path, fail_on_status_code=True).body()

    def send(self, path: str, body: dict[str, Any] | bytes) -> dict[str, Any]:
        """What the server says to a change: JSON, or a file as it is."""
        headers = {"X-CSRFToken": self.ask("/api/me")["forgery_token"], "Referer": self._address}
        answer = self._request.post(self._address + path, data=body, headers=headers, fail_on_status_code=True)
        return cast(dict[str, Any], answer.json())
