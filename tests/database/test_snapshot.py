"""What several statements tell together is of one moment."""

from sqlalchemy import func, select, update

from kind_echo.database.models import Cell
from kind_echo.database.sessions import snapshot, transaction
from tests.conftest import newest_run


def test_what_changes_meanwhile_is_not_seen_by_a_snapshot(demo: str) -> None:
    """Else a sheet may hold cells that wait, of a run that it says is finished: `submit` would find nothing wrong."""
    with transaction() as session:
        run_id = newest_run(session, "2.1.0-rc2").id
    waiting = select(func.count()).where(Cell.run_id == run_id, Cell.state == "waiting")
    with snapshot() as reader:
        assert reader.scalar(waiting) == 0
        with transaction() as session:
            session.execute(update(Cell).where(Cell.run_id == run_id).values(state="waiting"))
        assert reader.scalar(waiting) == 0
    with snapshot() as reader:
        assert reader.scalar(waiting) == 72
