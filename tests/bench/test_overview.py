"""How it all stands: of each effect its newest build by plan, what is new, waived and old."""

import shutil
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import select, update

from kind_echo.bench.decisions import decide, undecided_cells
from kind_echo.bench.sheets import EffectStanding, PlanStanding, overview, sheet_of
from kind_echo.bench.storage import set_rule
from kind_echo.bench.storage.rule import held_in_all
from kind_echo.database.models import Build, Effect, Run, Worker
from kind_echo.database.sessions import transaction
from kind_echo.wording.overview import old_text


def _effect(found: list[EffectStanding], name: str) -> EffectStanding:
    (one,) = (effect for effect in found if effect.effect.name == name)
    return one


def _plan(found: list[EffectStanding], effect: str, plan: str) -> PlanStanding:
    (one,) = (standing for standing in _effect(found, effect).plans if standing.plan.name == plan)
    return one


def test_it_says_what_the_sheets_say(demo: str) -> None:
    now = datetime.now(UTC)
    with transaction() as session:
        found = overview(session, now)
        needs = [sum(plan.needs_you for plan in one.plans) for one in found.effects]
        assert needs == sorted(needs, reverse=True)
        assert len(found.effects) == len(session.scalars(select(Effect)).all())
        for effect in found.effects:
            for plan in effect.plans:
                run = plan.summary.run
                sheet = sheet_of(session, run, now.date())
                assert plan.needs_you == sum(cell.needs_you for cell in sheet.cells)
                waived = [c for c in sheet.cells if c.decision and c.decision.kind == "waived" and c.decision.holds]
                assert plan.waived == len(waived)
                assert plan.new == (
                    None if sheet.before is None else sum(cell.change == "new" for cell in sheet.cells)
                )  # fmt: skip
                assert plan.before == ("" if sheet.before is None else sheet.before.build.version)


def test_what_is_old_is_said_before_it_is_missed(demo: str) -> None:
    now = datetime.now(UTC)
    with transaction() as session:
        standing = _plan(overview(session, now).effects, "Plumb", "Unity and polarity")
        run = standing.summary.run
        (first, *_) = undecided_cells(session, run, now.date())
        decide(session, [first], "waived", who="Nora F.", now=now, why="known", until=now.date() + timedelta(days=3))
        session.flush()
        waived = _plan(overview(session, now).effects, "Plumb", "Unity and polarity")
        assert (waived.waived, waived.needs_you) == (standing.waived + 1, standing.needs_you - 1)
        effect = session.get_one(Effect, waived.plan.effect_id)
        last = session.scalars(
            select(Build).where(Build.effect_id == effect.id).order_by(Build.position.desc())
        ).first()  # fmt: skip
        assert last is not None
        session.execute(update(Run).values(requested_at=now - timedelta(days=30)))
        session.add(Worker(machine="bench", process=1, renderers=[], started_at=now, seen_at=now - timedelta(hours=1)))
        session.flush()
        told = overview(session, now).old
        texts = [old_text(o.kind, o.name, o.plan, cells=o.cells, since=o.since, until=o.until) for o in told]
        assert any(text.startswith("A waiver on 1 cell of Plumb, Unity and polarity, ends on") for text in texts)
        assert any(text.startswith(f"Plumb {last.version} was last run with Unity and polarity") for text in texts)
        assert any(text.startswith("The machine bench has not been seen since") for text in texts)
        session.add(Build(effect_id=effect.id, version="9.9", position=last.position + 1, note=""))
        session.flush()
        after = overview(session, now)
        assert [plan.name for plan in _effect(after.effects, "Plumb").missing] == ["Unity and polarity"]
        assert ("missing", "Plumb 9.9") in {(one.kind, one.name) for one in after.old}
        effect.archived_at = now
        session.flush()
        assert "Plumb" not in {one.effect.name for one in overview(session, now).effects}
        session.rollback()


def test_little_room_is_said_before_anything_is_refused(demo: str, monkeypatch: pytest.MonkeyPatch) -> None:
    now = datetime.now(UTC)
    with transaction() as session:
        held = held_in_all(session)
        for room, said in ((held * 2, []), (held / 0.95, ["audio"]), (held / 2, ["audio"])):
            set_rule(session, None, None, room / 1e9, who="Nora F.", now=now)
            full = [one for one in overview(session, now).old if one.kind in ("audio", "temporary files")]
            assert [one.kind for one in full] == said
            assert all(one.left == max(0, round(room) - held) for one in full)
        usage = shutil.disk_usage("/")
        monkeypatch.setattr(shutil, "disk_usage", lambda _: usage._replace(free=1_300_000_000))
        (disk,) = [one for one in overview(session, now).old if one.kind == "temporary files"]
        assert old_text(disk.kind, "", "", left=disk.left) == (
            "The disk of temporary files on the server has 1.3 GB left."
        )
        session.rollback()
