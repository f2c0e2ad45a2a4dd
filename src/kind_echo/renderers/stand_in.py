"""The renderer that ships with the product: simulated effects in simulated hosts."""

import hashlib
from functools import cache
from pathlib import Path

from kind_echo import standins
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.renderers.contract import (
    Offer,
    OfferedEffect,
    OfferedHost,
    RenderFailed,
    RenderRequest,
    RenderResult,
)
from kind_echo.standins.effects import Effect, Parameter, Values
from kind_echo.standins.hosts import HOSTS, find_host, run_through
from kind_echo.standins.stages import Job

QUEUE = "stand-in"


class StandInRenderer:
    """Loads a stand-in effect afresh for each render, so that no state is carried over."""

    def render(self, request: RenderRequest) -> RenderResult:
        """Render one case. Raises RenderFailed for an effect, build, host or setting that does not exist."""
        from kind_echo.standins.catalogue import load_effect  # slow to load, and most processes never render

        channels = request.signal.shape[1]
        job = Job(request.effect, request.values, request.rate, request.mode, request.block_size, channels)

        def load(values: Values) -> Effect:
            return load_effect(request.effect, request.version, values, request.rate, channels)

        try:
            host = find_host(request.host, request.host_version, request.mode)
            samples, claimed = run_through(host, load, job, request.signal)
        except KindEchoError as error:
            raise RenderFailed(str(error)) from error
        return RenderResult(samples, claimed)

    def artefact(self, effect: str, handle: str, version: str) -> str:
        """Digest of the simulation's own code, and the build."""
        return f"{_code()} {effect} {version}"


@cache
def _code() -> str:
    folder = Path(standins.__file__).parent
    parts = b"".join(path.read_bytes() for path in sorted(folder.glob("*.py")))
    return hashlib.sha256(parts).hexdigest()


def _parameter_document(parameter: Parameter) -> ParameterDocument:
    return {
        "name": parameter.name, "default": parameter.default, "unit": parameter.unit, "least": parameter.least,
        "greatest": parameter.greatest, "choices": list(parameter.choices),
    }  # fmt: skip


def stand_in_offer() -> Offer:
    """All simulated hosts and effects."""
    from kind_echo.standins.catalogue import STAND_INS

    return Offer(
        QUEUE,
        "Simulated effects and hosts that ship with the product",
        StandInRenderer(),
        tuple(OfferedHost(h.name, h.version, f"Simulated {h.description}", h.modes) for h in HOSTS),
        tuple(
            OfferedEffect(
                effect.name,
                "",
                f"{effect.description} Simulated: it ships with Kind Echo.",
                tuple(_parameter_document(parameter) for parameter in effect.parameters),
                tuple(build.version for build in effect.builds),
            )
            for effect in STAND_INS.values()
        ),
        simulated=True,
    )
