"""The first tables, and the queue's own."""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "act",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("undone_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("undone_by", sa.Text(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_act")),
    )
    op.create_table(
        "condition",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("host", sa.Text(), nullable=False),
        sa.Column("host_version", sa.Text(), nullable=False),
        sa.Column("mode", sa.Text(), nullable=False),
        sa.Column("rate", sa.Integer(), nullable=False),
        sa.Column("block_size", sa.Integer(), nullable=False),
        sa.Column("channels", sa.Integer(), nullable=False),
        sa.Column("word_length", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_condition")),
        sa.UniqueConstraint(
            "host",
            "host_version",
            "mode",
            "rate",
            "block_size",
            "channels",
            "word_length",
            name=op.f("uq_condition_host_host_version_mode_rate_block_size_channels_word_length"),
        ),
    )
    op.create_table(
        "content",
        sa.Column("sha256", sa.Text(), nullable=False),
        sa.Column("rate", sa.Integer(), nullable=False),
        sa.Column("channels", sa.Integer(), nullable=False),
        sa.Column("frames", sa.BigInteger(), nullable=False),
        sa.Column("encoding", sa.Text(), nullable=False),
        sa.Column("chunk_frames", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("sha256", name=op.f("pk_content")),
    )
    op.create_table(
        "effect",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("description", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_effect")),
        sa.UniqueConstraint("name", name=op.f("uq_effect_name")),
    )
    op.create_table(
        "event",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("detail", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_event")),
    )
    op.create_table(
        "peak_level",
        sa.Column("owner", sa.Text(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("bins", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.PrimaryKeyConstraint("owner", "position", name=op.f("pk_peak_level")),
    )
    op.create_table(
        "signal",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("request", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_signal")),
        sa.UniqueConstraint("name", name=op.f("uq_signal_name")),
    )
    op.create_table(
        "analysis",
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("reference_sha256", sa.Text(), nullable=False),
        sa.Column("render_sha256", sa.Text(), nullable=False),
        sa.Column("options", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("readings", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("alignment", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("same_length", sa.Boolean(), nullable=False),
        sa.Column("spectra", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["reference_sha256"], ["content.sha256"], name=op.f("fk_analysis_reference_sha256")),
        sa.ForeignKeyConstraint(["render_sha256"], ["content.sha256"], name=op.f("fk_analysis_render_sha256")),
        sa.PrimaryKeyConstraint("key", name=op.f("pk_analysis")),
    )
    op.create_table(
        "build",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("effect_id", sa.Integer(), nullable=False),
        sa.Column("version", sa.Text(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["effect_id"], ["effect.id"], name=op.f("fk_build_effect_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_build")),
        sa.UniqueConstraint("effect_id", "position", name=op.f("uq_build_effect_id_position")),
        sa.UniqueConstraint("effect_id", "version", name=op.f("uq_build_effect_id_version")),
    )
    op.create_table(
        "chunk",
        sa.Column("sha256", sa.Text(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["sha256"], ["content.sha256"], name=op.f("fk_chunk_sha256")),
        sa.PrimaryKeyConstraint("sha256", "position", name=op.f("pk_chunk")),
    )
    op.create_table(
        "plan",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("effect_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["effect_id"], ["effect.id"], name=op.f("fk_plan_effect_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_plan")),
        sa.UniqueConstraint("effect_id", "name", name=op.f("uq_plan_effect_id_name")),
    )
    op.create_table(
        "render",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("content_sha256", sa.Text(), nullable=False),
        sa.Column("claimed_latency", sa.Integer(), nullable=False),
        sa.Column("wall_seconds", sa.Double(), nullable=False),
        sa.Column("cpu_seconds", sa.Double(), nullable=False),
        sa.Column("readings", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("rendered_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["content_sha256"], ["content.sha256"], name=op.f("fk_render_content_sha256")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_render")),
    )
    op.create_table(
        "setting",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("effect_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("parameters", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["effect_id"], ["effect.id"], name=op.f("fk_setting_effect_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_setting")),
        sa.UniqueConstraint("effect_id", "name", name=op.f("uq_setting_effect_id_name")),
    )
    op.create_table(
        "upload",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("file_sha256", sa.Text(), nullable=False),
        sa.Column("subtype", sa.Text(), nullable=False),
        sa.Column("content_sha256", sa.Text(), nullable=False),
        sa.Column("uploaded_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["content_sha256"], ["content.sha256"], name=op.f("fk_upload_content_sha256")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_upload")),
    )
    op.create_table(
        "pair",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("reference_id", sa.Integer(), nullable=False),
        sa.Column("render_id", sa.Integer(), nullable=False),
        sa.Column("options", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("analysis_key", sa.Text(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("state IN ('analysing', 'done', 'failed')", name=op.f("ck_pair_state")),
        sa.ForeignKeyConstraint(["analysis_key"], ["analysis.key"], name=op.f("fk_pair_analysis_key")),
        sa.ForeignKeyConstraint(["reference_id"], ["upload.id"], name=op.f("fk_pair_reference_id")),
        sa.ForeignKeyConstraint(["render_id"], ["upload.id"], name=op.f("fk_pair_render_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_pair")),
    )
    op.create_table(
        "plan_revision",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("plan_id", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("condition_ids", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_plan_revision_plan_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_plan_revision")),
        sa.UniqueConstraint("plan_id", "number", name=op.f("uq_plan_revision_plan_id_number")),
    )
    op.create_table(
        "case",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("revision_id", sa.Integer(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("signal_id", sa.Integer(), nullable=False),
        sa.Column("setting_id", sa.Integer(), nullable=False),
        sa.Column("fingerprint", sa.Text(), nullable=False),
        sa.Column("limits", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["revision_id"], ["plan_revision.id"], name=op.f("fk_case_revision_id")),
        sa.ForeignKeyConstraint(["setting_id"], ["setting.id"], name=op.f("fk_case_setting_id")),
        sa.ForeignKeyConstraint(["signal_id"], ["signal.id"], name=op.f("fk_case_signal_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_case")),
        sa.UniqueConstraint("revision_id", "position", name=op.f("uq_case_revision_id_position")),
    )
    op.create_table(
        "run",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("revision_id", sa.Integer(), nullable=False),
        sa.Column("build_id", sa.Integer(), nullable=False),
        sa.Column("requested_by", sa.Text(), nullable=False),
        sa.Column("requested_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["build_id"], ["build.id"], name=op.f("fk_run_build_id")),
        sa.ForeignKeyConstraint(["revision_id"], ["plan_revision.id"], name=op.f("fk_run_revision_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_run")),
    )
    op.create_table(
        "cell",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("case_id", sa.Integer(), nullable=False),
        sa.Column("condition_id", sa.Integer(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("verdict", sa.Text(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("ink", sa.Double(), nullable=False),
        sa.Column("unfit", sa.Boolean(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("render_id", sa.Integer(), nullable=True),
        sa.Column("reference_id", sa.Integer(), nullable=True),
        sa.Column("analysis_key", sa.Text(), nullable=True),
        sa.CheckConstraint(
            "state IN ('waiting', 'rendering', 'analysing', 'done', 'failed')", name=op.f("ck_cell_state")
        ),
        sa.CheckConstraint(
            "verdict IN ('Pass', 'Changed', 'Fail', 'No reading', 'Waiting')", name=op.f("ck_cell_verdict")
        ),
        sa.ForeignKeyConstraint(["analysis_key"], ["analysis.key"], name=op.f("fk_cell_analysis_key")),
        sa.ForeignKeyConstraint(["case_id"], ["case.id"], name=op.f("fk_cell_case_id")),
        sa.ForeignKeyConstraint(["condition_id"], ["condition.id"], name=op.f("fk_cell_condition_id")),
        sa.ForeignKeyConstraint(["render_id"], ["render.id"], name=op.f("fk_cell_render_id")),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], name=op.f("fk_cell_run_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_cell")),
        sa.UniqueConstraint("run_id", "case_id", "condition_id", name=op.f("uq_cell_run_id_case_id_condition_id")),
    )
    op.create_index(op.f("ix_cell_run_id"), "cell", ["run_id"], unique=False)
    op.create_table(
        "reference",
        sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False),
        sa.Column("effect_id", sa.Integer(), nullable=False),
        sa.Column("fingerprint", sa.Text(), nullable=False),
        sa.Column("condition_id", sa.Integer(), nullable=False),
        sa.Column("cell_id", sa.Integer(), nullable=False),
        sa.Column("render_id", sa.Integer(), nullable=False),
        sa.Column("act_id", sa.Integer(), nullable=False),
        sa.Column("replaces_id", sa.Integer(), nullable=True),
        sa.Column("retired_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["act_id"], ["act.id"], name=op.f("fk_reference_act_id")),
        sa.ForeignKeyConstraint(["cell_id"], ["cell.id"], name=op.f("fk_reference_cell_id")),
        sa.ForeignKeyConstraint(["condition_id"], ["condition.id"], name=op.f("fk_reference_condition_id")),
        sa.ForeignKeyConstraint(["effect_id"], ["effect.id"], name=op.f("fk_reference_effect_id")),
        sa.ForeignKeyConstraint(["render_id"], ["render.id"], name=op.f("fk_reference_render_id")),
        sa.ForeignKeyConstraint(["replaces_id"], ["reference.id"], name=op.f("fk_reference_replaces_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_reference")),
    )
    op.create_index(
        "uq_reference_current",
        "reference",
        ["effect_id", "fingerprint", "condition_id"],
        unique=True,
        postgresql_where=sa.text("retired_at IS NULL"),
    )
    op.create_foreign_key("fk_cell_reference_id", "cell", "reference", ["reference_id"], ["id"])
    # Audio and waveforms are read by byte range, which compressed storage would not allow.
    op.execute("ALTER TABLE chunk ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute("ALTER TABLE peak_level ALTER COLUMN data SET STORAGE EXTERNAL")
    op.execute(
        """
        CREATE FUNCTION event_is_final() RETURNS trigger LANGUAGE plpgsql AS $$
        BEGIN RAISE EXCEPTION 'an event is never changed or removed'; END $$;
        CREATE TRIGGER event_is_final BEFORE UPDATE OR DELETE OR TRUNCATE ON event
        FOR EACH STATEMENT EXECUTE FUNCTION event_is_final();
        """
    )
    # Through psycopg itself: the queue's schema holds colons and percent signs that SQLAlchemy would take for its own.
    driver = op.get_bind().connection.driver_connection
    assert driver is not None
    driver.execute(SchemaManager.get_schema())


def downgrade() -> None:
    """What lies before the first migration is an empty database: drop this one instead."""
