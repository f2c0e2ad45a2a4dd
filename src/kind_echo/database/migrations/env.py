"""Alembic's entry: migrate the database that KIND_ECHO_DATABASE_URL names."""

from alembic import context

from kind_echo.database import (
    accounts,  # noqa: F401 - the tables of both
    models,
)
from kind_echo.database.sessions import engine

with engine().connect() as connection:
    context.configure(
        connection=connection,
        target_metadata=models.Base.metadata,
        compare_type=True,
        include_name=lambda name, kind, _parents: kind != "table" or not str(name).startswith("procrastinate_"),
    )
    with context.begin_transaction():
        context.run_migrations()
