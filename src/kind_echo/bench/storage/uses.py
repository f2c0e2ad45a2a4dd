"""Which audio belongs to which render, and to which plan."""

from sqlalchemy import Subquery, select, union_all

from kind_echo.database.models import Cell, Effect, Plan, PlanRevision, Render, Run, Take


def renders_by_audio() -> Subquery:
    """Digest of each piece of audio and number of the render that has it, as its first take or a further one."""
    first = select(Render.content_sha256.label("sha256"), Render.id.label("render_id"))
    return union_all(first, select(Take.content_sha256, Take.render_id)).subquery()


def plans_by_audio() -> Subquery:
    """Digest of each piece of audio, and effect and name of each plan that rendered it; each combination once."""
    uses = renders_by_audio()
    return (
        select(uses.c.sha256, Effect.name.label("effect"), Plan.name.label("plan"))
        .join_from(uses, Cell, Cell.render_id == uses.c.render_id)
        .join(Run, Run.id == Cell.run_id)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .join(Plan, Plan.id == PlanRevision.plan_id)
        .join(Effect, Effect.id == Plan.effect_id)
        .distinct()
        .subquery()
    )
