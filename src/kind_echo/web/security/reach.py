"""What each route asks of who calls it: the one table that opens doors. A route that is not in it lets nobody in."""

import re
from dataclasses import dataclass, replace
from functools import cache
from typing import Literal

from kind_echo.bench.accounts import ROLE_TITLES, Caller, Role, Scope

BodyKind = Literal["json", "offers", "file"]


@dataclass(frozen=True)
class Reach:
    """The role that a person needs, and the scopes of tokens that do as well; a role of None is open to all.

    Attributes:
        by_people: whether people come in at all; else programs alone.
        body: what a request carries, which decides how large it may be: JSON, what a machine offers, or a file.
        streams: the answer is a stream of events, which goes on.
    """

    role: Role | None
    scopes: tuple[Scope, ...] = ()
    by_people: bool = True
    body: BodyKind = "json"
    streams: bool = False

    def admits(self, caller: Caller) -> bool:
        """Whether somebody who is known comes in."""
        by_role = self.by_people and (self.role is None or caller.has(self.role))
        return by_role or caller.scope in self.scopes

    @property
    def is_open(self) -> bool:
        """Whether it lets in who is not known."""
        return self.by_people and self.role is None

    @property
    def needed(self) -> str:
        """What is needed, in words."""
        roles = [f"the role {ROLE_TITLES[self.role]}"] if self.by_people and self.role is not None else []
        return ", or ".join([*roles, *(f"a token to {scope}" for scope in self.scopes)])


OPEN = Reach(None)
READ = Reach("look", ("read", "submit", "upload"))
LOOK = Reach("look")
WORK = Reach("work")
SUBMIT = Reach("work", ("submit", "upload"))
UPLOAD = Reach("keep", ("upload",), body="file")
KEEP = Reach("keep")
RENDER = Reach(None, ("render",), by_people=False)

