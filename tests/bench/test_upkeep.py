"""Renaming, archiving and deleting: what refers to a thing goes on, and what somebody stands on is not taken away."""

from datetime import UTC, datetime
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlalchemy import select

from kind_echo.bench.decisions import approve, latest_act, undo
from kind_echo.bench.listening import add_note
from kind_echo.bench.machines import add_build, add_host_by_hand, queues_of_machine, routes_of
from kind_echo.bench.plans import builds_of, document_of, find_build, find_plan, latest_revision, save_plan, unfold
from kind_echo.bench.plans.document import PlanCondition
from kind_echo.bench.runs import cells_of, list_runs, start_run, stop_run
from kind_echo.bench.runs.running import Archived
from kind_echo.bench.storage import GRACE, drop_unused
from kind_echo.bench.upkeep import (
    CannotRename,
    InUse,
    NameTaken,
    archive,
    change_note,
    delete_build,
    delete_run,
    move_build,
    rename,
    rename_host,
)
from kind_echo.bench.upkeep.things import ThingNotFound
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.models import Build, Condition, Content, Effect, Event, Render, Setting
from kind_echo.database.sessions import transaction
from kind_echo.renderers.takes import installed
from kind_echo.web.app import create_app
from tests.conftest import drain, newest_run, query
from tests.signing import sign

NOW = datetime(2026, 11, 29, tzinfo=UTC)
BY: Any = {"who": "Nora F.", "now": NOW}


def _start(version: str, plan: str = "Null regression") -> int:
    with transaction() as session:
        found = find_plan(session, plan)
        return start_run(session, found.id, find_build(session, found, version).id, **BY).id


def test_a_renamed_effect_is_rendered_as_before_and_takes_over_what_it_rendered(demo: str) -> None:
    with transaction() as session:
        effect = session.scalars(select(Effect).where(Effect.name == "Skerry")).one()
        before = document_of(session, latest_revision(session, find_plan(session, "Null regression").id))
        rename(session, "effect", effect.id, "Skerry Clip", **BY)
    run = _start("2.1.0-rc2")
    drain()
    with transaction() as session:
        cells = cells_of(session, run)
        assert {cell.state for cell in cells} == {"done"}
        assert sum(cell.reused for cell in cells) > len(cells) / 2
        found = find_plan(session, "Null regression")
        after = document_of(session, latest_revision(session, found.id))
        assert after == before.model_copy(update={"effect": "Skerry Clip"})
        unfold(session, after)
        revision = latest_revision(session, found.id)
        assert save_plan(session, after, **BY).id == revision.id  # nothing of the plan is another
        rename(session, "effect", session.scalars(select(Effect.id).where(Effect.name == "Skerry Clip")).one(),
               "Skerry", **BY)  # fmt: skip
        effect = session.scalars(select(Effect).where(Effect.name == "Skerry")).one()
        assert effect.offered_as is None
        events = session.scalars(select(Event.detail).where(Event.what == "effect renamed").order_by(Event.id)).all()
        assert [(one["before"], one["after"]) for one in events] == [
            ("Skerry", "Skerry Clip"), ("Skerry Clip", "Skerry"),
        ]  # fmt: skip


def test_a_renamed_setting_and_plan_are_found_in_plans_that_were_written_before(demo: str) -> None:
    with transaction() as session:
        plan = find_plan(session, "Null regression")
        document = document_of(session, latest_revision(session, plan.id))
        kept = save_plan(session, document.model_copy(update={"plan": "Written"}), **BY)
        old = document.cases[0].setting
        setting = session.scalars(select(Setting).where(Setting.effect_id == plan.effect_id, Setting.name == old)).one()
        rename(session, "setting", setting.id, "A better name", **BY)
        rename(session, "plan", kept.plan_id, "Written anew", **BY)
        read = document_of(session, latest_revision(session, kept.plan_id))
        assert (read.plan, read.cases[0].setting) == ("Written anew", "A better name")
        assert old not in read.settings
        unfold(session, read)
        others = session.scalars(select(Setting).where(Setting.effect_id == plan.effect_id, Setting.id != setting.id))
        with pytest.raises(NameTaken):  # the former name still stands for the first
            rename(session, "setting", others.first().id, old, **BY)
        rename(session, "setting", setting.id, old, **BY)
        assert document_of(session, latest_revision(session, kept.plan_id)).cases[0].setting == old


