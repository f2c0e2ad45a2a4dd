"""A night at a large maker, at reduced length: 40 effects with a new build each, 12 workers, one database.

`python -m benchmarks.day [--cells 10]`: every effect is a stand-in of its own with a plan of so many cells, all of
which are rendered, measured and compared with approved references. Printed are cells a second, what was busy meanwhile,
and what that comes to for 60,000 cells a night.
"""

import argparse
import os
import time
from datetime import UTC, datetime

import psutil

from benchmarks.runs import approve_all, own_database
from benchmarks.workers import Sampled, query, some_workers, wait_until_judged

EFFECTS, WORKERS, NIGHT = 40, 12, 60_000
_NOW = datetime(2026, 11, 25, tzinfo=UTC)
_BUILDS = ("2.0.3", "2.1.0-rc1")  # those of Skerry's that the stand-ins know
_SOUNDS = ("Bell buoy strikes", "Short tone")


def report(cells: int) -> list[str]:
    """The figures, a line each."""
    with own_database(), some_workers(WORKERS):
        plans = [_effect(number, cells) for number in range(EFFECTS)]
        first = [_start(plan, "2.0.3") for plan in plans]
        wait_until_judged(first)
        approve_all()
        psutil.cpu_percent()
        with Sampled() as sampled:
            begin = time.perf_counter()
            night = [_start(plan, "2.1.0-rc1") for plan in plans]
            started = time.perf_counter() - begin
            wait_until_judged(night)
            spent = time.perf_counter() - begin
            busy = psutil.cpu_percent() / 100.0
        (counted,) = query("SELECT count(*) FROM cell WHERE run_id = ANY(%s)", night)[0]
    total, cores = int(str(counted)), os.cpu_count() or 1
    each = spent * busy * cores / total
    hours = NIGHT * each / 3600
    return [
        f"{EFFECTS} effects, {total} cells by {WORKERS} workers on {cores} cores: {spent:.0f} s, "
        f"{total / spent:.1f} cells a second; starting the {EFFECTS} runs took {started:.1f} s",
        f"meanwhile {100 * busy:.0f} % of the processors were at work, "
        f"and {sampled.busy:.1f} connections of the database",
        f"a cell costs {each:.2f} s of a core: {NIGHT} a night are {hours:.1f} core hours, {hours / 8:.1f} cores for "
        "eight hours",
    ]


def _effect(number: int, cells: int) -> int:
    """An effect like Skerry with two builds and a plan; the plan's number."""
    from sqlalchemy import select

    from kind_echo.bench.plans import PlanDocument, save_plan
    from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep
    from kind_echo.database.models import Build, Effect, Setting
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        like = session.scalars(select(Effect).where(Effect.name == "Skerry")).one()
        setting = session.scalars(select(Setting).where(Setting.effect_id == like.id, Setting.name == "Hard, 8×")).one()
        effect = Effect(name=f"Effect {number}", description="", parameters=like.parameters, channels=like.channels,
                        handle=like.handle, offered_as="Skerry")  # fmt: skip
        session.add(effect)
        session.flush()
        session.add_all([
            *(Build(effect_id=effect.id, version=version, position=k, note="") for k, version in enumerate(_BUILDS)),
            Setting(effect_id=effect.id, name="Hard", parameters=setting.parameters),
        ])  # fmt: skip
        session.flush()
        # Of no two effects the same values: what was rendered of the same before would be taken over.
        values = [round(0.1 * step + 0.001 * number, 3) for step in range(-(-cells // len(_SOUNDS)))]
        document = PlanDocument(
            plan=f"Night {number}", effect=effect.name,
            signals={"Short tone": {"kind": "tone", "level": -6.0, "seconds": 2.0}},
            cases=[PlanCase(signal=sound, setting="Hard", sweep=Sweep(parameter="drive", values=[*values]))
                   for sound in _SOUNDS],
            conditions=[PlanCondition(host="Almanac", version="7", modes=["offline"], rates=[48_000], blocks=[512])],
        )  # fmt: skip
        return save_plan(session, document, who="Benchmark", now=_NOW).plan_id


def _start(plan: int, version: str) -> int:
    from kind_echo.bench.plans import find_build, plan_numbered
    from kind_echo.bench.runs import start_run
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        build = find_build(session, plan_numbered(session, plan), version)
        return start_run(session, plan, build.id, who="Benchmark", now=_NOW, render="everything").id


def main() -> None:
    """Run both nights, print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cells", type=int, default=10, help="of each effect")
    for line in report(parser.parse_args().cells):
        print(line, flush=True)


if __name__ == "__main__":
    main()
