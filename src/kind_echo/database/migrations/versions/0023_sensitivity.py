"""What faults are noticed that are planted into approved renders."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "sensitivity",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("key", sa.Text, nullable=False, unique=True),
        sa.Column("asked", JSONB, nullable=False),
        sa.Column("found", JSONB),
        sa.Column("seconds", sa.Float, nullable=False, server_default="0"),
        sa.Column("why", sa.Text, nullable=False, server_default=""),
        sa.Column("asked_at", sa.DateTime(timezone=True), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("sensitivity")