def test_a_host_by_hand_has_another_name_wherever_it_stands_and_one_of_a_machine_keeps_its_own(demo: str) -> None:
    with transaction() as session:
        host = add_host_by_hand(session, "Quayy", "1", "", ["offline"])
        plan = find_plan(session, "Null regression")
        document = document_of(session, latest_revision(session, plan.id))
        where = PlanCondition(host="Quayy", version="1", modes=["offline"], rates=[48_000])
        kept = save_plan(session, document.model_copy(update={"plan": "By hand", "conditions": [where]}), **BY)
        rename_host(session, host.id, "Quay", "1.0", **BY)
        (condition,) = session.scalars(select(Condition).where(Condition.host == "Quay")).all()
        assert condition.host_version == "1.0"
        read = document_of(session, latest_revision(session, kept.plan_id))
        assert (read.conditions[0].host, read.conditions[0].version) == ("Quay", "1.0")
        assert set(routes_of(session, find_build(session, plan, "2.0.3"), [condition]).values()) == {"by hand"}
        other = add_host_by_hand(session, "Slip", "1", "", ["offline"])
        for taken in (("Quay", "1.0"), ("Quayy", "1")):
            with pytest.raises(NameTaken):
                rename_host(session, other.id, *taken, **BY)
        number = query(demo, "SELECT id FROM host WHERE name = 'Almanac' LIMIT 1")[0][0]
        with pytest.raises(CannotRename, match="renamed on the machine"):
            rename_host(session, int(str(number)), "Almanack", "7", **BY)


def test_a_typing_mistake_in_the_name_of_a_build_can_be_taken_back(demo: str) -> None:
    with transaction() as session:
        plan = find_plan(session, "Null regression")
        wrong = add_build(session, "Skerry", "2.1.0-rc33", "", **BY)
        rename(session, "build", wrong.id, "2.1.0-rc3", **BY)
        change_note(session, wrong.id, "the third candidate", **BY)
        assert find_build(session, plan, "2.1.0-rc3").note == "the third candidate"
        with pytest.raises(NameTaken):
            rename(session, "build", wrong.id, "2.0.3", **BY)
        before = [one.version for one in builds_of(session, plan.effect_id)]
        move_build(session, wrong.id, "later", **BY)  # it is the newest, and stays so
        assert [one.version for one in builds_of(session, plan.effect_id)] == before
        move_build(session, wrong.id, "earlier", **BY)
        assert [one.version for one in builds_of(session, plan.effect_id)] == [*before[:-2], before[-1], before[-2]]
        delete_build(session, wrong.id, **BY)
        session.flush()
        assert session.scalar(select(Build.id).where(Build.version == "2.1.0-rc3")) is None
        ran = find_build(session, plan, "2.0.3")
        with pytest.raises(InUse, match="there are runs of it"):
            delete_build(session, ran.id, **BY)
        with pytest.raises(ThingNotFound):
            delete_build(session, 10**6, **BY)


@pytest.mark.parametrize("name", ["", "  ", "a/b", "a\u202eb", "x" * 121])
def test_what_is_no_name_is_refused(demo: str, name: str) -> None:
    with transaction() as session, pytest.raises(BadParameter):
        rename(session, "plan", find_plan(session, "Null regression").id, name, **BY)


def test_what_is_archived_stands_in_no_list_and_is_run_no_more_until_it_is_back(demo: str) -> None:
    with transaction() as session:
        run = newest_run(session, "2.1.0-rc2")
        plan = run.revision.plan
        archive(session, "run", run.id, archived=True, **BY)
        assert run.id not in [one.run.id for one in list_runs(session, archived=False)]
        assert [one.run.id for one in list_runs(session, archived=True)] == [run.id]
        archive(session, "plan", plan.id, archived=True, **BY)
        with pytest.raises(Archived, match="the plan is archived"):
            start_run(session, plan.id, run.build_id, **BY)
        archive(session, "plan", plan.id, archived=False, **BY)
        archive(session, "build", run.build_id, archived=True, **BY)
        with pytest.raises(Archived, match="the build is archived"):
            start_run(session, plan.id, run.build_id, **BY)
        archive(session, "build", run.build_id, archived=False, **BY)
        archive(session, "effect", plan.effect_id, archived=True, **BY)
        with pytest.raises(Archived, match="the effect is archived"):
            start_run(session, plan.id, run.build_id, **BY)
        session.rollback()


