"""Databases from before keep what they hold when they are brought up to date."""

from alembic import command
from sqlalchemy import text

from kind_echo.database.migrate import alembic_config, migrate
from kind_echo.database.sessions import engine
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


def test_cells_of_an_older_database_get_what_they_measured_and_nothing_is_lost_on_the_way_back(
    cluster: Cluster,
) -> None:
    point_at(fresh_database(cluster))
    command.upgrade(alembic_config(), "0003")
    readings = (
        '[{"measure": "rms", "channel": "all", "value": -9.5}, {"measure": "rms", "channel": "1", "value": -9.6}, '
        '{"measure": "delay", "channel": "all", "value": null}]'
    )
    rows = (
        "INSERT INTO effect (name, description) VALUES ('Skerry', 'A clipper')",
        "INSERT INTO build (effect_id, version, position, note) VALUES (1, '2.0.3', 0, '')",
        "INSERT INTO setting (effect_id, name, parameters) VALUES (1, 'Idle', '{}')",
        "INSERT INTO signal (name, request) VALUES ('Tone', '{}')",
        "INSERT INTO condition (host, host_version, mode, rate, block_size, channels, word_length) "
        "VALUES ('Almanac', '7', 'offline', 48000, 512, 1, 'FLOAT')",
        "INSERT INTO plan (effect_id, name) VALUES (1, 'Null')",
        "INSERT INTO plan_revision (plan_id, number, created_at, condition_ids) VALUES (1, 1, now(), '[1]')",
        'INSERT INTO "case" (revision_id, position, signal_id, setting_id, fingerprint, limits) '
        "VALUES (1, 0, 1, 1, 'f', '{}')",
        "INSERT INTO run (revision_id, build_id, requested_by, requested_at) VALUES (1, 1, 'Nora F.', now())",
        "INSERT INTO content VALUES ('aa', 48000, 1, 10, 'FLOAT', 65536)",
        "INSERT INTO render (content_sha256, wall_seconds, cpu_seconds, readings, rendered_at) "
        f"VALUES ('aa', 0.1, 0.1, '{readings}', now())",
        "INSERT INTO cell (run_id, case_id, condition_id, state, verdict, why, ink, unfit, attempts, render_id) "
        "VALUES (1, 1, 1, 'done', 'Pass', '', 0, false, 1, 1)",
    )
    with engine().begin() as connection:
        for row in rows:
            connection.exec_driver_sql(row)
    migrate()
    with engine().begin() as connection:
        kept = connection.execute(text("SELECT measured, broken, reused FROM cell")).all()
        assert kept == [({"rms": -9.5}, [], False)]
        assert connection.execute(text("SELECT forced, priority, stopped_at FROM run")).all() == [(False, 0, None)]
    command.downgrade(alembic_config(), "0003")
    with engine().begin() as connection:
        assert connection.execute(text("SELECT count(*) FROM cell")).scalar() == 1
    migrate()
    engine().dispose()
