"""Sessions that were signed out, so that a copy of their cookie is worth nothing."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "ended_session",
        sa.Column("number", sa.Text(), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("number", name=op.f("pk_ended_session")),
    )


def downgrade() -> None:
    op.drop_table("ended_session")
