"""Bringing the database to the shape that this version needs."""

from pathlib import Path

from alembic import command
from alembic.config import Config


def alembic_config() -> Config:
    """Alembic's configuration: the migrations lie beside this module."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    return config


def migrate() -> None:
    """Apply all migrations that are still missing."""
    command.upgrade(alembic_config(), "head")
