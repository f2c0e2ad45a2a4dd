"""Machines that reach the server alone belong to their token, and a keeper approves what they offer."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

# Machines that rendered before approval was asked for go on doing so.
_KNOWN = """
INSERT INTO machine (name, token_id, offers, hosts, effects, arrived_at, approved_at, approved_by)
SELECT DISTINCT ON (w.machine) w.machine, w.token_id, w.renderers,
    coalesce((SELECT jsonb_agg(jsonb_build_array(r->>'queue', h->>'name', h->>'version'))
        FROM jsonb_array_elements(w.renderers) r, jsonb_array_elements(r->'hosts') h), '[]'),
    coalesce((SELECT jsonb_agg(jsonb_build_array(r->>'queue', e->>'name', e->>'handle'))
        FROM jsonb_array_elements(w.renderers) r, jsonb_array_elements(r->'effects') e), '[]'),
    w.started_at, now(), 'before machines were approved'
FROM worker w JOIN token t ON t.id = w.token_id ORDER BY w.machine, w.seen_at DESC
"""


def upgrade() -> None:
    op.create_table(
        "machine",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("token_id", sa.Integer(), nullable=False),
        sa.Column("offers", postgresql.JSONB(), nullable=False),
        sa.Column("hosts", postgresql.JSONB(), nullable=False),
        sa.Column("effects", postgresql.JSONB(), nullable=False),
        sa.Column("arrived_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("approved_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("approved_by", sa.Text(), nullable=True),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_machine")),
    )
    op.create_index(op.f("ix_machine_token_id"), "machine", ["token_id"])
    op.execute(_KNOWN)


def downgrade() -> None:
    op.drop_table("machine")
