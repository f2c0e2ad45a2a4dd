"""Curves of renders and analyses, and what explains a difference."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    empty = sa.text("'[]'::jsonb")
    for table in ("render", "analysis"):
        op.add_column(table, sa.Column("curves", JSONB(), nullable=False, server_default=empty))
    op.add_column("analysis", sa.Column("explanation", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("analysis", "explanation")
    for table in ("analysis", "render"):
        op.drop_column(table, "curves")
