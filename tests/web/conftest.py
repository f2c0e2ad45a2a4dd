"""The web application in this process, on a database with the finished demo."""

import pytest
from flask.testing import FlaskClient

from kind_echo.web.app import create_app
from tests.signing import sign


@pytest.fixture
def client(demo: str) -> FlaskClient:
    return sign(create_app().test_client())


@pytest.fixture
def looking(seen: str) -> FlaskClient:
    """For tests that change nothing."""
    return sign(create_app().test_client())


@pytest.fixture
def blank(empty: str) -> FlaskClient:
    return sign(create_app().test_client())


@pytest.fixture
def nora(empty: str) -> FlaskClient:
    return sign(create_app().test_client())


@pytest.fixture
def tove(empty: str, nora: FlaskClient) -> FlaskClient:
    return sign(create_app().test_client(), "Tove L.")
