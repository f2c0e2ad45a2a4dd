"""What each service's role may do in the database, and that the past of the event log is nobody's to change."""

import psycopg
import pytest
from psycopg import errors

from kind_echo.database.grants import GRANTS, NoSuchRole, all_tables, grant
from kind_echo.database.sessions import transaction
from tests.conftest import as_service


def test_rights_are_said_of_every_table_and_of_no_other() -> None:
    assert set(GRANTS) == all_tables()


@pytest.mark.parametrize("service", ["web", "worker"])
@pytest.mark.parametrize(
    "act",
    [
        "UPDATE event SET who = 'somebody else'",
        "DELETE FROM event",
        "TRUNCATE event",
        "ALTER TABLE event DISABLE TRIGGER ALL",
        "DROP TRIGGER event_is_final ON event",
        "SET session_replication_role = replica",
        "DELETE FROM decision",
        "UPDATE decision SET ticket = 'x'",
        "DELETE FROM reference",
        "DELETE FROM content",
        "UPDATE chunk SET data = ''",
        "UPDATE plan_revision SET note = 'x'",
        "UPDATE alembic_version SET version_num = 'x'",
        "CREATE TABLE extra (id int)",
        "COPY event TO PROGRAM 'cat'",
    ],
)
def test_no_service_can_rewrite_what_was_done(seen: str, service: str, act: str) -> None:
    with psycopg.connect(as_service(seen, service)) as connection, pytest.raises(errors.InsufficientPrivilege):
        connection.execute(act)


@pytest.mark.parametrize("table", ["person", "sign_in_link", "token"])
def test_a_worker_sees_nothing_of_who_may_come_in(seen: str, table: str) -> None:
    with psycopg.connect(as_service(seen, "worker")) as connection, pytest.raises(errors.InsufficientPrivilege):
        connection.execute(f"SELECT * FROM {table}")


def test_not_even_the_owner_changes_an_event_by_mistake(seen: str) -> None:
    with psycopg.connect(seen) as connection, pytest.raises(errors.RaiseException, match="never changed"):
        connection.execute("UPDATE event SET who = 'x'")


def test_a_grant_takes_back_what_a_role_had_before(demo: str) -> None:
    with psycopg.connect(demo, autocommit=True) as owner:
        owner.execute("GRANT ALL ON event TO kind_echo_web")
    with transaction() as session:
        grant(session, "web", "kind_echo_web")
    with psycopg.connect(as_service(demo, "web")) as connection, pytest.raises(errors.InsufficientPrivilege):
        connection.execute("DELETE FROM event")
    with pytest.raises(NoSuchRole), transaction() as session:
        grant(session, "web", "nobody_of_that_name")
