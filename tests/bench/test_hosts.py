"""Hosts, machines and effects; who renders what, and that no job is done twice or lost when a machine dies."""

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import select

from kind_echo.bench.machines import (
    BY_HAND,
    add_effect,
    add_host_by_hand,
    add_offered,
    all_hosts,
    is_seen,
    record_worker,
    register,
    renderers_of,
    renew_worker,
    stopped,
    waiting,
    workers,
)
from kind_echo.bench.machines.hosts import SILENT_SECONDS, EffectExists, EffectNotOffered, HostExists, HostNotFound
from kind_echo.bench.plans import CaseDraft, find_build, find_plan, revise_plan
from kind_echo.bench.rendering import renderer_named
from kind_echo.bench.runs import cells_of, start_run
from kind_echo.database.models import Build, Condition, Effect, Plan, Setting, Signal
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import Offer, OfferedEffect, OfferedHost, RenderFailed, RenderRequest, RenderResult
from tests.conftest import query, unfinished, wait_until, working

NOW = datetime(2026, 11, 25, tzinfo=UTC)


class _Echo:
    def render(self, request: RenderRequest) -> RenderResult:
        return RenderResult(request.signal, 0)


def _offer(*versions: str) -> Offer:
    effect = OfferedEffect("Thing", "urn:thing", "A thing", (), versions)
    return Offer("bench", "A bench", _Echo(), (OfferedHost("Bench", "1", "on a bench", ("offline",)),), (effect,))  # type: ignore[arg-type]


def test_what_a_machine_has_is_written_down_once_and_new_builds_are_found(empty: str) -> None:
    with transaction() as session:
        register(session, [_offer("1.0")])
        register(session, [_offer("1.0")])
        assert [(host.name, host.renderer) for host in all_hosts(session) if host.name == "Bench"] == [
            ("Bench", "bench")
        ]
        assert session.scalar(select(Effect)) is None  # an effect is tested because a person wants it
        add_effect(session, _offer("1.0").effects[0])
        with pytest.raises(EffectExists):
            add_effect(session, _offer("1.0").effects[0])
        register(session, [_offer("1.0", "1.1")])
        assert list(session.scalars(select(Build.version).order_by(Build.position))) == ["1.0", "1.1"]


def test_a_worker_is_seen_while_it_says_so(empty: str) -> None:
    with transaction() as session:
        record_worker(session, "north", 17, [_offer("1.0")], NOW)
        record_worker(session, "north", 17, [_offer("1.0")], NOW)
        (worker,) = workers(session)
        late = NOW + timedelta(seconds=SILENT_SECONDS + 1)
        assert (is_seen(worker, NOW), is_seen(worker, late)) == (True, False)
        with pytest.raises(EffectNotOffered):
            add_offered(session, "Thing", late)
        renew_worker(session, "north", 17, late)
        assert is_seen(worker, late)
        assert add_offered(session, "Thing", late).handle == "urn:thing"
        with pytest.raises(EffectNotOffered):
            add_offered(session, "Nothing", late)
        record_worker(session, "south", 3, [], late + timedelta(days=8))
        assert [worker.machine for worker in workers(session)] == ["south"]
        stopped(session, "south", 3, NOW)
        assert workers(session) == []


def test_hosts_by_hand_wait_for_people_and_unknown_ones_are_refused(demo: str) -> None:
    with transaction() as session:
        with pytest.raises(HostExists):
            add_host_by_hand(session, "Dunlin", "5", "", ["offline"])
        plan = find_plan(session, "By hand")
        run = start_run(session, plan.id, find_build(session, plan, "2.0.3").id, who="Nora F.", now=NOW)
        assert [(found.id, count) for found, count in waiting(session)["Dunlin", "5"]] == [(run.id, 4)]
        conditions = [cell.condition for cell in cells_of(session, run.id)]
        assert set(renderers_of(session, conditions).values()) == {BY_HAND}
        strange = Condition(host="Nowhere", host_version="1", mode="offline", rate=48_000, block_size=64, channels=1,
                            word_length="FLOAT")  # fmt: skip
        with pytest.raises(HostNotFound, match="There is no host Nowhere 1"):
            renderers_of(session, [strange])
    jobs = query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo' AND task_name = 'render_cell'")
    assert jobs == [(0,)]
    with pytest.raises(RenderFailed, match="no renderer nonsense"):
        renderer_named("nonsense")


