"""Which columns refer to audio, and which audio belongs to which render and plan.

Every column that holds the digest of kept audio is named here, and a test looks for others in the models and in a
database that is full: audio is deleted by what stands in this module alone.
"""

from collections.abc import Mapping

from sqlalchemy import ColumnElement, Select, Subquery, exists, func, select, union_all

from kind_echo.core.signals import OWN_FILE
from kind_echo.database.models import (
    Analysis,
    Cell,
    Content,
    Delivery,
    Effect,
    KitFile,
    ListeningTest,
    Plan,
    PlanRevision,
    Render,
    Run,
    Signal,
    Take,
    Upload,
)

_OF_RENDERS: Mapping[str, Select[str]] = {
    "render.content_sha256": select(Render.content_sha256.label("sha256")),
    "take.content_sha256": select(Take.content_sha256.label("sha256")),
}
_SIDE = func.jsonb_array_elements(ListeningTest.sides).table_valued("value").alias("side")

_OF_OTHERS: Mapping[str, Select[str]] = {
    "upload.content_sha256": select(Upload.content_sha256.label("sha256")),
    "kit_file.content_sha256": select(KitFile.content_sha256.label("sha256")),
    "delivery.contents": select(func.jsonb_array_elements_text(Delivery.contents).label("sha256")),
    "signal.request": select(Signal.request["sha256"].astext.label("sha256")).where(
        Signal.request["kind"].astext == OWN_FILE
    ),
    "listening_test.sides": select(func.jsonb_extract_path_text(_SIDE.c.value, "sha256").label("sha256"))
    .select_from(ListeningTest)
    .join(_SIDE, ListeningTest.deleted_at.is_(None)),
    # What a cell is compared with: its signal or its reference, which may be somebody's file to the bit.
    "analysis.reference_sha256": select(Analysis.reference_sha256.label("sha256")).join(
        Cell, Cell.analysis_key == Analysis.key
    ),
    "analysis.render_sha256": select(Analysis.render_sha256.label("sha256")).join(
        Cell, Cell.analysis_key == Analysis.key
    ),
}

USES: Mapping[str, Select[str]] = {**_OF_RENDERS, **_OF_OTHERS}
"""By table and column: the digests of the audio that it refers to, and that stays for it."""

PARTS_OF_AUDIO = frozenset({"content.sha256", "chunk.sha256", "peak_level.owner"})
"""Columns that hold the audio itself and its waveforms, and go with it."""


def is_used() -> ColumnElement[bool]:
    """Whether anything refers to a content; for a query over `Content`."""
    every = union_all(*USES.values()).subquery()
    return exists().where(every.c.sha256 == Content.sha256)


def used_beside_renders() -> Subquery:
    """Digests of all audio that something other than a render, or the comparison of a cell, refers to."""
    others = (query for name, query in _OF_OTHERS.items() if not name.startswith("analysis."))
    return union_all(*others).subquery()


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
