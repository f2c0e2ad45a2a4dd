"""Files as bodies: one that comes is received whole or not at all; one that goes need not stay."""

from collections.abc import Callable, Mapping
from pathlib import Path
from threading import BoundedSemaphore
from typing import Literal

from flask import Response, g, request, send_file
from werkzeug.exceptions import ClientDisconnected

from kind_echo.audio_io.temporary import NoTemporarySpace, is_out_of_space, temporary_folder
from kind_echo.bench.signals import MOST_BYTES
from kind_echo.web.http.problems import problem
from kind_echo.web.http.scope import RECEIVED, server_scope

PlotForm = Literal["svg", "png"]
PLOT_TYPES: Mapping[PlotForm, str] = {"svg": "image/svg+xml", "png": "image/png"}

_PIECE = 1 << 20
_KEEPING = BoundedSemaphore(2)  # decoding and packing take a core each: readers are to have their turn


def with_body(name: str, keep: Callable[[Path], Response]) -> Response:
    """What `keep` makes of the file that the request carries; one that breaks off on its way leaves nothing behind."""
    assert g.takes_file, "REACH does not say that this route takes a file"
    expected = request.content_length
    if expected is None:
        return problem(411, "LengthRequired", "The request does not say how long the file is; nothing was kept.")
    if expected > MOST_BYTES:
        return problem(
            413,
            "FileTooLarge",
            f"{name} has {expected / 1e9:.1f} GB, and {MOST_BYTES / 1e9:.1f} GB are taken; nothing was kept.",
        )
    already = server_scope().get(RECEIVED)
    with temporary_folder() as folder:
        path = already or Path(folder) / "upload"
        try:
            received = path.stat().st_size if already else _receive(path)
        except (ClientDisconnected, OSError) as error:
            if is_out_of_space(error):
                raise NoTemporarySpace from error
            received = path.stat().st_size if path.exists() else 0
        if received != expected:
            lost = f"The connection dropped after {received} of {expected} bytes; nothing was kept."
            return problem(400, "UploadBrokenOff", f"{lost} Send {name} again.")
        with _KEEPING:
            return keep(path)


def sent_and_gone(path: Path, mimetype: str, name: str) -> Response:
    """A file for download; its folder may be gone by the time it is sent, for the open file stays readable."""
    response = send_file(path.open("rb"), mimetype, as_attachment=True, download_name=name, max_age=0)
    response.content_length = path.stat().st_size
    return response


def _receive(path: Path) -> int:
    with path.open("wb") as file:
        while piece := request.stream.read(_PIECE):
            file.write(piece)
        return file.tell()
