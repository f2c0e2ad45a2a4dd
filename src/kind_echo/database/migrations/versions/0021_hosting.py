"""Cases may vary what the host does from take to take; settings may begin from a preset; plug-ins are uploaded.

Machines can be asked to look again at what they have, and a host tells its system.

What a machine looked at and cannot offer is written down with its offers, which are JSON.
"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("case", sa.Column("variation", sa.Text, nullable=False, server_default=""))
    op.add_column("setting", sa.Column("preset", sa.LargeBinary))
    op.add_column("setting", sa.Column("preset_name", sa.Text))
    op.add_column("setting", sa.Column("preset_sha256", sa.Text))
    op.add_column("host", sa.Column("system", sa.Text, nullable=False, server_default=""))
    op.create_table(
        "artefact",
        sa.Column("id", sa.Integer, sa.Identity(), primary_key=True),
        sa.Column("build_id", sa.Integer, sa.ForeignKey("build.id", ondelete="CASCADE"), nullable=False),
        sa.Column("standard", sa.Text, nullable=False),
        sa.Column("system", sa.Text, nullable=False),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("digest", sa.Text, nullable=False, index=True),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("signed_by", sa.Text),
        sa.Column("uploaded_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("uploaded_by", sa.Text, nullable=False),
        sa.UniqueConstraint("build_id", "standard", "system"),
        sa.CheckConstraint("system IN ('linux', 'macos', 'windows')", name="system"),
    )
    op.create_table(
        "artefact_piece",
        sa.Column("digest", sa.Text, primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("data", sa.LargeBinary, nullable=False),
    )
    op.drop_constraint(op.f("ck_token_scope"), "token")
    op.create_check_constraint("scope", "token", "scope IN ('read', 'submit', 'upload', 'render')")
    op.add_column("worker", sa.Column("look_again_at", sa.DateTime(timezone=True)))


def downgrade() -> None:
    op.drop_column("worker", "look_again_at")
    op.execute("DELETE FROM token WHERE scope = 'upload'")
    op.drop_constraint(op.f("ck_token_scope"), "token")
    op.create_check_constraint("scope", "token", "scope IN ('read', 'submit', 'render')")
    op.drop_table("artefact_piece")
    op.drop_table("artefact")
    op.drop_column("host", "system")
    for name in ("preset_sha256", "preset_name", "preset"):
        op.drop_column("setting", name)
    op.drop_column("case", "variation")
