"""Decisions, what a render depends on, what a cell measured, stopping, and limits by condition."""

from collections.abc import Callable
from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

_ADDED: tuple[tuple[str, Callable[[], sa.Column[Any]]], ...] = (
    ("plan_revision", lambda: sa.Column("made_by", sa.Text(), nullable=False, server_default="")),
    ("plan_revision", lambda: sa.Column("note", sa.Text(), nullable=False, server_default="")),
    ("plan_revision", lambda: sa.Column("condition_limits", JSONB(), nullable=False, server_default=sa.text("'{}'"))),
    ("plan_revision", lambda: sa.Column("excluded", JSONB(), nullable=False, server_default=sa.text("'[]'"))),
    ("plan_revision", lambda: sa.Column("document", JSONB(), nullable=True)),
    ("run", lambda: sa.Column("priority", sa.Integer(), nullable=False, server_default="0")),
    ("run", lambda: sa.Column("forced", sa.Boolean(), nullable=False, server_default=sa.false())),
    ("run", lambda: sa.Column("stopped_at", sa.DateTime(timezone=True), nullable=True)),
    ("run", lambda: sa.Column("stopped_by", sa.Text(), nullable=True)),
    ("run", lambda: sa.Column("search_id", sa.Integer(), nullable=True)),
    ("render", lambda: sa.Column("key", sa.Text(), nullable=True)),
    ("cell", lambda: sa.Column("broken", JSONB(), nullable=False, server_default=sa.text("'[]'"))),
    ("cell", lambda: sa.Column("measured", JSONB(), nullable=False, server_default=sa.text("'{}'"))),
    ("cell", lambda: sa.Column("reused", sa.Boolean(), nullable=False, server_default=sa.false())),
)

# Readings of renders that were judged before: those of all channels, as new cells keep them.
_MEASURED = """
UPDATE cell SET measured = found.readings
FROM (
    SELECT cell.id, jsonb_object_agg(reading->>'measure', reading->'value') AS readings
    FROM cell
    LEFT JOIN render ON render.id = cell.render_id
    LEFT JOIN analysis ON analysis.key = cell.analysis_key,
    LATERAL jsonb_array_elements(coalesce(render.readings, '[]') || coalesce(analysis.readings, '[]')) AS reading
    WHERE reading->>'channel' = 'all' AND reading->'value' <> 'null'
    GROUP BY cell.id
) AS found
WHERE found.id = cell.id
"""


def upgrade() -> None:
    for table, column in _ADDED:
        op.add_column(table, column())
    op.create_index(op.f("ix_render_key"), "render", ["key"])
    op.execute(_MEASURED)
    op.create_table(
        "search",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("case_id", sa.Integer(), nullable=False),
        sa.Column("condition_id", sa.Integer(), nullable=False),
        sa.Column("good_build_id", sa.Integer(), nullable=False),
        sa.Column("bad_build_id", sa.Integer(), nullable=False),
        sa.Column("started_by", sa.Text(), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["case_id"], ["case.id"], name=op.f("fk_search_case_id")),
        sa.ForeignKeyConstraint(["condition_id"], ["condition.id"], name=op.f("fk_search_condition_id")),
        sa.ForeignKeyConstraint(["good_build_id"], ["build.id"], name=op.f("fk_search_good_build_id")),
        sa.ForeignKeyConstraint(["bad_build_id"], ["build.id"], name=op.f("fk_search_bad_build_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_search")),
    )
    op.create_foreign_key(op.f("fk_run_search_id"), "run", "search", ["search_id"], ["id"])
    op.create_index(op.f("ix_run_search_id"), "run", ["search_id"])
    op.create_table(
        "decision",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("act_id", sa.Integer(), nullable=False),
        sa.Column("cell_id", sa.Integer(), nullable=False),
        sa.Column("effect_id", sa.Integer(), nullable=False),
        sa.Column("fingerprint", sa.Text(), nullable=False),
        sa.Column("condition_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("ticket", sa.Text(), nullable=False),
        sa.Column("until", sa.Date(), nullable=True),
        sa.Column("covers", JSONB(), nullable=False),
        sa.CheckConstraint("kind IN ('accepted', 'fault', 'waived')", name=op.f("ck_decision_kind")),
        sa.CheckConstraint("kind <> 'waived' OR until IS NOT NULL", name=op.f("ck_decision_waiver_ends")),
        sa.ForeignKeyConstraint(["act_id"], ["act.id"], name=op.f("fk_decision_act_id")),
        sa.ForeignKeyConstraint(["cell_id"], ["cell.id"], name=op.f("fk_decision_cell_id")),
        sa.ForeignKeyConstraint(["effect_id"], ["effect.id"], name=op.f("fk_decision_effect_id")),
        sa.ForeignKeyConstraint(["condition_id"], ["condition.id"], name=op.f("fk_decision_condition_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_decision")),
    )
    op.create_index(op.f("ix_decision_act_id"), "decision", ["act_id"])
    op.create_index(op.f("ix_decision_cell_id"), "decision", ["cell_id"])
    op.create_index("ix_decision_place", "decision", ["effect_id", "fingerprint", "condition_id"])


def downgrade() -> None:
    op.drop_table("decision")
    op.execute("DELETE FROM cell WHERE run_id IN (SELECT id FROM run WHERE search_id IS NOT NULL)")
    op.execute("DELETE FROM run WHERE search_id IS NOT NULL")
    op.drop_index(op.f("ix_run_search_id"), "run")
    op.drop_constraint(op.f("fk_run_search_id"), "run")
    op.drop_table("search")
    op.drop_index(op.f("ix_render_key"), "render")
    for table, column in reversed(_ADDED):
        op.drop_column(table, column().name)
