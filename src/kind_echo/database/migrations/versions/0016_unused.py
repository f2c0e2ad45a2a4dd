"""Audio that nothing refers to any more waits before it goes; the clips of a listening test are its maker's."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("content", sa.Column("unused_since", sa.DateTime(timezone=True)))
    op.create_index(
        "ix_content_unused_since", "content", ["unused_since"], postgresql_where=sa.text("unused_since IS NOT NULL")
    )
    op.add_column("listening_test", sa.Column("deleted_at", sa.DateTime(timezone=True)))
    op.execute(
        "UPDATE content SET brought_by = test.made_by FROM listening_test AS test, "
        "jsonb_array_elements(test.sides) AS side WHERE content.sha256 = side->>'sha256' AND content.brought_by = '' "
        "AND NOT EXISTS (SELECT 1 FROM render WHERE render.content_sha256 = content.sha256) "
        "AND NOT EXISTS (SELECT 1 FROM take WHERE take.content_sha256 = content.sha256)"
    )


def downgrade() -> None:
    op.drop_column("listening_test", "deleted_at")
    op.drop_column("content", "unused_since")
