"""Indexes by which runs are counted without reading their cells, and cells are found by their render."""

from alembic import op

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index("ix_cell_run_id_state_verdict", "cell", ["run_id", "state", "verdict"])
    op.execute("CREATE INDEX ix_cell_not_passed ON cell (run_id) WHERE verdict <> 'Pass'")
    op.create_index("ix_cell_render_id", "cell", ["render_id"])
    op.drop_index("ix_cell_run_id", "cell")


def downgrade() -> None:
    op.create_index("ix_cell_run_id", "cell", ["run_id"])
    for name in ("ix_cell_render_id", "ix_cell_not_passed", "ix_cell_run_id_state_verdict"):
        op.drop_index(name, "cell")
