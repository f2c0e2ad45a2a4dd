"""What `kind-echo serve` becomes: the address to listen on, and how many threads."""

import sys

from kind_echo.audio_io.temporary import sweep_temporary
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.web.serving.server import serve

try:
    sweep_temporary()
    serve(sys.argv[1], int(sys.argv[2]))
except KindEchoError as error:
    raise SystemExit(f"kind-echo: {error}") from error
