"""Taking renders over from earlier runs: only what changed is rendered again."""

import hashlib
import json
from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import judge_as_before
from kind_echo.bench.queue import analyse_cells
from kind_echo.bench.rendering.keeping import wants_lossy
from kind_echo.bench.rendering.requests import uploaded_for
from kind_echo.bench.signals import families_of
from kind_echo.core.registry.measure import Family
from kind_echo.core.registry.versions import SIGNAL_VERSION, versions_of
from kind_echo.database.models import Case, Cell, Content, Render, Run
from kind_echo.renderers.contract import Renderer


def render_key(renderer: Renderer, cell: Cell) -> str | None:
    """Digest of all that a cell's render and its readings depend on; None where the renderer cannot tell its part.

    That is: what the effect and the renderer are made of, the setting, the signal, the condition, the number of takes,
    and how signals are made and renders measured.
    """
    build, condition, case = cell.run.build, cell.condition, cell.case
    uploaded = uploaded_for(cell)
    artefact = (
        renderer.artefact(build.effect.known_as, build.effect.handle, build.version)
        if uploaded is None
        else f"{uploaded.sha256} {condition.host} {condition.host_version}"
    )
    if artefact is None:
        return None
    parts = [
        artefact, build.effect.known_as, build.version, case.setting.parameters, case.signal.request, case.takes,
        condition.host, condition.host_version, condition.mode, condition.rate, condition.block_size,
        condition.channels, condition.word_length,
        versions_of(_families(case)), SIGNAL_VERSION,
    ]  # fmt: skip
    parts += [case.setting.parts] if case.setting.parts else []
    parts += [case.expected] if case.expected else []
    parts += [case.variation] if case.variation else []
    parts += [condition.hosting] if condition.hosting else []
    parts += [case.setting.preset_sha256] if case.setting.preset_sha256 else []
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def _families(case: Case) -> list[Family]:
    lossy, law = wants_lossy(case.limits), case.expected is not None
    return families_of(case.signal.stimulus, case.takes, lossy=lossy, law=law)


def take_over(session: Session, run: Run, renderer: Renderer, cells: Sequence[Cell]) -> list[Cell]:
    """Give cells the renders that earlier runs made of exactly the same, and judge them.

    Returns:
        The cells that must be rendered.
    """
    keys = {cell.id: render_key(renderer, cell) for cell in cells}
    wanted = {key for key in keys.values() if key is not None}
    newest = select(func.max(Render.id)).where(Render.key.in_(wanted)).group_by(Render.key)
    # Held, so that retention does not drop one meanwhile; what it has dropped is rendered again.
    there = select(Render).join(Render.content).where(Render.id.in_(newest), Content.dropped_at.is_(None))
    held = there.order_by(Render.content_sha256).with_for_update(read=True, of=Content)
    made = {render.key: render for render in session.scalars(held)}
    taken = []
    for cell in cells:
        render = made.get(keys[cell.id])
        if render is not None:
            cell.render, cell.render_id, cell.reused, cell.state = render, render.id, True, "analysing"
            taken.append(cell)
    left = judge_as_before(session, run, taken)
    analyse_cells(session, [cell.id for cell in left])
    return [cell for cell in cells if not cell.reused]
