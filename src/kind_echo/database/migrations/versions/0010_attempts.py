"""Attempts at limited routes counted where all web processes see them; the memory that workers take."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "attempt",
        sa.Column("id", sa.BigInteger(), sa.Identity(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_attempt")),
    )
    op.create_index("ix_attempt_key_at", "attempt", ["key", "at"])
    op.add_column("worker", sa.Column("job_id", sa.BigInteger(), nullable=True))
    op.add_column("worker", sa.Column("memory", sa.Double(), nullable=True))


def downgrade() -> None:
    op.drop_column("worker", "memory")
    op.drop_column("worker", "job_id")
    op.drop_table("attempt")
