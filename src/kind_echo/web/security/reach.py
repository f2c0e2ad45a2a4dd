"""What each route asks of who calls it: the one table that opens doors. A route that is not in it lets nobody in."""

from dataclasses import dataclass

from kind_echo.bench.accounts import Caller, Role, Scope


@dataclass(frozen=True)
class Reach:
    """The role that a person needs, and the scopes of tokens that do as well; a role of None is open to all.

    Attributes:
        by_people: whether people come in at all; else programs alone.
    """

    role: Role | None
    scopes: tuple[Scope, ...] = ()
    by_people: bool = True

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
        roles = [f"the role '{self.role}'"] if self.by_people else []
        return ", or ".join([*roles, *(f"a token to {scope}" for scope in self.scopes)])


OPEN = Reach(None)
READ = Reach("look", ("read", "submit"))
LOOK = Reach("look")
WORK = Reach("work")
SUBMIT = Reach("work", ("submit",))
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
    "GET /api/runs/{run_id}/events": READ,
    "POST /api/runs/{run_id}/across": LOOK,  # it only works out what is looked at
    "POST /api/runs/{run_id}/change": WORK,
    "DELETE /api/runs/{run_id}": WORK,
    "POST /api/renders": WORK,
    "GET /api/cells/{cell_id}": READ,
    "GET /api/trends": READ,
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
    "POST /api/decisions": WORK,
    "POST /api/acts/{act_id}/undo": WORK,
    "GET /api/acts/latest": READ,
    "GET /api/references": READ,
    "GET /api/references/{reference_id}/history": READ,
    "POST /api/uploads": WORK,
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
    "POST /api/comparisons": WORK,
    "GET /api/comparisons/{comparison_id}": READ,
    "DELETE /api/comparisons/{comparison_id}": WORK,  # one's own; a keeper any
    "GET /api/storage": LOOK,
    "GET /api/storage/dry-run": KEEP,
    "POST /api/storage/rule": KEEP,
    "POST /api/storage/drop": KEEP,
    "GET /api/runs/{run_id}/kit": READ,
    "GET /api/runs/{run_id}/kit.zip": READ,
    "POST /api/runs/{run_id}/kit/files": WORK,
    "POST /api/kit-files/{file_id}/assign": WORK,
    "DELETE /api/kit-files/{file_id}": WORK,
    "GET /api/signals": READ,
    "POST /api/signals": WORK,
    "GET /api/signals/kinds": READ,
    "POST /api/signals/file": WORK,
    "GET /api/signals/preview": READ,
    "GET /api/signals/export": READ,
    "GET /api/hosts": READ,
    "POST /api/hosts": KEEP,
    "POST /api/hosts/{host_id}/change": KEEP,
    "GET /api/effects": READ,
    "POST /api/effects": KEEP,
    "POST /api/effects/{effect_id}/change": KEEP,
    "POST /api/effects/settings/{setting_id}/change": WORK,
    "POST /api/builds": SUBMIT,
    "POST /api/builds/{build_id}/change": WORK,
    "DELETE /api/builds/{build_id}": WORK,
    "POST /api/machines": RENDER,
    "POST /api/machines/{name}/approval": KEEP,
    "POST /api/machines/{worker_id}/presence": RENDER,
    "POST /api/machines/{worker_id}/take": RENDER,
    "POST /api/machines/{worker_id}/jobs/{job_id}/builds": RENDER,
    "GET /api/machines/{worker_id}/jobs/{job_id}/signal": RENDER,
    "POST /api/machines/{worker_id}/jobs/{job_id}/render": RENDER,
    "POST /api/machines/{worker_id}/jobs/{job_id}/failure": RENDER,
}
"""By method and path as the OpenAPI document writes it. Approving and restoring references asks for *keep* besides."""
