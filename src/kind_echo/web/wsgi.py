"""The entry for gunicorn."""

import os

import structlog

from kind_echo.core.registry.extensions import load_extensions
from kind_echo.logs import set_up_logs
from kind_echo.web.app import create_app
from kind_echo.web.security.sessions import SECRET_VARIABLE

set_up_logs()
load_extensions()
if not os.environ.get(SECRET_VARIABLE):
    structlog.get_logger("kind_echo.web").warning(f"{SECRET_VARIABLE} is not set: sessions end with this process")
application = create_app()
