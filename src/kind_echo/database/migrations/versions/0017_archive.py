"""What is under test can be renamed and archived; an effect says how many channels it takes."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

_RENAMED = ("setting", "host")
_ARCHIVED = ("effect", "build", "setting", "host", "plan", "run")


def upgrade() -> None:
    op.add_column("effect", sa.Column("channels", postgresql.JSONB, nullable=False, server_default="[]"))
    op.add_column("effect", sa.Column("offered_as", sa.Text))
    for table in _RENAMED:
        op.add_column(table, sa.Column("former_names", postgresql.JSONB, nullable=False, server_default="[]"))
    for table in _ARCHIVED:
        op.add_column(table, sa.Column("archived_at", sa.DateTime(timezone=True)))


def downgrade() -> None:
    for table in _ARCHIVED:
        op.drop_column(table, "archived_at")
    for table in _RENAMED:
        op.drop_column(table, "former_names")
    op.drop_column("effect", "offered_as")
    op.drop_column("effect", "channels")
