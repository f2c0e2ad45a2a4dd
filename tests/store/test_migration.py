"""Databases from before keep what they hold when they are brought up to date."""

from alembic import command
from sqlalchemy import text

from kind_echo.store.database import engine
from kind_echo.store.migrate import alembic_config, migrate
from tests.conftest import Cluster, fresh_database, point_at


def test_hosts_and_renders_of_an_older_database_are_kept(cluster: Cluster) -> None:
    point_at(fresh_database(cluster))
    command.upgrade(alembic_config(), "0002")
    with engine().begin() as connection:
        connection.execute(text("INSERT INTO effect (name, description) VALUES ('Skerry', 'A clipper')"))
        connection.execute(
            text(
                "INSERT INTO condition (host, host_version, mode, rate, block_size, channels, word_length) "
                "VALUES ('Almanac', '7', 'offline', 48000, 512, 1, 'FLOAT')"
            )
        )
        connection.execute(text("INSERT INTO content VALUES ('aa', 48000, 1, 10, 'FLOAT', 65536)"))
        connection.execute(
            text(
                "INSERT INTO render (content_sha256, claimed_latency, wall_seconds, cpu_seconds, readings, "
                "rendered_at) VALUES ('aa', 96, 0.1, 0.1, '[]', now())"
            )
        )
    migrate()
    with engine().begin() as connection:
        assert connection.execute(text("SELECT handle, parameters FROM effect")).all() == [("", [])]
        assert connection.execute(text("SELECT claimed_latency, log FROM render")).all() == [(96, "")]
        hosts = connection.execute(text("SELECT name, version, renderer FROM host ORDER BY name")).all()
        assert hosts == [("Almanac", "7", "stand-in"), ("Bittern", "5", "stand-in"), ("Estuary", "2", "stand-in")]
        connection.execute(text("UPDATE render SET claimed_latency = NULL"))
    command.downgrade(alembic_config(), "0002")
    with engine().begin() as connection:
        assert connection.execute(text("SELECT claimed_latency FROM render")).all() == [(0,)]
    migrate()
    engine().dispose()
