"""Bringing the database to the shape that this version needs."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory

from kind_echo.database.sessions import engine


def alembic_config() -> Config:
    """Alembic's configuration: the migrations lie beside this module."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return config


def migrate() -> None:
    """Apply all migrations that are still missing."""
    command.upgrade(alembic_config(), "head")


def is_up_to_date() -> bool:
    """Whether the database has the shape that this version needs."""
    with engine().connect() as connection:
        found = MigrationContext.configure(connection).get_current_revision()
    return found == ScriptDirectory.from_config(alembic_config()).get_current_head()
