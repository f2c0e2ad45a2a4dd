"""Real plug-ins of the LV2 open standard, through the command-line host of Debian's lilv-utils."""

import hashlib
import os
import re
import shutil
import subprocess
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.names import plain_name
from kind_echo.renderers.contract import (
    Offer,
    OfferedEffect,
    OfferedHost,
    RenderFailed,
    RenderRequest,
    RenderResult,
)
from kind_echo.renderers.exchange import exchange
from kind_echo.renderers.process import Limits, run_limited

QUEUE = "lv2"
HOST = "LV2 command line"

_SCAN_SECONDS = 20.0
_LIMITS = Limits(seconds=300.0, memory=4096)
_USUAL_PATH = ":".join(
    ("~/.lv2", "/usr/local/lib/lv2", "/usr/lib/lv2", "/usr/lib/x86_64-linux-gnu/lv2", "/usr/lib/aarch64-linux-gnu/lv2")
)
_PORT = re.compile(r"^\tPort \d+:$", re.MULTILINE)


@dataclass(frozen=True)
class Control:
    """A control input of a plug-in and its bounds."""

    symbol: str
    name: str
    least: float
    greatest: float
    default: float

    def check(self, value: float | int | str) -> float:
        """The value as a number. Raises BadParameter outside the bounds."""
        if isinstance(value, str) or not self.least <= value <= self.greatest:
            raise BadParameter(self.symbol, value, f"a number from {self.least:g} to {self.greatest:g}")
        return float(value)


@dataclass(frozen=True)
class Plugin:
    """An installed plug-in.

    Attributes:
        version: from the bytes of its binary, so that another build of it is never taken for this one.
        inputs, outputs: audio ports.
        reports_latency: it has a port that tells its latency, which the command-line host does not pass on.
        binary: address of its file.
    """

    uri: str
    name: str
    version: str
    inputs: int
    outputs: int
    controls: tuple[Control, ...]
    reports_latency: bool
    binary: str


def lv2_offer() -> Offer | None:
    """What this machine has; None where the command-line host is not installed."""
    if shutil.which("lv2apply") is None:
        return None
    effects = tuple(_offered(plugin) for plugin in scan().values() if plugin.inputs == plugin.outputs > 0)
    host = OfferedHost(HOST, _host_version(), "LV2 plug-ins, one frame at a time", ("offline",))
    description = "Plug-ins of the LV2 standard that are installed on this machine"
    return Offer(QUEUE, description, Lv2Renderer(), (host,), effects)


class Lv2Renderer:
    """Renders through lv2apply. It feeds one frame at a time, whatever the block size, and takes no latency off."""

    def render(self, request: RenderRequest) -> RenderResult:
        """Render one case. Raises RenderFailed."""
        plugin = scan().get(request.handle)
        if plugin is None:
            raise RenderFailed(f"the plug-in {request.handle} is not installed on this machine")
        if plugin.version != request.version:
            raise RenderFailed(f"this machine has build {plugin.version} of {plugin.name}, not {request.version}")
        channels = request.signal.shape[1]
        if not plugin.inputs == plugin.outputs == channels:
            raise RenderFailed(f"{plugin.name} has {plugin.inputs} audio inputs, and the signal {channels} channels")
        controls = {control.symbol: control for control in plugin.controls}
        arguments: list[str] = []
        for symbol, value in request.values.items():
            if symbol not in controls:
                raise RenderFailed(f"{plugin.name} has no control {symbol}")
            try:
                arguments += ["-c", symbol, repr(controls[symbol].check(value))]
            except BadParameter as error:
                raise RenderFailed(str(error)) from error
        samples, finished = exchange(
            request.signal, request.rate, "FLOAT",
            lambda folder, source, target: run_limited(
                ["lv2apply", "-i", str(source), "-o", str(target), *arguments, plugin.uri], _LIMITS, folder
            ),
        )  # fmt: skip
        compensated = not plugin.reports_latency
        return RenderResult(
            samples, 0 if compensated else None, compensated, finished.log, finished.cpu_seconds, finished.memory
        )

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        """Digest of the plug-in's binary as it is now, and the host's version; None for one that is not installed."""
        plugin = scan().get(handle)
        return None if plugin is None else f"{_digest(plugin.binary)} {_host_version()}"


@cache
def scan() -> dict[str, Plugin]:
    """The plug-ins that are installed, by URI; kept until the cache is cleared, when `stamp` has changed."""
    uris = [line.strip() for line in _ask("lv2ls").splitlines() if line.strip()]
    return {uri: read_plugin(uri, _ask("lv2info", uri)) for uri in uris}


def stamp() -> tuple[tuple[str, int, int], ...]:
    """Name, time of change and size of every file of the installed bundles."""
    found = []
    for folder in os.environ.get("LV2_PATH", _USUAL_PATH).split(":"):
        for path in Path(folder).expanduser().glob("*.lv2/*") if folder else ():
            try:
                about = path.stat()
            except OSError:
                continue  # removed meanwhile, which the next look sees
            found.append((str(path), about.st_mtime_ns, about.st_size))
    return tuple(sorted(found))


def read_plugin(uri: str, text: str) -> Plugin:
    """A plug-in from what lv2info prints of it."""
    head, *ports = _PORT.split(text)
    audio = [port for port in ports if "#AudioPort" in port]
    controls = tuple(
        Control(
            symbol=_field(port, "Symbol"),
            name=_field(port, "Name"),
            least=_number(port, "Minimum", 0.0),
            greatest=_number(port, "Maximum", 1.0),
            default=_number(port, "Default", 0.0),
        )
        for port in ports
        if "#ControlPort" in port and "#InputPort" in port
    )
    return Plugin(
        uri=uri,
        name=plain_name(_field(head, "Name")) or uri,
        version=_digest(_field(head, "Binary")),
        inputs=sum("#InputPort" in port for port in audio),
        outputs=sum("#OutputPort" in port for port in audio),
        controls=controls,
        reports_latency=_field(head, "Has latency").startswith("yes"),
        binary=_field(head, "Binary"),
    )


def _offered(plugin: Plugin) -> OfferedEffect:
    parameters: tuple[dict[str, Any], ...] = tuple(
        {"name": c.symbol, "default": c.default, "unit": "", "least": c.least, "greatest": c.greatest, "choices": []}
        for c in plugin.controls
    )
    ports = f"{plugin.inputs} in, {plugin.outputs} out"
    description = f"LV2 plug-in, {ports}"
    return OfferedEffect(plugin.name, plugin.uri, description, parameters, (plugin.version,), channels=(plugin.inputs,))


def _field(text: str, name: str) -> str:
    found = re.search(rf"^\s*{name}:[ \t]*(.*)$", text, re.MULTILINE)
    return found.group(1).strip() if found else ""


def _number(text: str, name: str, otherwise: float) -> float:
    value = _field(text, name)
    return float(value) if value else otherwise


def _digest(address: str) -> str:
    path = Path(unquote(urlsplit(address).path))
    return hashlib.sha256(path.read_bytes()).hexdigest()[:12] if path.is_file() else "unknown"


def _host_version() -> str:
    found = re.search(r"\d+(?:\.\d+)+", _ask("lv2apply", "--version"))
    return found.group(0) if found else "unknown"


def _ask(*command: str) -> str:
    done = subprocess.run(command, capture_output=True, text=True, timeout=_SCAN_SECONDS, check=False)
    return done.stdout + done.stderr