SLOW = """
[renderer.slow-copy]
title = "Copier"
version = "1"
effect = "Copy"
builds = ["1"]
command = ["sh", "-c", "echo copy >> {log}; sleep 0.4; cp \\"$1\\" \\"$2\\"", "copy", "{{input}}", "{{output}}"]
"""


@pytest.fixture
def copied(empty: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[str, int]:
    """A database with a plan of 12 cells that a declared command renders, and the plan's number."""
    file = tmp_path / "renderers.toml"
    file.write_text(SLOW.format(log=tmp_path / "copies.txt"))
    monkeypatch.setenv("KIND_ECHO_RENDERERS", str(file))
    from kind_echo.renderers.declared import read_declarations

    (offer,) = read_declarations(file)
    with transaction() as session:
        register(session, [offer])
        effect = add_effect(session, offer.effects[0])
        setting = Setting(effect_id=effect.id, name="As it comes", parameters={})
        plan = Plan(effect_id=effect.id, name="Copies")
        signals = [
            Signal(name=f"Tone {n}", request={"kind": "tone", "frequency": 500.0 + 10 * n, "seconds": 0.2})
            for n in range(12)
        ]
        where = Condition(host="Copier", host_version="1", mode="offline", rate=48_000, block_size=512, channels=1,
                          word_length="FLOAT")  # fmt: skip
        session.add_all([setting, plan, where, *signals])
        session.flush()
        revise_plan(session, plan, [CaseDraft(signal, setting, {}) for signal in signals], [where], NOW)
        return empty, plan.id


def test_two_workers_on_one_queue_take_no_job_twice_and_give_back_those_of_one_that_is_killed(
    copied: tuple[str, int], tmp_path: Path
) -> None:
    url, plan_id = copied
    log, own = tmp_path / "worker.log", {"KIND_ECHO_RENDERERS": os.environ["KIND_ECHO_RENDERERS"]}
    words = ("--renderer", "slow-copy", "--machine")
    rendering = "SELECT 1 FROM cell WHERE state = 'rendering'"
    with (
        working(*words, "first", "--no-analysis", url=url, log=log, **own) as first,
        working(*words, "second", url=url, log=log, **own),
    ):
        wait_until(lambda: len(query(url, "SELECT 1 FROM worker")) == 2, 120, "both workers")
        with transaction() as session:
            build = session.scalars(select(Build)).one()
            run = start_run(session, plan_id, build.id, who="Nora F.", now=NOW).id
        wait_until(lambda: len(query(url, rendering)) == 2, 60, "both of them rendering")
        first.kill()
        first.join()
        waits = "SELECT count(*) FROM cell WHERE state NOT IN ('done', 'failed')"
        wait_until(lambda: query(url, waits) == [(0,)], 60, "the rest of the run", moves=lambda: query(url, waits))
    with transaction() as session:
        cells = cells_of(session, run)
        assert [cell.state for cell in cells] == ["done"] * 12
        attempts = [cell.attempts for cell in cells]
    assert len(query(url, "SELECT 1 FROM render")) == 12
    # Once for each cell, and once more for the one that died with its worker, if it died in the midst of one.
    assert sorted(attempts)[:11] == [1] * 11
    assert 12 <= (tmp_path / "copies.txt").read_text().count("copy") <= sum(attempts) <= 13
    assert unfinished(url) == 12  # all rendered; they wait for a reference
    assert query(url, "SELECT machine FROM worker WHERE stopped_at IS NULL") == [
        ("first",)
    ]  # the one that was killed could not say so


def test_a_worker_says_which_renderers_its_machine_lacks(empty: str, tmp_path: Path) -> None:
    log = tmp_path / "worker.log"
    with working("--renderer", "nonsense", url=empty, log=log) as worker:
        worker.join(60)
        assert worker.exitcode == 2
    assert "this machine has no renderer nonsense; it has stand-in" in log.read_text().replace("\n", " ")
