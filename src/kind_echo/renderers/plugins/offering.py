"""Plug-ins as renderers: what a machine has of each standard, and renders of them."""

import functools
import math
import platform
import tempfile
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from kind_echo import __version__
from kind_echo.core.levels.hosting import HostedBlocks
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.renderers.contract import (
    BY_THE_CLOCK,
    LATENCY_OFF,
    Offer,
    OfferedEffect,
    OfferedHost,
    RenderFailed,
    RenderRequest,
    RenderResult,
)
from kind_echo.renderers.exchange import exchange
from kind_echo.renderers.plugins.artefacts import accepts_artefacts, unpacked
from kind_echo.renderers.plugins.hosting import PluginOutcome, PluginRun, describe, run_plugin
from kind_echo.renderers.plugins.model import PluginParameter
from kind_echo.renderers.plugins.scanning import Installed, installed_as, scan
from kind_echo.renderers.plugins.standards import STANDARDS, Standard, own_system
from kind_echo.renderers.process import Finished

HOST_VERSION = f"1 {own_system()}-{platform.machine() or 'unknown'}"
"""Of the hosts here: its number goes up when they render otherwise. Systems are told apart, for builds are."""


def plugin_offers() -> list[Offer]:
    """What this machine has, an offer for each standard of which there is anything."""
    return [offer for offer in map(plugin_offer, STANDARDS) if offer is not None]


def plugin_offer(standard: Standard) -> Offer | None:
    """What this machine has of a standard; None where there is no plug-in, or nothing to host it with."""
    seen = scan(standard.key)
    accepts = accepts_artefacts() and standard.is_there()
    if not seen.found and not seen.failed and not accepts:
        return None
    by_effect: dict[tuple[str, str], list[Installed]] = {}
    for one in seen.found:
        if one.about.channels:
            by_effect.setdefault((one.effect, one.handle), []).append(one)
    about = f"{standard.title} plug-ins, block by block"
    host = OfferedHost(standard.host, HOST_VERSION, about, standard.modes, own_system(), standard.hosting)
    effects = tuple(_offered(standard, found) for _, found in sorted(by_effect.items()))
    about = f"Plug-ins of the {standard.title} standard on this machine"
    renderer = PluginRenderer(standard)
    return Offer(standard.key, about, renderer, (host,), effects, failed=seen.failed, accepts=accepts)


class PluginRenderer:
    """Renders in blocks of the condition, each render in a process of its own."""

    def __init__(self, standard: Standard) -> None:
        self._standard = standard

    def render(self, request: RenderRequest) -> RenderResult:
        """Render one case. Raises RenderFailed."""
        if request.uploaded is not None:
            return render_file(unpacked(request.uploaded), request.handle, request)
        found = scan(self._standard.key).found
        one = installed_as(found, request.effect, request.handle, request.version)
        if one is None:
            name = request.handle or request.effect
            known = ", ".join(f.version for f in found if name in (f.handle, f.effect)) or "none"
            raise RenderFailed(f"this machine has no build {request.version} of {name}, but {known}")
        if not one.is_unchanged:
            raise RenderFailed(f"{one.path.name} was replaced since it was looked at; it is looked at again now")
        result = render_file(one.path, one.about.id, request)
        if not one.is_unchanged:
            raise RenderFailed(f"{one.path.name} was replaced while it rendered", result.log)
        return result

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        """Digest of the build, and the host's version; None for one that is not on this machine."""
        one = installed_as(scan(self._standard.key).found, effect, handle, version)
        return None if one is None else f"{one.digest} {self._standard.host} {HOST_VERSION} {__version__}"


