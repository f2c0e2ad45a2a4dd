"""A run on a server as a build server follows it: started or joined, waited for, laid over another build."""

import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar
from urllib.parse import urlencode

import click

from kind_echo.cli.exits import NoAnswer
from kind_echo.cli.server.sheet import Sheet
from kind_echo.cli.server.waiting import Progress, wait_for
from kind_echo.cli.workers.http import Server

_POLL_SECONDS = 1.0
_PATIENCE_SECONDS = 300.0  # for which a server that has answered before is asked again
_PAUSES = (1.0, 2.0, 4.0, 8.0, 15.0)  # seconds between two tries; the last one for all that follow
_UNDER_WAY = ("waiting", "rendering", "analysing")
T = TypeVar("T")


class RunThere:
    """A run on a server; a connection that drops is tried again for minutes, as long as the server answered once."""

    def __init__(self, server: Server, effect: str, plan: str, timeout: float | None) -> None:
        """Look for the plan.

        Args:
            timeout: seconds for all that is waited for together; as long as it takes where None.
        Raises:
            ClickException: there is no such plan.
            NoAnswer, Refused: the server does not answer, or says no.
        """
        self._server, self._effect, self._plan = server, effect, plan
        self._ends = None if timeout is None else time.monotonic() + timeout
        plans = server.get("/api/plans")["plans"]
        found = next((one for one in plans if (one["effect"], one["name"]) == (effect, plan)), None)
        if found is None:
            raise click.ClickException(f"there is no plan {plan} of {effect} on {server.address}")
        self._plan_id = int(found["id"])
        self.number = 0
        self.joined = False
        self.sheet: Sheet | None = None

    @property
    def address(self) -> str:
        """Where the run is shown."""
        return f"{self._server.address}/runs/{self.number}"

    def start(self, build_id: int, *, everything: bool, artefact: str) -> None:
        """Start a run on a build, or join the one that is there."""
        asked = {
            "plan_id": self._plan_id, "build_id": build_id, "join": True, "artefact": artefact,
            "render": "everything" if everything else "what changed",
        }  # fmt: skip
        run = self._patiently(lambda: self._server.post("/api/runs", asked))
        self.number, self.joined = int(run["id"]), bool(run["joined"])

    def tell_of_build(self, version: str, note: str) -> int:
        """The number of a build, of which the server may not have known."""
        body = {"effect": self._effect, "version": version, "note": note}
        return int(self._patiently(lambda: self._server.post("/api/builds", body))["id"])

    def go_on_with(self, number: int, version: str) -> None:
        """Follow a run that was started before. Raises ClickException where it is of another plan or build."""
        self.number = number
        run = self._look("")["run"]
        is_this = (run["effect"], run["plan"], run["build"]["version"]) == (self._effect, self._plan, version)
        if not is_this:
            told = f"{run['plan']} on {run['effect']} {run['build']['version']}"
            raise click.ClickException(f"run {number} is of {told}")

    def wait(self) -> Progress:
        """Until it is finished, or until people alone can bring it on. Raises TimeOut, NoAnswer."""

        def look() -> Progress:
            self.sheet = sheet = self._look("")
            run = sheet["run"]
            return Progress(run["cells"], run["finished"], sheet["for_kit"], sheet["lacking"], run["stopped_by"])

        return wait_for(look, _POLL_SECONDS, self._left())

    def lay_over(self, version: str) -> None:
        """Compare it with the newest run of the same plan on another build, once that is over; it is started where
        there is none.

        Raises:
            ClickException: the server knows no such build.
            TimeOut, NoAnswer: as `wait`.
        """
        other = RunThere(self._server, self._effect, self._plan, self._left())
        siblings = (self.sheet or self._look(""))["siblings"]
        known = next((int(one["run_id"]) for one in siblings if one["version"] == version), None)
        if known is None:
            other.start(self._known_build(version), everything=False, artefact="")
        else:
            other.number = known
        other.wait()
        against = f"build:{other.number}"
        path = f"/api/runs/{self.number}/across"
        self._patiently(lambda: self._server.post(path, {"against": against}))

        def look() -> Progress:
            self.sheet = self._look(against)
            states = [cell["state"] for cell in self.sheet["cells"]]
            return Progress(len(states), sum(state not in _UNDER_WAY for state in states))

        wait_for(look, _POLL_SECONDS, self._left())

    def save(self, path: str, target: Path) -> None:
        """Keep as a file what the server has at a path of its API; whole or not at all."""
        target.parent.mkdir(parents=True, exist_ok=True)
        beside = target.with_name(f".{target.name}.part")
        try:
            self._patiently(lambda: self._server.save(path, beside))
            beside.replace(target)
        finally:
            beside.unlink(missing_ok=True)

    def save_all(self, path: str, folder: Path) -> None:
        """Keep in a folder the files of a ZIP that the server has at a path of its API; by their names alone."""
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder) as name:
            packed = Path(name) / "files.zip"
            self.save(path, packed)
            with zipfile.ZipFile(packed) as archive:
                for entry in archive.infolist():
                    (folder / Path(entry.filename).name).write_bytes(archive.read(entry))

    def _known_build(self, version: str) -> int:
        """The number of a build that the server knows."""
        effects = self._patiently(lambda: self._server.get("/api/effects"))["effects"]
        builds = [build for one in effects if one["name"] == self._effect for build in one["builds"]]
        build = next((one for one in builds if one["version"] == version), None)
        if build is None:
            raise click.ClickException(f"{self._effect} has no build {version} on {self._server.address}")
        return int(build["id"])

    def _left(self) -> float | None:
        """Seconds for which it may still be waited."""
        return None if self._ends is None else max(0.0, self._ends - time.monotonic())

    def _look(self, against: str) -> Sheet:
        query = urlencode({"measure": "residual_rms", "against": against})
        sheet: Sheet = self._patiently(lambda: self._server.get(f"/api/runs/{self.number}?{query}"))
        return sheet

    def _patiently(self, ask: Callable[[], T]) -> T:
        """What the server says; asked again while it does not answer. Raises NoAnswer once it has not for minutes."""
        begun = time.monotonic()
        pauses = iter(_PAUSES)
        while True:
            try:
                return ask()
            except NoAnswer:
                pause = next(pauses, _PAUSES[-1])
                if time.monotonic() + pause - begun > _PATIENCE_SECONDS:
                    raise
                time.sleep(pause)
