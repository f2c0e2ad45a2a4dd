"""What is expected of a setting; what a host does beside rendering, as taking a latency off."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

_COLUMNS = ["host", "host_version", "mode", "rate", "block_size", "channels", "word_length"]
# As the database has cut the first migration's name of it.
_UNIQUE = "uq_condition_host_host_version_mode_rate_block_size_cha_c323"


def upgrade() -> None:
    op.add_column("setting", sa.Column("expected", JSONB))
    op.add_column("host", sa.Column("hosting", JSONB, nullable=False, server_default=sa.text("'[]'::jsonb")))
    op.add_column("condition", sa.Column("hosting", sa.Text, nullable=False, server_default=""))
    op.drop_constraint(op.f(_UNIQUE), "condition")
    op.create_unique_constraint(op.f(_UNIQUE), "condition", [*_COLUMNS, "hosting"])


def downgrade() -> None:
    # Conditions that differ in this alone would be the same: each goes on under a block size that no host has.
    op.execute("UPDATE condition SET block_size = -id WHERE hosting <> ''")
    op.drop_constraint(op.f(_UNIQUE), "condition")
    op.create_unique_constraint(op.f(_UNIQUE), "condition", _COLUMNS)
    op.drop_column("condition", "hosting")
    op.drop_column("host", "hosting")
    op.drop_column("setting", "expected")