REACH: dict[str, Reach] = {
    "GET /": OPEN,
    "GET /{path}": OPEN,
    "GET /healthz": OPEN,
    "GET /readyz": OPEN,
    "GET /metrics": READ,
    "GET /api/me": OPEN,
    "POST /api/sign-in": OPEN,
    "POST /api/links/open": OPEN,
    "POST /api/links/use": OPEN,
    "POST /api/sign-out": LOOK,
    "POST /api/me/password": LOOK,
    "GET /api/people": KEEP,
    "POST /api/people": KEEP,
    "POST /api/people/{person_id}/change": KEEP,
    "POST /api/people/{person_id}/reset": KEEP,
    "GET /api/tokens": KEEP,
    "POST /api/tokens": KEEP,
    "POST /api/tokens/{token_id}/revoke": KEEP,
    "GET /api/openapi.json": READ,
    "GET /api/measures": READ,
    "GET /api/runs": READ,
    "POST /api/runs": SUBMIT,
    "GET /api/runs/{run_id}": READ,
    "GET /api/runs/{run_id}/pictures": READ,
    "GET /api/runs/{run_id}/events": replace(READ, streams=True),
    "POST /api/runs/{run_id}/across": READ,  # it only works out what is looked at
    "POST /api/runs/{run_id}/change": WORK,
    "DELETE /api/runs/{run_id}": WORK,
    "POST /api/renders": WORK,
    "GET /api/cells/{cell_id}": READ,
    "GET /api/trends": READ,
    "GET /api/trends/{plan_id}/measures": READ,
    "GET /api/trends/{plan_id}/{measure}.{form}": READ,
    "GET /api/reports/runs/{number}.{form}": READ,
    "GET /api/reports/runs/{run_id}/plots.zip": READ,
    "GET /api/reports/cells/{number}.{form}": READ,
    "GET /api/reports/pairs/{number}.{form}": READ,
    "GET /api/reports/sets/{number}.{form}": READ,
    "GET /api/reports/tests/{number}.{form}": READ,
    "GET /api/reports/builds/{number}.{form}": READ,
    "GET /api/tables/runs.{form}": READ,
    "GET /api/tables/references.{form}": READ,
    "GET /api/tables/runs/{run_id}/cells.{form}": READ,
    "GET /api/tables/runs/{run_id}/readings.{form}": READ,
    "GET /api/tables/plans/{plan_id}/{measure}.{form}": READ,
    "GET /api/notices": KEEP,
    "POST /api/notices/targets": KEEP,
    "POST /api/notices/targets/{target_id}/change": KEEP,
    "DELETE /api/notices/targets/{target_id}": KEEP,
    "POST /api/notices/targets/{target_id}/test": KEEP,
    "POST /api/notices/{notice_id}/again": KEEP,
    "GET /api/schedules": READ,
    "POST /api/schedules": WORK,
    "POST /api/schedules/{schedule_id}/change": WORK,
    "DELETE /api/schedules/{schedule_id}": WORK,
    "GET /api/record": READ,
    "GET /api/tables/record.{form}": READ,
    "GET /api/tables/decisions.{form}": READ,
    "POST /api/searches": WORK,
    "GET /api/searches/{search_id}": READ,
    "GET /api/plans": READ,
    "POST /api/plans": WORK,
    "GET /api/plans/{plan_id}": READ,
    "POST /api/plans/{plan_id}/change": WORK,
    "GET /api/plans/templates": READ,
    "GET /api/plans/from-template": READ,
    "POST /api/plans/check": LOOK,
    "POST /api/plans/read": LOOK,
    "GET /api/audio/{address}/waveform": READ,
    "GET /api/audio/{address}/spectrum": READ,
    "GET /api/audio/{address}/samples": READ,
    "GET /api/audio/{address}/file": READ,
    "POST /api/decisions": WORK,
    "POST /api/acts/{act_id}/undo": WORK,
    "GET /api/acts/latest": READ,
    "POST /api/builds/{build_id}/references": KEEP,
    "GET /api/builds/{build_id}/references": READ,
    "GET /api/effects/{effect_id}/references": READ,
    "GET /api/references": READ,
    "GET /api/references/{reference_id}/history": READ,
    "POST /api/uploads": replace(WORK, body="file"),
    "GET /api/comparisons": READ,
    "POST /api/listening/sides": LOOK,
    "GET /api/listening/clip": LOOK,
    "GET /api/listening/outlook": LOOK,
    "GET /api/listening/tests": READ,
    "POST /api/listening/tests": WORK,
    "GET /api/listening/tests/{test_id}": READ,
    "DELETE /api/listening/tests/{test_id}": WORK,  # one's own; a keeper any
    "GET /api/listening/tests/{test_id}/results": READ,
    "GET /api/listening/tests/{test_id}/results.csv": READ,
    "POST /api/listening/tests/{test_id}/sittings": LOOK,
    "GET /api/listening/sittings/{sitting_id}": LOOK,
    "POST /api/listening/sittings/{sitting_id}/answers": LOOK,
    "POST /api/listening/sittings/{sitting_id}/break-off": LOOK,
    "GET /api/listening/heard/{secret}": LOOK,
    "GET /api/listening/runs/{run_id}": READ,
    "GET /api/listening/notes": READ,
    "POST /api/listening/notes": WORK,
    "DELETE /api/listening/notes/{note_id}": WORK,
    "POST /api/listening/words": KEEP,
    "GET /api/sets": READ,
    "POST /api/sets": WORK,
    "GET /api/sets/{set_id}": READ,
    "POST /api/sets/{set_id}/change": WORK,
    "POST /api/sets/{set_id}/files": WORK,
    "GET /api/sets/{set_id}/files/{file_id}": READ,
    "POST /api/sets/{set_id}/remove": WORK,
    "POST /api/sets/{set_id}/again": WORK,
    "POST /api/sets/{set_id}/copies": WORK,
    "POST /api/sets/{set_id}/plan": KEEP,
    "DELETE /api/sets/{set_id}": WORK,
    "GET /api/sets/{set_id}/table.csv": READ,
    "POST /api/sets/{set_id}/trims": WORK,
    "GET /api/sets/{set_id}/levelled.zip": READ,
    "GET /api/audio/{address}/map": READ,
    "GET /api/audio/{address}/needles": READ,
    "GET /api/audio/{address}/bands": READ,
    "GET /api/signals/needles": READ,
    "GET /api/signals/bands": READ,
    "GET /api/overlays/sets/{set_id}": READ,
    "GET /api/overlays/sets/{set_id}.{form}": READ,
    "GET /api/overlays/cells": READ,
    "GET /api/overlays/cells.{form}": READ,
    "GET /api/overlays/builds/{cell_id}": READ,
    "GET /api/overlays/builds/{cell_id}.{form}": READ,
    "POST /api/comparisons": WORK,
    "GET /api/comparisons/{comparison_id}": READ,
    "DELETE /api/comparisons/{comparison_id}": WORK,  # one's own; a keeper any
    "GET /api/storage": LOOK,
    "GET /api/storage/dry-run": KEEP,
    "POST /api/storage/rule": KEEP,
    "POST /api/storage/drop": KEEP,
    "GET /api/runs/{run_id}/evidence.zip": READ,
    "GET /api/runs/{run_id}/kit": READ,
    "GET /api/runs/{run_id}/kit.zip": READ,
    "POST /api/runs/{run_id}/kit/files": replace(WORK, body="file"),
    "POST /api/kit-files/{file_id}/assign": WORK,
    "DELETE /api/kit-files/{file_id}": WORK,
    "GET /api/overview": READ,
    "GET /api/sensitivity/faults": READ,
    "POST /api/plans/sensitivity": WORK,
    "GET /api/runs/{run_id}/sensitivity": READ,
    "GET /api/signals": READ,
    "POST /api/signals": WORK,
    "GET /api/signals/kinds": READ,
    "POST /api/signals/file": replace(WORK, body="file"),
    "GET /api/signals/preview": READ,
    "GET /api/signals/export": READ,
    "GET /api/hosts": READ,
    "POST /api/hosts": KEEP,
    "POST /api/hosts/{host_id}/change": KEEP,
    "GET /api/effects": READ,
    "POST /api/effects": KEEP,
    "POST /api/effects/{effect_id}/change": KEEP,
    "POST /api/effects/{effect_id}/settings": WORK,
    "POST /api/effects/{effect_id}/presets": replace(WORK, body="file"),
    "POST /api/effects/settings/{setting_id}/change": WORK,
    "PUT /api/effects/settings/{setting_id}/expected": WORK,
    "POST /api/builds": SUBMIT,
    "POST /api/builds/{build_id}/change": WORK,
    "POST /api/builds/{build_id}/artefacts": UPLOAD,  # it makes machines run what comes
    "POST /api/builds/{build_id}/about": replace(UPLOAD, body="json"),
    "DELETE /api/builds/{build_id}": WORK,
    "POST /api/machines": replace(RENDER, body="offers"),
    "POST /api/machines/{name}/approval": KEEP,
    "POST /api/machines/{name}/look-again": WORK,
    "POST /api/machines/{worker_id}/presence": replace(RENDER, body="offers"),
    "POST /api/machines/{worker_id}/take": RENDER,
    "POST /api/machines/{worker_id}/jobs/{job_id}/builds": RENDER,
    "GET /api/machines/{worker_id}/jobs/{job_id}/signal": RENDER,
    "GET /api/machines/{worker_id}/jobs/{job_id}/preset": RENDER,
    "GET /api/machines/{worker_id}/jobs/{job_id}/uploaded": RENDER,
    "POST /api/machines/{worker_id}/jobs/{job_id}/render": replace(RENDER, body="file"),
    "POST /api/machines/{worker_id}/jobs/{job_id}/failure": RENDER,
}
"""By method and path as the OpenAPI document writes it. Approving and restoring references asks for *keep* besides."""


def body_of(method: str, path: str) -> BodyKind:
    """What a request to that address carries."""
    found = next((reach for pattern, reach in _unusual() if pattern.fullmatch(f"{method} {path}")), None)
    return found.body if found is not None else "json"


def streamed_run(method: str, path: str) -> int | None:
    """The number of the run whose changes are asked for as a stream; None where that address is none."""
    for pattern, reach in _unusual():
        found = pattern.fullmatch(f"{method} {path}")
        if found is not None and reach.streams:
            return int(found["run_id"])
    return None


@cache
def _unusual() -> list[tuple[re.Pattern[str], Reach]]:
    """The routes that take more than JSON, or whose answer goes on, by their addresses."""
    return [
        (re.compile(re.sub(r"\\{(\w+)\\}", r"(?P<\1>[0-9]{1,10})", re.escape(key))), reach)
        for key, reach in REACH.items()
        if reach.body != "json" or reach.streams
    ]
