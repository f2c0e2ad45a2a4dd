"""The web application in this process, on a database with the finished demo."""

import pytest
from flask.testing import FlaskClient

from kind_echo.web.app import create_app


@pytest.fixture
def client(demo: str) -> FlaskClient:
    return create_app().test_client()


@pytest.fixture
def looking(seen: str) -> FlaskClient:
    """For tests that change nothing."""
    return create_app().test_client()


@pytest.fixture
def blank(empty: str) -> FlaskClient:
    return create_app().test_client()
