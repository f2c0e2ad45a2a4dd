"""Audio in less space, in an object store if one is set up, and a rule for how long it is kept."""

import sqlalchemy as sa
from alembic import op

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.audio_io.packing import unpack

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

_PACKED = sa.text(
    "SELECT c.sha256, c.position, c.packing, c.data, t.encoding, t.channels FROM chunk c JOIN content t USING (sha256) "
    "WHERE c.packing <> 'none' ORDER BY c.sha256, c.position LIMIT 100"
)
_UNPACK = sa.text("UPDATE chunk SET data = :data, packing = 'none' WHERE sha256 = :sha256 AND position = :position")


def upgrade() -> None:
    op.add_column("content", sa.Column("bytes", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("content", sa.Column("brought_by", sa.Text(), server_default="", nullable=False))
    op.add_column("content", sa.Column("object_key", sa.Text(), nullable=True))
    op.add_column("content", sa.Column("dropped_at", sa.DateTime(timezone=True), nullable=True))
    op.create_index("ix_content_brought_by", "content", ["brought_by"], postgresql_where=sa.text("brought_by <> ''"))
    op.add_column("upload", sa.Column("brought_by", sa.Text(), server_default="", nullable=False))
    op.add_column("chunk", sa.Column("packing", sa.Text(), server_default="none", nullable=False))
    op.add_column("chunk", sa.Column("start", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("chunk", sa.Column("length", sa.Integer(), nullable=True))
    op.execute("UPDATE chunk SET length = octet_length(data)")
    op.alter_column("chunk", "length", nullable=False)
    op.alter_column("chunk", "data", nullable=True)
    op.execute(
        "UPDATE content SET bytes = s.bytes FROM (SELECT sha256, sum(length) AS bytes FROM chunk GROUP BY sha256) s "
        "WHERE s.sha256 = content.sha256"
    )
    op.create_table(
        "storage_rule",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("keep_runs", sa.Integer(), nullable=True),
        sa.Column("person_bytes", sa.BigInteger(), nullable=True),
        sa.Column("all_bytes", sa.BigInteger(), nullable=True),
        sa.Column("changed_by", sa.Text(), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("applied_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("id = 1", name=op.f("ck_storage_rule_only_one")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_storage_rule")),
    )
    op.execute("INSERT INTO storage_rule (id, changed_by) VALUES (1, '')")


def downgrade() -> None:
    """Raises RuntimeError where audio is not in the database, or no more anywhere."""
    connection = op.get_bind()
    if connection.scalar(sa.text("SELECT count(*) FROM content WHERE object_key IS NOT NULL")):
        raise RuntimeError("audio is in an object store; first: kind-echo storage move --to database")
    if connection.scalar(sa.text("SELECT count(*) FROM content WHERE dropped_at IS NOT NULL")):
        raise RuntimeError("audio was dropped by retention, and the older version cannot say so")
    while rows := connection.execute(_PACKED).all():
        for row in rows:
            data = unpack(row.packing, row.data, ENCODINGS[row.encoding], row.channels)
            connection.execute(_UNPACK, {"data": data, "sha256": row.sha256, "position": row.position})
    op.drop_table("storage_rule")
    op.alter_column("chunk", "data", nullable=False)
    for column in ("length", "start", "packing"):
        op.drop_column("chunk", column)
    op.drop_column("upload", "brought_by")
    op.drop_index("ix_content_brought_by", "content")
    for column in ("dropped_at", "object_key", "brought_by", "bytes"):
        op.drop_column("content", column)
