"""Typed reasons and bounds of readings, causes, levels of both sides, requests in full, versions of verdicts."""

import hashlib
import json
from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

# What a request meant where it did not say, when this was written; later defaults must not change kept signals.
_USUAL = {
    "level": -6.0, "seconds": 2.0, "placement": "equal", "seed": 1, "lead_in": 0.0, "tail": 0.0, "fade": 0.01,
    "frequency": 997.0, "coherent": False, "start": 20.0, "end": None, "law": "exponential", "color": "white",
    "tempo": 120.0, "second": 7000.0, "ratio": 4.0, "per_octave": 12.0, "step_seconds": 0.5, "lowest": -60.0,
    "climb": 2.0, "low": 20.0, "order": 16, "piece": "bell buoy", "density": "sparse",
}  # fmt: skip

# Readings kept before had their bound in words alone.
_SILENT = """
UPDATE {table} SET readings = (
    SELECT coalesce(jsonb_agg(
        CASE
            WHEN r->>'value' IS NOT NULL OR jsonb_exists(r, 'reason') THEN r
            WHEN r->>'measure' = 'null_depth' AND r->>'why' LIKE '%residual is digital silence%'
                THEN r || '{{"reason": "null", "at_least": "Infinity"}}'
            WHEN r->>'measure' <> 'null_depth' AND r->>'why' = 'all takes are identical'
                THEN r || '{{"reason": "null", "at_most": "-Infinity"}}'
            WHEN r->>'measure' <> 'null_depth' AND r->>'why' LIKE '%residual is digital silence%'
                THEN r || '{{"reason": "null", "at_most": "-Infinity"}}'
            WHEN r->>'measure' NOT IN ('null_depth', 'peak_to_loudness', 'crest_factor')
                AND r->>'why' LIKE '%digital silence%'
                THEN r || '{{"reason": "silence", "at_most": "-Infinity"}}'
            ELSE r
        END ORDER BY place), '[]'::jsonb)
    FROM jsonb_array_elements(readings) WITH ORDINALITY AS listed(r, place))
WHERE readings::text LIKE '%digital silence%' OR readings::text LIKE '%all takes are identical%'
"""


def upgrade() -> None:
    op.add_column("analysis", sa.Column("causes", JSONB(), nullable=False, server_default=sa.text("'[]'")))
    op.add_column("analysis", sa.Column("side_readings", JSONB(), nullable=False, server_default=sa.text("'{}'")))
    op.add_column("worker", sa.Column("stopped_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("cell", sa.Column("rules", sa.Integer(), nullable=False, server_default="0"))
    for table in ("analysis", "render"):
        op.execute(_SILENT.format(table=table))
    _write_requests_in_full()


def _write_requests_in_full() -> None:
    bind = op.get_bind()
    for number, request in bind.execute(sa.text("SELECT id, request FROM signal")).all():
        if request.get("kind") != "file":
            change = sa.text("UPDATE signal SET request = CAST(:request AS jsonb) WHERE id = :id")
            bind.execute(change, {"id": number, "request": json.dumps(_USUAL | request)})
    rows = bind.execute(
        sa.text(
            'SELECT c.id, c.fingerprint, s.request, t.parameters, t.parts, p.effect_id FROM "case" c '
            "JOIN signal s ON s.id = c.signal_id JOIN setting t ON t.id = c.setting_id "
            "JOIN plan_revision r ON r.id = c.revision_id JOIN plan p ON p.id = r.plan_id"
        )
    ).all()
    moved: dict[tuple[int, str], str] = {}
    for number, before, request, parameters, parts, effect in rows:
        after = _fingerprint(request, parameters, parts or [])
        moved[effect, before] = after
        bind.execute(sa.text('UPDATE "case" SET fingerprint = :after WHERE id = :id'), {"after": after, "id": number})
    for table in ("decision", "reference"):
        for (effect, before), after in moved.items():
            change = sa.text(
                f"UPDATE {table} SET fingerprint = :after WHERE fingerprint = :before AND effect_id = :effect"
            )
            bind.execute(change, {"after": after, "before": before, "effect": effect})


def _fingerprint(request: dict[str, Any], parameters: dict[str, Any], parts: list[dict[str, Any]]) -> str:
    return hashlib.sha256(json.dumps([request, parameters, *parts], sort_keys=True).encode()).hexdigest()


def downgrade() -> None:
    op.drop_column("cell", "rules")
    op.drop_column("worker", "stopped_at")
    op.drop_column("analysis", "side_readings")
    op.drop_column("analysis", "causes")