def render_file(path: Path, plugin_id: str, request: RenderRequest) -> RenderResult:
    """Render one case with the plug-in in a file. Raises RenderFailed."""
    asked = PluginRun(
        plugin_id, request.values, request.block_size, offline=request.mode == "offline", double=request.double,
        compensate=LATENCY_OFF in request.hosting, paced=BY_THE_CLOCK in request.hosting,
    )  # fmt: skip
    ran: list[PluginOutcome] = []

    def work(folder: Path, source: Path, target: Path) -> Finished:
        own = asked
        if request.preset:
            (folder / "preset").write_bytes(request.preset)
            own = replace(own, state=folder / "preset")
        if request.variation and request.take > 1:
            own = _varied(path, source, own, request, folder)
        ran.append(run_plugin(path, source, target, own, folder))
        return ran[0].finished

    samples, finished = exchange(request.signal, request.rate, "DOUBLE" if request.double else "FLOAT", work)
    told, times = ran[0], ran[0].times
    return RenderResult(
        samples, told.latency, told.taken_off or told.latency == 0, finished.log, finished.cpu_seconds,
        finished.memory,
        HostedBlocks(
            told.loaded, times.first, times.median, times.most, times.worst, times.decay, told.wrote_input,
            times.missed,
        ),
    )  # fmt: skip


def _varied(path: Path, source: Path, asked: PluginRun, request: RenderRequest, folder: Path) -> PluginRun:
    """What a host does otherwise in this take. Raises RenderFailed."""
    match request.variation:
        case "blocks":
            return replace(asked, seed=request.take)
        case "reset":
            return replace(asked, twice=True)
        case "instances":
            return replace(asked, beside=opposite(parameters_of(path, asked.id), asked.values))
        case "state":
            kept = folder / "state"
            with tempfile.TemporaryDirectory(prefix="kind-echo-state-") as other:
                run_plugin(path, source, Path(other) / "output.wav", replace(asked, save=kept), Path(other))
            moving = {name: value for name, value in asked.values.items() if not isinstance(value, float | int | str)}
            return replace(asked, values=moving, state=kept)
    raise RenderFailed(f"a plug-in is rendered with no variation {request.variation}")


def opposite(parameters: tuple[PluginParameter, ...], values: Any) -> dict[str, float]:
    """Of each parameter the end of its range that is farther from what it is set to."""
    found = {}
    for one in parameters:
        value = values.get(one.name, one.default)
        at = value if isinstance(value, float | int) else one.default
        found[one.name] = one.least if at - one.least > one.greatest - at else one.greatest
    return found


@functools.lru_cache(maxsize=64)
def parameters_of(path: Path, plugin_id: str) -> tuple[PluginParameter, ...]:
    """The parameters of a plug-in in a file. Raises RenderFailed."""
    listed = [about for about in describe(path) if plugin_id in ("", about.id)]
    if len(listed) != 1:
        raise RenderFailed(f"{path.name} holds no plug-in {plugin_id}" if plugin_id else f"{path.name} holds several")
    return listed[0].parameters


def offered_parameters(parameters: Sequence[PluginParameter]) -> list[ParameterDocument]:
    """Parameters as a renderer offers them: names, bounds, choices. Those without bounds are left out."""
    return [
        _parameter_document(p)
        for p in parameters
        if math.isfinite(p.least) and math.isfinite(p.greatest) and p.least <= p.default <= p.greatest
    ]


def _parameter_document(parameter: PluginParameter) -> ParameterDocument:
    choices, default = parameter.choices, parameter.default
    document: ParameterDocument = {
        "name": parameter.name, "default": choices[round(default)] if choices else default, "unit": parameter.unit,
        "least": parameter.least, "greatest": parameter.greatest, "choices": list(choices), "text": parameter.text,
        "stepped": parameter.stepped,
    }  # fmt: skip
    if parameter.bypass is not None:
        document["bypass"] = parameter.bypass
    return document


def _offered(standard: Standard, builds: list[Installed]) -> OfferedEffect:
    newest = builds[-1]
    about = newest.about
    parameters = tuple(offered_parameters(about.parameters))
    ports = f"{about.inputs[0]} in, {about.outputs[0]} out"
    # One that goes by its name has builds in several standards.
    kind = f"{standard.title} plug-in" if newest.handle else "Plug-in"
    versions = tuple(dict.fromkeys(one.version for one in builds))
    return OfferedEffect(
        newest.effect,
        newest.handle,
        f"{kind}, {ports}",
        parameters,
        versions,
        channels=about.channels,
    )
