"""What is expected of a compressor stands with the case."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("case", sa.Column("expected", JSONB))


def downgrade() -> None:
    op.drop_column("case", "expected")
