"""Sets of own files, and where to look first in a pair."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("analysis", sa.Column("places", JSONB, nullable=False, server_default=sa.text("'[]'::jsonb")))
    op.create_table(
        "file_set",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("note", sa.Text, nullable=False, server_default=""),
        sa.Column("options", JSONB, nullable=False),
        sa.Column("columns", JSONB, nullable=False, server_default=sa.text("'[]'::jsonb")),
        sa.Column("limits", JSONB, nullable=False, server_default=sa.text("'{}'::jsonb")),
        sa.Column("revision", sa.Integer, nullable=False, server_default="1"),
        sa.Column("brought_by", sa.Text, nullable=False, server_default=""),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        "set_file",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("set_id", sa.Integer, sa.ForeignKey("file_set.id", ondelete="CASCADE"), nullable=False),
        sa.Column("upload_id", sa.Integer, sa.ForeignKey("upload.id"), nullable=False),
        sa.Column("folder", sa.Text, nullable=False, server_default=""),
        sa.Column("role", sa.Text, nullable=False, server_default="file"),
        sa.Column("state", sa.Text, nullable=False, server_default="measuring"),
        sa.Column("why", sa.Text, nullable=False, server_default=""),
        sa.Column("readings", JSONB, nullable=False, server_default=sa.text("'[]'::jsonb")),
        sa.Column("pair_id", sa.Integer, sa.ForeignKey("pair.id", ondelete="SET NULL")),
        sa.CheckConstraint("role IN ('file', 'reference', 'input')", name="role"),
        sa.CheckConstraint("state IN ('measuring', 'done', 'failed')", name="state"),
    )
    for column in ("set_id", "upload_id", "pair_id"):
        op.create_index(f"ix_set_file_{column}", "set_file", [column])


def downgrade() -> None:
    op.drop_table("set_file")
    op.drop_table("file_set")
    op.drop_column("analysis", "places")
