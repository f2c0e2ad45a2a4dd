"""A listening test says which page its sides came from, so that it is found from there."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("listening_test", sa.Column("subject", sa.Text, nullable=False, server_default=""))
    op.create_index("ix_listening_test_subject", "listening_test", ["subject"])


def downgrade() -> None:
    op.drop_column("listening_test", "subject")
