"""Listening: tests, sittings, trials that nobody changes, and notes."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

_MOMENT = sa.DateTime(timezone=True)


def upgrade() -> None:
    op.create_table(
        "listening_test",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("kind", sa.Text, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("note", sa.Text, nullable=False, server_default=""),
        sa.Column("made_by", sa.Text, nullable=False),
        sa.Column("made_at", _MOMENT, nullable=False),
        sa.Column("until", _MOMENT),
        sa.Column("alike", sa.Text, nullable=False),
        sa.Column("rate", sa.Integer, nullable=False),
        sa.Column("channels", sa.Integer, nullable=False),
        sa.Column("start", sa.Integer, nullable=False),
        sa.Column("stop", sa.Integer, nullable=False),
        sa.Column("sides", JSONB, nullable=False),
        sa.Column("options", JSONB, nullable=False),
        sa.CheckConstraint("kind IN ('abx', 'rating', 'order')", name="kind"),
    )
    op.create_index("ix_listening_test_alike", "listening_test", ["alike"])
    op.create_table(
        "sitting",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("test_id", sa.Integer, sa.ForeignKey("listening_test.id"), nullable=False),
        sa.Column("who", sa.Text, nullable=False),
        sa.Column("trials", sa.Integer, nullable=False),
        sa.Column("state", sa.Text, nullable=False, server_default="open"),
        sa.Column("begun_at", _MOMENT, nullable=False),
        sa.Column("ended_at", _MOMENT),
        sa.CheckConstraint("state IN ('open', 'done', 'broken off')", name="state"),
    )
    op.create_index("ix_sitting_test_id", "sitting", ["test_id"])
    op.create_index(
        "one_open_sitting", "sitting", ["test_id", "who"], unique=True, postgresql_where=sa.text("state = 'open'")
    )
    op.create_table(
        "trial",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("sitting_id", sa.Integer, sa.ForeignKey("sitting.id"), nullable=False),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("slots", JSONB, nullable=False),
        sa.Column("drawn_at", _MOMENT, nullable=False),
        sa.UniqueConstraint("sitting_id", "number"),
    )
    op.create_table(
        "trial_answer",
        sa.Column("trial_id", sa.Integer, sa.ForeignKey("trial.id"), primary_key=True),
        sa.Column("given", JSONB, nullable=False),
        sa.Column("right", sa.Boolean),
        sa.Column("switches", sa.Integer, nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.Column("answered_at", _MOMENT, nullable=False),
    )
    op.create_table(
        "trial_clip",
        sa.Column("secret", sa.Text, primary_key=True),
        sa.Column("trial_id", sa.Integer, sa.ForeignKey("trial.id"), nullable=False),
        sa.Column("slot", sa.Integer, nullable=False),
    )
    op.create_index("ix_trial_clip_trial_id", "trial_clip", ["trial_id"])
    op.create_table(
        "listening_note",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("subject", sa.Text, nullable=False),
        sa.Column("side", sa.Text, nullable=False),
        sa.Column("second", sa.Float),
        sa.Column("text", sa.Text, nullable=False),
        sa.Column("who", sa.Text, nullable=False),
        sa.Column("written_at", _MOMENT, nullable=False),
    )
    op.create_index("ix_listening_note_subject", "listening_note", ["subject"])
    op.create_table("listening_word", sa.Column("word", sa.Text, primary_key=True))


def downgrade() -> None:
    for table in (
        "listening_word", "listening_note", "trial_clip", "trial_answer", "trial", "sitting", "listening_test",
    ):  # fmt: skip
        op.drop_table(table)
