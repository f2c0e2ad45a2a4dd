"""The demo: the scenario's effects, plans, runs and file pairs, written once; workers render it."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.accounts import add_person, all_people
from kind_echo.bench.decisions import approve, decide
from kind_echo.bench.demo.scenario import (
    PEOPLE,
    SAID,
    SCENES,
    SIGNALS,
    Scene,
    Where,
    amplifier_scene,
    command_scene,
    formats_scene,
)
from kind_echo.bench.demo.sittings import sit_down
from kind_echo.bench.machines import add_effect, add_host_by_hand, register
from kind_echo.bench.plans import (
    BLOCKS,
    CaseDraft,
    ConditionAsked,
    SettingAsked,
    condition_of,
    null_test_limits,
    revise_plan,
    setting_named,
)
from kind_echo.bench.queue import settle_demo
from kind_echo.bench.runs import start_run
from kind_echo.core.signals import in_full
from kind_echo.database.models import Build, Cell, Condition, Effect, Plan, Run, Signal
from kind_echo.renderers import stand_in
from kind_echo.renderers.contract import Offer, OfferedEffect
from kind_echo.renderers.plugins.standards import CLAP, LV2, VST3

BENCH = "Demo bench"
_IN_FORMATS = "Lantern"
"""An equaliser that comes in three standards."""
_AMPLIFIER = "http://lv2plug.in/plugins/eg-amp"
_COMMAND = "sox-lowpass"


def load_demo(session: Session, offers: Sequence[Offer], now: datetime) -> bool:
    """Write the demo, unless it is there; whether it wrote it.

    Releases are rendered first and their renders are approved as soon as they are all there; the candidates follow.
    What this machine has no renderer for is left out.
    """
    # Slow to load, and a demo is built once.
    from kind_echo.bench.demo.files import bring_files
    from kind_echo.standins.catalogue import STAND_INS

    if not all_people(session):  # a demo from before there were accounts has none
        for name, role in PEOPLE.items():
            add_person(session, name, role, who=BENCH, now=now)
    if session.scalar(select(Effect.id).where(Effect.name == "Skerry")) is not None:
        return False
    by_queue = {offer.queue: offer for offer in offers}
    for effect in by_queue[stand_in.QUEUE].effects:
        add_effect(session, effect)
    register(session, offers)  # after its effects: simulated hosts are of interest to these alone
    for stand_in_effect in STAND_INS.values():
        notes = {build.version: build.note for build in stand_in_effect.builds}
        for build in session.scalars(select(Build).join(Effect).where(Effect.name == stand_in_effect.name)):
            build.note = notes[build.version]
    add_host_by_hand(session, "Dunlin", "5", "Player in a page that no script drives", ["real time"])
    session.add_all(Signal(name=name, request=in_full(request)) for name, request in SIGNALS.items())
    session.flush()
    scenes = [*_real_scenes(session, by_queue), *SCENES]
    # Runs are listed newest first: the effect that the scenario is about comes last, and is rendered first.
    for number, scene in enumerate(scenes):
        _stage(session, scene, now, urgency=number)
    first, second = list(PEOPLE)[:2]
    bring_files(session, now, first, second)
    sit_down(session, now, first, second)
    return True


def decide_demo_run(session: Session, run: Run, now: datetime) -> bool:
    """Decide on a run of the demo as its people would; whether everything in it was judged, so that they could.

    Of a release, what is fit becomes the references.
    """
    cells = session.scalars(select(Cell).where(Cell.run_id == run.id).order_by(Cell.id)).all()
    release = run.build.position == 0
    if any(not cell.finished or (cell.verdict == "Waiting" and not release) for cell in cells):
        return False
    fit = [cell.id for cell in cells if release and cell.fit_for_first_reference]
    if fit:
        approve(session, fit, who=BENCH, why="The release that customers have", now=now)
    place = (run.build.effect.name, run.revision.plan.name, run.build.version)
    for said in (said for said in SAID if said.run == place):
        meant = [c.id for c in cells if c.verdict == said.verdict and (not said.broken or said.broken in c.broken)]
        until = now.date() + timedelta(days=said.days) if said.days else None
        if meant:
            decide(session, meant, said.kind, who=said.who, now=now, why=said.why, ticket=said.ticket, until=until)
    return True


def _real_scenes(session: Session, offers: dict[str, Offer]) -> list[Scene]:
    """Scenes for what is really installed: the example amplifier, and a declared command."""
    scenes = []
    if LV2.key in offers:
        offer = offers[LV2.key]
        amplifier = next((effect for effect in offer.effects if effect.handle == _AMPLIFIER), None)
        if amplifier is not None:
            add_effect(session, amplifier, "As installed on this machine.")
            scenes.append(amplifier_scene(amplifier.name, offer.hosts[0].version))
    formats = {standard.key: offers[standard.key] for standard in (CLAP, VST3, LV2) if standard.key in offers}
    having = [offer for offer in formats.values() if any(one.name == _IN_FORMATS for one in offer.effects)]
    if having:
        offered = next(one for one in having[0].effects if one.name == _IN_FORMATS)
        add_effect(session, offered, "One build, as each standard has it.")
        scenes.append(formats_scene(_IN_FORMATS, [(one.hosts[0].name, one.hosts[0].version) for one in having]))
    if _COMMAND in offers:
        offer = offers[_COMMAND]
        declared: OfferedEffect = offer.effects[0]
        add_effect(session, declared, "As declared on this machine.")
        scenes.append(command_scene(declared.name, offer.hosts[0].name, offer.hosts[0].version))
    return scenes


def _stage(session: Session, scene: Scene, now: datetime, *, urgency: int) -> None:
    """Write a scene's settings, plan and runs."""
    effect = session.scalars(select(Effect).where(Effect.name == scene.effect)).one()
    plan = Plan(effect_id=effect.id, name=scene.plan)
    session.add(plan)
    session.flush()
    settings = {
        name: setting_named(session, effect, SettingAsked(name, scene.settings[name]))
        for name in dict.fromkeys(case.setting for case in scene.cases)
    }
    signals = {signal.name: signal for signal in session.scalars(select(Signal))}
    usual = null_test_limits()
    drafts = [
        CaseDraft(
            signals[case.signal],
            settings[case.setting],
            {key: limit for key, limit in usual.items() if key not in case.spared} | case.limits,
            case.takes,
            expected=None if case.expected is None else case.expected.model_dump(),
        )
        for case in scene.cases
    ]
    conditions = [_condition(session, where, rate) for where in scene.conditions for rate in where.rates]
    revise_plan(session, plan, drafts, conditions, now)
    if not scene.starts:
        return
    builds = session.scalars(select(Build).where(Build.effect_id == effect.id).order_by(Build.position))
    for position, build in enumerate(builds.all()[: 1 if scene.release_alone else None]):
        run = start_run(session, plan.id, build.id, who=BENCH, now=now, priority=urgency - 100 * position)
        if position == 0 or (scene.effect, scene.plan, build.version) in {said.run for said in SAID}:
            settle_demo(session, run.id)


def _condition(session: Session, where: Where, rate: int) -> Condition:
    block = BLOCKS[where.mode]
    wanted = ConditionAsked(where.host, where.version, where.mode, rate, block, where.channels, "FLOAT")
    return condition_of(session, wanted)
