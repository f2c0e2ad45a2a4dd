"""Hosts and who renders them, workers, takes, what a render printed, and files from render kits."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

_SIMULATED = (
    ("Almanac", "7", "Simulated multitrack", '["real time", "offline"]'),
    ("Bittern", "5", "Simulated file editor", '["offline"]'),
    ("Estuary", "2", "Simulated batch renderer", '["offline"]'),
)


def upgrade() -> None:
    empty = sa.text("'[]'::jsonb")
    op.add_column("effect", sa.Column("handle", sa.Text(), nullable=False, server_default=""))
    op.add_column("effect", sa.Column("parameters", JSONB(), nullable=False, server_default=empty))
    op.add_column("case", sa.Column("takes", sa.Integer(), nullable=False, server_default="1"))
    op.add_column("cell", sa.Column("log", sa.Text(), nullable=False, server_default=""))
    op.add_column("render", sa.Column("log", sa.Text(), nullable=False, server_default=""))
    op.alter_column("render", "claimed_latency", nullable=True)
    host = op.create_table(
        "host",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("version", sa.Text(), nullable=False),
        sa.Column("description", sa.Text(), nullable=False),
        sa.Column("renderer", sa.Text(), nullable=False),
        sa.Column("modes", JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_host")),
        sa.UniqueConstraint("name", "version", name=op.f("uq_host_name_version")),
    )
    # Conditions of databases from before name these hosts; nothing else could render.
    for name, version, description, modes in _SIMULATED:
        row = {"name": name, "version": version, "description": description, "renderer": "stand-in"}
        op.execute(sa.insert(host).values(**row, modes=sa.text(f"'{modes}'::jsonb")))
    op.create_table(
        "worker",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("machine", sa.Text(), nullable=False),
        sa.Column("process", sa.Integer(), nullable=False),
        sa.Column("renderers", JSONB(), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_worker")),
        sa.UniqueConstraint("machine", "process", name=op.f("uq_worker_machine_process")),
    )
    op.create_table(
        "take",
        sa.Column("render_id", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("content_sha256", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["render_id"], ["render.id"], name=op.f("fk_take_render_id")),
        sa.ForeignKeyConstraint(["content_sha256"], ["content.sha256"], name=op.f("fk_take_content_sha256")),
        sa.PrimaryKeyConstraint("render_id", "number", name=op.f("pk_take")),
    )
    op.create_table(
        "kit_file",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("content_sha256", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("cell_id", sa.Integer(), nullable=True),
        sa.Column("candidates", JSONB(), nullable=False),
        sa.Column("named_for", sa.Integer(), nullable=True),
        sa.Column("named_by", sa.Text(), nullable=False),
        sa.Column("take", sa.Integer(), nullable=False),
        sa.Column("received_at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("state IN ('received', 'matched', 'doubtful', 'unknown')", name=op.f("ck_kit_file_state")),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], name=op.f("fk_kit_file_run_id")),
        sa.ForeignKeyConstraint(["cell_id"], ["cell.id"], name=op.f("fk_kit_file_cell_id")),
        sa.ForeignKeyConstraint(["named_for"], ["cell.id"], name=op.f("fk_kit_file_named_for")),
        sa.ForeignKeyConstraint(["content_sha256"], ["content.sha256"], name=op.f("fk_kit_file_content_sha256")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_kit_file")),
    )
    op.create_index(op.f("ix_kit_file_run_id"), "kit_file", ["run_id"])


def downgrade() -> None:
    for table in ("kit_file", "take", "worker", "host"):
        op.drop_table(table)
    op.execute("UPDATE render SET claimed_latency = 0 WHERE claimed_latency IS NULL")
    op.alter_column("render", "claimed_latency", nullable=False)
    for table, column in (("render", "log"), ("cell", "log"), ("case", "takes"), ("effect", "parameters"),
                          ("effect", "handle")):  # fmt: skip
        op.drop_column(table, column)
