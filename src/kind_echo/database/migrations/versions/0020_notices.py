"""Notices go out to addresses, and are kept with what was answered; plans run by themselves at times that are set.

Renders say whether what was measured of them is of the samples that are kept.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None

_TIME = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.create_table(
        "notice_target",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("address", sa.Text, nullable=False),
        sa.Column("topics", JSONB, nullable=False),
        sa.Column("secret", sa.Text, nullable=False),
        sa.Column("made_by", sa.Text, nullable=False),
        sa.Column("made_at", _TIME, nullable=False),
        sa.Column("paused_at", _TIME),
        sa.Column("paused_by", sa.Text),
        sa.CheckConstraint("kind IN ('webhook', 'email')", name="kind"),
    )
    op.create_table(
        "notice",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column(
            "target_id", sa.Integer, sa.ForeignKey("notice_target.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("number", sa.Text, nullable=False),
        sa.Column("topic", sa.Text, nullable=False),
        sa.Column("subject", sa.Text, nullable=False),
        sa.Column("lines", JSONB, nullable=False),
        sa.Column("data", JSONB, nullable=False),
        sa.Column("made_at", _TIME, nullable=False, index=True),
        sa.Column("state", sa.Text, nullable=False),
        sa.Column("attempts", sa.Integer, nullable=False, server_default="0"),
        sa.Column("tried_at", _TIME),
        sa.Column("next_at", _TIME),
        sa.Column("answer", sa.Text, nullable=False, server_default=""),
        sa.CheckConstraint("state IN ('waiting', 'sent', 'failed')", name="state"),
    )
    op.create_table(
        "schedule",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("plan_ids", JSONB, nullable=False),
        sa.Column("days", JSONB, nullable=False),
        sa.Column("minute", sa.Integer, nullable=False),
        sa.Column("zone", sa.Text, nullable=False),
        sa.Column("everything", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("again", sa.Boolean, nullable=False, server_default=sa.false()),
        sa.Column("made_by", sa.Text, nullable=False),
        sa.Column("made_at", _TIME, nullable=False),
        sa.Column("paused_at", _TIME),
        sa.Column("next_at", _TIME, nullable=False),
        sa.Column("last_at", _TIME),
        sa.Column("last_told", sa.Text, nullable=False, server_default=""),
        sa.CheckConstraint("minute BETWEEN 0 AND 1439", name="minute"),
    )
    op.add_column("run", sa.Column("told_at", _TIME))
    op.execute("UPDATE run SET told_at = now()")  # what ran before anybody could be told is told to nobody
    op.create_index("ix_run_untold", "run", ["id"], postgresql_where=sa.text("told_at IS NULL"))
    op.add_column("render", sa.Column("measured_as_kept", sa.Boolean, nullable=False, server_default=sa.false()))
    op.add_column("decision", sa.Column("ending_told_at", _TIME))
    untold = sa.text("until IS NOT NULL AND ending_told_at IS NULL")
    op.create_index("ix_decision_until", "decision", ["until"], postgresql_where=untold)


def downgrade() -> None:
    op.drop_index("ix_decision_until", "decision")
    op.drop_column("decision", "ending_told_at")
    op.drop_column("render", "measured_as_kept")
    op.drop_index("ix_run_untold", "run")
    op.drop_column("run", "told_at")
    op.drop_table("schedule")
    op.drop_table("notice")
    op.drop_table("notice_target")
