"""A build that goes to a server as a plug-in: packed, told about where it can be looked at here, and sent."""

import json
import tempfile
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from kind_echo.cli.workers.http import Server
from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.hosting import describe
from kind_echo.renderers.plugins.offering import offered_parameters
from kind_echo.renderers.plugins.packing import pack
from kind_echo.renderers.plugins.standards import own_system


def send_artefact(server: Server, build_id: int, path: Path, system: str, signature: Path | None) -> str:
    """Send the plug-in that a build is; its digest. Raises NoAnswer, Refused."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-artefact-") as folder:
        packed = Path(folder) / "plug-in"
        pack(path, packed)
        asked = {"name": path.name, "system": system}
        if signature is not None:
            asked["signature"] = signature.read_text("ascii").strip()
        about = _about(path) if system == own_system() else None
        if about is not None:
            asked["about"] = json.dumps(about)
        kept = server.post(f"/api/builds/{build_id}/artefacts?{urlencode(asked)}", packed.read_bytes())
    return f"sha256:{kept['sha256']}"


def _about(path: Path) -> dict[str, Any] | None:
    """What the plug-in says of itself; None where it cannot be looked at here, which the server can do without."""
    try:
        found = describe(path)
    except RenderFailed:
        return None
    if len(found) != 1:
        return None
    parameters = offered_parameters(found[0].parameters)
    return {"parameters": parameters, "channels": list(found[0].channels)}
