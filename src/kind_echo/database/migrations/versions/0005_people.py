"""People, ways in, tokens, what machines deliver, how often jobs came to an end; sums, and cases against the signal."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def _time(name: str, *, nullable: bool = False) -> "sa.Column[object]":
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def _id() -> "sa.Column[int]":
    return sa.Column("id", sa.Integer(), sa.Identity(always=False), nullable=False)


def upgrade() -> None:
    op.add_column("setting", sa.Column("parts", JSONB(), nullable=False, server_default=sa.text("'[]'")))
    op.add_column("case", sa.Column("against", sa.Text(), nullable=False, server_default="reference"))
    op.create_check_constraint(op.f("ck_case_against"), "case", "against IN ('reference', 'signal')")
    op.create_table(
        "person",
        _id(),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("password_hash", sa.Text(), nullable=True),
        sa.Column("stamp", sa.Text(), nullable=False),
        _time("made_at"),
        sa.Column("made_by", sa.Text(), nullable=False),
        _time("signed_in_at", nullable=True),
        _time("disabled_at", nullable=True),
        sa.CheckConstraint("role IN ('look', 'work', 'keep')", name=op.f("ck_person_role")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person")),
    )
    op.create_index("uq_person_name", "person", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "sign_in_link",
        _id(),
        sa.Column("person_id", sa.Integer(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("local", sa.Boolean(), nullable=False),
        _time("ends_at"),
        _time("used_at", nullable=True),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_sign_in_link_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sign_in_link")),
        sa.UniqueConstraint("digest", name=op.f("uq_sign_in_link_digest")),
    )
    op.create_index(op.f("ix_sign_in_link_person_id"), "sign_in_link", ["person_id"])
    op.create_table(
        "token",
        _id(),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("scope", sa.Text(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        _time("made_at"),
        sa.Column("made_by", sa.Text(), nullable=False),
        _time("ends_at"),
        _time("used_at", nullable=True),
        _time("revoked_at", nullable=True),
        sa.Column("revoked_by", sa.Text(), nullable=True),
        sa.CheckConstraint("scope IN ('read', 'submit', 'render')", name=op.f("ck_token_scope")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_token")),
        sa.UniqueConstraint("digest", name=op.f("uq_token_digest")),
    )
    op.add_column("worker", sa.Column("number", sa.BigInteger(), nullable=True))
    op.add_column("worker", sa.Column("token_id", sa.Integer(), nullable=True))
    op.create_table(
        "job_count",
        sa.Column("task", sa.Text(), nullable=False),
        sa.Column("outcome", sa.Text(), nullable=False),
        sa.Column("jobs", sa.BigInteger(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("task", "outcome", name=op.f("pk_job_count")),
    )

    op.create_table(
        "delivery",
        sa.Column("cell_id", sa.Integer(), nullable=False),
        sa.Column("contents", JSONB(), nullable=False),
        sa.Column("facts", JSONB(), nullable=False),
        sa.ForeignKeyConstraint(["cell_id"], ["cell.id"], name=op.f("fk_delivery_cell_id")),
        sa.PrimaryKeyConstraint("cell_id", name=op.f("pk_delivery")),
    )


def downgrade() -> None:
    op.drop_column("worker", "token_id")
    op.drop_column("worker", "number")
    for table in ("delivery", "job_count", "token", "sign_in_link", "person"):
        op.drop_table(table)
    op.drop_constraint(op.f("ck_case_against"), "case")
    op.drop_column("case", "against")
    op.drop_column("setting", "parts")
