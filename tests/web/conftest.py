"""The web application in this process, on a database with the finished demo."""

from functools import cache

import pytest
from flask import Flask
from flask.testing import FlaskClient

from kind_echo.web.app import create_app
from tests.signing import sign


@cache
def _application() -> Flask:
    """One for all tests that want no other: it keeps nothing of a database, and takes a while to make."""
    return create_app()


@pytest.fixture
def client(demo: str) -> FlaskClient:
    return sign(_application().test_client())


@pytest.fixture
def looking(seen: str) -> FlaskClient:
    """For tests that change nothing."""
    return sign(_application().test_client())


@pytest.fixture
def blank(empty: str) -> FlaskClient:
    return sign(_application().test_client())


@pytest.fixture
def nora(empty: str) -> FlaskClient:
    return sign(_application().test_client())


@pytest.fixture
def tove(empty: str, nora: FlaskClient) -> FlaskClient:
    return sign(_application().test_client(), "Tove L.")