def test_a_run_that_nothing_stands_on_goes_with_its_renders_and_their_audio(demo: str) -> None:
    with transaction() as session:
        made = add_build(session, "Skerry", "9.9", "", **BY)
        assert made.id
    before = query(demo, "SELECT (SELECT count(*) FROM render), (SELECT count(*) FROM run)")
    run = _start("2.0.3")
    with transaction() as session:
        with pytest.raises(InUse, match="under way; stop it first"):
            delete_run(session, run, **BY)
        stop_run(session, run, **BY)
        delete_run(session, run, **BY)
    assert query(demo, "SELECT (SELECT count(*) FROM render), (SELECT count(*) FROM run)") == before
    drain()  # what was enqueued for it finds nothing
    assert query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'failed')") == [(0,)]
    run = _start("2.0.3")
    drain()
    with transaction() as session:  # its renders are taken over, and belong to the earlier run too
        delete_run(session, run, **BY)
    assert query(demo, "SELECT (SELECT count(*) FROM render), (SELECT count(*) FROM run)") == before
    drain()
    drop_unused(datetime.now(UTC) + 2 * GRACE)
    with transaction() as session:
        kept = session.scalars(select(Content).join(Render, Render.content_sha256 == Content.sha256)).all()
        assert all(content.dropped_at is None for content in kept)


def test_a_run_that_somebody_decided_on_approved_or_heard_is_kept(demo: str) -> None:
    with transaction() as session:
        decided = newest_run(session, "2.1.0-rc1")
        with pytest.raises(InUse):
            delete_run(session, decided.id, **BY)
    run = _start("2.0.3")
    drain()
    with transaction() as session:
        cell = cells_of(session, run)[0]
        note = add_note(session, f"cells/{cell.id}", "render", None, "dull", **BY)
        with pytest.raises(InUse, match="listening tests or notes"):
            delete_run(session, run, **BY)
        session.delete(note)
        session.flush()
        approve(session, [cell.id], why="", **BY)
    drain()
    with transaction() as session, pytest.raises(InUse, match="references"):
        delete_run(session, run, **BY)


def test_the_last_decision_belongs_to_the_page_that_it_was_made_on(demo: str) -> None:
    with transaction() as session:
        one, other = newest_run(session, "2.1.0-rc2"), newest_run(session, "1.1-rc2", "Unity and polarity")
        cell = next(cell for cell in cells_of(session, one.id) if cell.verdict == "Pass")
        act = approve(session, [cell.id], why="", **BY)
        assert latest_act(session, run_id=one.id) == latest_act(session, cell_id=cell.id) == act
        assert latest_act(session, run_id=other.id) != act
        assert latest_act(session) == act
        undo(session, act.id, **BY)
        assert latest_act(session, cell_id=cell.id) != act


def test_renames_and_deletions_come_by_the_page(demo: str) -> None:
    client: FlaskClient = sign(create_app().test_client())
    effect = next(one for one in client.get("/api/effects").json["effects"] if one["name"] == "Plumb")
    renamed: Any = client.post(f"/api/effects/{effect['id']}/change", json={"name": "Plumb Line"})
    assert (renamed.status_code, renamed.json["name"], renamed.json["archived"]) == (200, "Plumb Line", False)
    archived: Any = client.post(f"/api/effects/{effect['id']}/change", json={"archived": True})
    assert (archived.json["name"], archived.json["archived"]) == ("Plumb Line", True)
    setting = effect["settings"][0]
    assert client.post(f"/api/effects/settings/{setting['id']}/change", json={"name": "Other"}).status_code == 204
    assert all(one["named_by_machine"] for one in effect["builds"])
    build: Any = client.post("/api/builds", json={"effect": "Plumb Line", "version": "7"}).json
    changed: Any = client.post(f"/api/builds/{build['id']}/change", json={"version": "8", "note": "x"})
    assert changed.json == {"id": build["id"], "version": "8", "note": "x", "archived": False}
    assert client.delete(f"/api/builds/{build['id']}").status_code == 204
    plan = client.get("/api/plans").json["plans"][0]
    assert client.post(f"/api/plans/{plan['id']}/change", json={"archived": True}).json["archived"]
    host = client.get("/api/hosts").json["hosts"][0]
    assert client.post(f"/api/hosts/{host['id']}/change", json={"archived": True}).json["archived"]
    with transaction() as session:
        run = newest_run(session, "2.1.0-rc1").id  # of which some cells are decided on
    assert client.post(f"/api/runs/{run}/change", json={"change": "archive"}).json["archived"]
    listed: Any = client.get("/api/runs?archived=true").json
    assert [one["id"] for one in listed["runs"]] == [run]
    assert client.delete(f"/api/runs/{run}").status_code == 409
    with transaction() as session:
        offers = [{"queue": "stand-in", "hosts": [], "effects": [{"name": "Plumb", "handle": "", "versions": []}]}]
        assert queues_of_machine(session, offers) == ["stand-in"]
        assert installed()
