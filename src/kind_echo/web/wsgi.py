"""The entry for gunicorn."""

from kind_echo.web.app import create_app

application = create_app()
