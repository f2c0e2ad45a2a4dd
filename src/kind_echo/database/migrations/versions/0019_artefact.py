"""A run says what its build was made of, so that the same build that is submitted again joins it."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("run", sa.Column("artefact", sa.String, nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("run", "artefact")
