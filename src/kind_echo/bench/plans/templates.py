"""Plans for the usual work, fitted to an effect: which signals, settings and limits each of them takes."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.machines import EffectNotFound, hosts_for
from kind_echo.bench.plans.document import (
    MOST_CHANNELS,
    BadPlan,
    Exclusion,
    PlanCase,
    PlanCondition,
    PlanDocument,
    PlanLimit,
    Sweep,
    Values,
)
from kind_echo.bench.signals import checked, shown
from kind_echo.core.registry.errors import NotFound
from kind_echo.core.registry.measure import Family
from kind_echo.core.registry.measures import default_limits
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.core.signals import SignalDocument
from kind_echo.database.models import Effect, Host, Setting, Signal
from kind_echo.renderers.contract import VARIATIONS
from kind_echo.renderers.plugins import fitness

AS_IT_COMES = "As it comes"
"""The setting in which nothing is set."""

_USUAL_RATES = [44_100, 48_000, 96_000]
_MOST_HOSTS = 3
_SWEPT_VALUES = 7


class TemplateNotFound(NotFound):
    """A template is asked for that is not there."""

    def __init__(self, key: str) -> None:
        self.key = key
        super().__init__(f"There is no template {key}.")


@dataclass(frozen=True)
class Bench:
    """What a plan of an effect can be made of."""

    effect: Effect
    settings: Sequence[str]
    hosts: Sequence[Host]

    def numbers(self) -> list[ParameterDocument]:
        """The parameters that are numbers between bounds."""
        return [p for p in self.effect.parameters if not p.get("choices") and p.get("least") is not None]


@dataclass(frozen=True)
class Template:
    """A kind of plan: its name, what it finds out, and how it is made for an effect."""

    key: str
    title: str
    purpose: str
    make: Callable[[Bench], PlanDocument]


_TONE = {"kind": "tone", "frequency": 997.0, "level": -6.0, "seconds": 2.0, "lead_in": 0.1, "tail": 0.1, "fade": 0.02}
_LOW_TONE = {**_TONE, "level": -30.0, "seconds": 1.5}
_SWEEP = {"kind": "sweep", "level": -12.0, "seconds": 2.0, "lead_in": 0.1, "tail": 0.2}
_BELLS = {"kind": "bells", "level": -3.0, "seconds": 2.0, "lead_in": 0.1}
_CLICKS = {"kind": "clicks", "level": -12.0, "seconds": 3.0, "lead_in": 0.5}
_STAIRS = {"kind": "staircase", "frequency": 1000.0, "lowest": -60.0, "level": 0.0, "climb": 4.0, "step_seconds": 0.4}
_STEPS = {"kind": "steps", "level": -6.0, "step_seconds": 0.25, "lead_in": 0.1}
_ORGAN = {"kind": "piece", "piece": "reed organ", "density": "dense", "level": -20.0, "seconds": 4.0, "lead_in": 0.1}
_RAIN = {"kind": "piece", "piece": "rain on tin", "density": "sparse", "level": -26.0, "seconds": 4.0, "lead_in": 0.1}


def _near(value: float, by: float, because: str = "") -> PlanLimit:
    return PlanLimit(at_least=value - by, at_most=value + by, because=because)


def _conditions(bench: Bench, rates: list[int], modes: Sequence[str] = ("real time", "offline")) -> list[PlanCondition]:
    """The first hosts that have any of the modes, each in those that it has."""
    found: list[PlanCondition] = []
    channels = _channels(bench.effect)
    for host in bench.hosts:
        has = [mode for mode in modes if mode in host.modes]
        if has and len(found) < _MOST_HOSTS:
            found.append(PlanCondition.model_validate(
                {"host": host.name, "version": host.version, "modes": has, "rates": rates, "channels": channels}
            ))  # fmt: skip
    return found


def _channels(effect: Effect) -> int:
    """The fewest channels that an effect can be given; one where that is not known. Raises BadPlan."""
    fewest = min(effect.channels, default=1)
    if fewest > MOST_CHANNELS:
        raise BadPlan([f"{effect.name} takes {fewest} channels, and a plan renders {MOST_CHANNELS} at the most"])
    return fewest


def _plan(
    bench: Bench, title: str, signals: dict[str, SignalDocument], cases: list[PlanCase],
    conditions: list[PlanCondition], limits: dict[str, PlanLimit] | None = None,
) -> PlanDocument:  # fmt: skip
    if not conditions:
        raise BadPlan([f"no host in which a known machine has {bench.effect.name} renders as {title} needs it"])
    if not cases:
        raise BadPlan([f"{bench.effect.name} can be set in no way that {title} could measure"])
    plain: dict[str, Values] = {AS_IT_COMES: {}} if any(c.setting == AS_IT_COMES for c in cases) else {}
    return PlanDocument(
        plan=title, effect=bench.effect.name, signals=signals, settings=plain, cases=cases, conditions=conditions,
        limits=limits or {},
    )  # fmt: skip


def _everything(bench: Bench, signals: Sequence[str], **rest: Any) -> list[PlanCase]:
    settings = list(bench.settings) or [AS_IT_COMES]
    return [PlanCase(signal=signal, setting=setting, **rest) for signal in signals for setting in settings]


def _null(bench: Bench) -> PlanDocument:
    signals = {"Tone 997 Hz, −6 dBFS": _TONE, "Exponential sweep": _SWEEP, "Bells with short peaks": _BELLS}
    return _plan(bench, "Null regression", signals, _everything(bench, list(signals)), _conditions(bench, _USUAL_RATES))


def _gain(bench: Bench) -> PlanDocument:
    """Over a parameter in decibels that is called gain, else over the first that is a number."""
    name = "Tone 997 Hz, −30 dBFS"
    numbers = bench.numbers()
    gain = next((p for p in numbers if "gain" in str(p["name"]).lower()), None)
    conditions = _conditions(bench, [48_000])
    if gain is not None:
        cases = [
            PlanCase(
                signal=name, setting=AS_IT_COMES, sweep=Sweep(parameter=gain["name"], values=[value]),
                limits={"fundamental_level": _near(-30.0 + value, 0.01, _decibels(value))},
            )
            for value in _spread(gain)
            if -30.0 + value < 0.0
        ]  # fmt: skip
    elif numbers:
        sweep = Sweep(parameter=numbers[0]["name"], values=[*_spread(numbers[0])])
        cases = [PlanCase(signal=name, setting=AS_IT_COMES, sweep=sweep)]
    else:
        cases = _everything(bench, [name])
    return _plan(bench, "Gain calibration", {name: _LOW_TONE}, cases, conditions)


def _transfer(bench: Bench) -> PlanDocument:
    # It is judged by its curve: a reference is compared with it once there is one, and none is waited for.
    cases = _everything(bench, ["Level staircase, −60 to 0 dBFS"], measures=["transfer"])
    return _plan(bench, "Transfer curve", {cases[0].signal: _STAIRS}, cases, _conditions(bench, [48_000], ["offline"]))


def _aliases(bench: Bench) -> PlanDocument:
    cases = _everything(bench, ["Stepped tones"])
    limits = {"alias_worst_level": PlanLimit(at_most=-80.0, because="under what is heard beside the tone")}
    return _plan(bench, "Alias sweep", {"Stepped tones": _STEPS}, cases, _conditions(bench, [44_100, 96_000]), limits)


def _bands(bench: Bench) -> PlanDocument:
    """All that can be chosen as output, added up, against what went in: bands, or a result and what was taken out."""
    whole = {"all", "sum", "full", "stereo", "both", "mix"}
    found = next((p for p in bench.effect.parameters if "output" in str(p["name"]).lower() and p.get("choices")), None)
    bands = [choice for choice in found["choices"] if str(choice).lower() not in whole] if found else []
    if found is None or len(bands) < 2:
        raise BadPlan([f"{bench.effect.name} has no outputs to choose from, whose sum could be taken"])
    signals = {"Exponential sweep": _SWEEP, "Bells with short peaks": _BELLS}
    sweep = Sweep(parameter=found["name"], values=[*bands], summed=True)
    cases = [PlanCase(signal=signal, setting=AS_IT_COMES, sweep=sweep, against="signal") for signal in signals]
    near = PlanLimit(at_most=-100.0, because="the bands of a splitter add up to what went in")
    late = PlanLimit()  # a splitter is as late as it claims, which is judged elsewhere
    limits = {"residual_rms": near, "residual_peak": PlanLimit(at_most=-80.0), "delay": late}
    return _plan(bench, "Band-sum null", signals, cases, _conditions(bench, _USUAL_RATES), limits)


def _idle(bench: Bench) -> PlanDocument:
    limits = {"flatness_error": _near(0.0, 0.1, "nothing is set, so nothing may change")}
    signals = {"Exponential sweep": _SWEEP, "Tone 997 Hz, −6 dBFS": _TONE}
    cases = [PlanCase(signal="Exponential sweep", setting=AS_IT_COMES, limits=limits),
             PlanCase(signal="Tone 997 Hz, −6 dBFS", setting=AS_IT_COMES,
                      limits={"fundamental_level": _near(-6.0, 0.01, "unity is expected")})]  # fmt: skip
    return _plan(bench, "Idle transparency and response", signals, cases, _conditions(bench, _USUAL_RATES))


def _latency(bench: Bench) -> PlanDocument:
    cases = _everything(bench, ["Clicks"], limits={"latency_error": _near(0.0, 0.5, "as claimed, to half a sample")})
    return _plan(bench, "Latency claimed against measured", {"Clicks": _CLICKS}, cases,
                 _conditions(bench, _USUAL_RATES))  # fmt: skip


def _modes(bench: Bench) -> PlanDocument:
    signals = {"Tone 997 Hz, −6 dBFS": _TONE, "Bells with short peaks": _BELLS}
    both = [host for host in bench.hosts if {"real time", "offline"} <= set(host.modes)]
    conditions = _conditions(Bench(bench.effect, bench.settings, both or bench.hosts), [48_000])
    limits = {"alias_worst_level": PlanLimit(at_most=-100.0, because="the same oversampling in both modes")}
    cases = _everything(bench, ["Bells with short peaks"])
    cases += _everything(bench, ["Tone 997 Hz, −6 dBFS"], limits=limits)
    return _plan(bench, "Real time against offline", signals, cases, conditions)


def _rates(bench: Bench) -> PlanDocument:
    signals = {"Tone 997 Hz, −6 dBFS": _TONE, "Exponential sweep": _SWEEP}
    rates = [44_100, 48_000, 88_200, 96_000, 176_400, 192_000]
    return _plan(bench, "Rate against rate", signals, _everything(bench, list(signals)),
                 _conditions(bench, rates, ["offline"])[:1])  # fmt: skip


def _levels(bench: Bench) -> PlanDocument:
    signals = {"Bells with short peaks": _BELLS, "Reed organ, dense, −20": _ORGAN}
    limits = {"true_peak": PlanLimit(at_most=-1.0, because="what broadcasters ask for: EBU R 128")}
    return _plan(bench, "Levels and true peak", signals, _everything(bench, list(signals), limits=limits),
                 _conditions(bench, [48_000]))  # fmt: skip


def _lossy(bench: Bench) -> PlanDocument:
    signals = {"Bells with short peaks": _BELLS, "Reed organ, dense, −20": _ORGAN}
    limits = {"lossy_overs": PlanLimit(at_most=0, because="nothing may clip in the encoded file")}
    return _plan(bench, "Lossy headroom", signals, _everything(bench, list(signals), limits=limits),
                 _conditions(bench, [44_100, 48_000], ["offline"])[:1])  # fmt: skip


def _repeat(bench: Bench) -> PlanDocument:
    cases = _everything(bench, ["Rain on tin, sparse, −26"], takes=5,
                        limits={"take_spread": PlanLimit(at_most=-120.0, because="the same each time")})  # fmt: skip
    return _plan(bench, "Repeatability", {"Rain on tin, sparse, −26": _RAIN}, cases,
                 _conditions(bench, [48_000], ["offline"])[:1])  # fmt: skip


def _fitness(bench: Bench) -> PlanDocument:
    """Whatever the effect is for: what every host asks of it; see `renderers/plugins/fitness.py` for the bounds."""
    if not any(host.system for host in bench.hosts):
        raise BadPlan([f"{bench.effect.name} is in no host of plug-ins, and Fitness is of those alone"])
    hosts = Bench(bench.effect, bench.settings, [host for host in bench.hosts if host.system])
    parameters = bench.effect.parameters
    same = PlanLimit(at_most=fitness.MOST_DIFFERENCE, because="the same render, whatever the host does")
    still = PlanLimit(at_most=0.01, because="and at the same place")
    loading = PlanLimit(at_most=1000 * fitness.MOST_LOADING_SECONDS, because="nobody waits longer")
    first = PlanLimit(at_most=1000 * fitness.MOST_FIRST_BLOCK_SECONDS, because="no place to allocate for seconds")
    quiet = PlanLimit(at_most=fitness.MOST_SILENCE, because="nothing comes of nothing")
    decay = PlanLimit(at_most=fitness.MOST_DECAY, because="what fades away costs no more than what sounds")
    bounded = PlanLimit(at_most=fitness.MOST_LEVEL, because="more is taken for running away")
    reads = PlanLimit(at_most=0, because="what it is given is only to be read")
    names = {"Pink noise, 1 s": fitness.NOISE, "Pink noise, 0.5 s": fitness.SHORT_NOISE,
             "Pink noise, then silence": fitness.FADING, "Silence, 2 s": fitness.SILENCE,
             "Clicks": fitness.CLICKS}  # fmt: skip
    noise, short, fading, silence, clicks = names
    as_it_is: list[Family] = ["hosting"]
    unjudged = {key: PlanLimit() for key in default_limits(("integrity",)) if key != "non_finite"}
    may_be_silent = {"silent": PlanLimit(at_most=1, because="this may be, or is to be")}

    def case(signal: str, setting: str, limits: dict[str, PlanLimit], **rest: Any) -> PlanCase:
        return PlanCase(signal=signal, setting=setting, limits=unjudged | limits, measures=as_it_is, **rest)

    cases = [
        case(noise, AS_IT_COMES, {"take_spread": same, "take_shift": still, "load_time": loading, "block_first": first,
                                  "input_written": reads}, takes=2, variation=key)
        for key in VARIATIONS
    ]  # fmt: skip
    late = _near(0.0, fitness.MOST_LATENCY_ERROR, "as it says; the phase of a filter may add to it")
    cases.append(case(clicks, AS_IT_COMES, {"latency_error": late}))
    cases.append(case(silence, AS_IT_COMES, {"sample_peak": quiet} | may_be_silent))
    cases.append(case(fading, AS_IT_COMES, {"end_level": quiet, "block_decay": decay}))
    settings: dict[str, Values] = {AS_IT_COMES: {}}
    tried = fitness.end_settings(parameters) | fitness.random_settings(parameters)
    settings |= tried
    cases += [case(short, name, {"sample_peak": bounded} | may_be_silent) for name in tried]
    bypass = fitness.bypass_setting(parameters)
    if bypass is not None:
        settings["Bypassed"] = bypass
        exact = {"changed_samples": PlanLimit(at_most=0, because="bypassed, it changes no bit"), "delay": PlanLimit()}
        cases.append(case(noise, "Bypassed", exact, against="signal"))
    conditions = _conditions(hosts, list(fitness.RATES))
    # The ends of parameters at one rate: they are many, and the rates are tried as it comes.
    elsewhere = [Exclusion(signal=short, rate=rate) for rate in fitness.RATES if rate != 48_000]
    both = {mode for one in conditions for mode in one.modes}
    elsewhere += [Exclusion(signal=short, mode="real time")] if "offline" in both and len(both) > 1 else []
    plan = _plan(bench, "Fitness", names, cases, conditions)
    return plan.model_copy(update={"settings": settings, "exclude": elsewhere})


TEMPLATES = (
    Template("null", "Null regression", "Does every build give what the last approved one gave?", _null),
    Template("gain", "Gain calibration", "Does each step of a parameter change the level as it says?", _gain),
    Template("transfer", "Transfer curve", "Which level goes out for each that goes in?", _transfer),
    Template("aliases", "Alias sweep", "Where do tones fold, and how loud?", _aliases),
    Template("idle", "Idle transparency and response", "Does it change anything when nothing is set?", _idle),
    Template("bands", "Band-sum null", "Do the bands of a splitter add up to what went in?", _bands),
    Template("latency", "Latency claimed against measured", "Is it as late as it says?", _latency),
    Template("modes", "Real time against offline", "Is what is heard what is rendered?", _modes),
    Template("rates", "Rate against rate", "Does it behave alike at every sample rate?", _rates),
    Template("levels", "Levels and true peak", "How loud does it get, between the samples too?", _levels),
    Template("lossy", "Lossy headroom", "How much must be taken off before it is encoded?", _lossy),
    Template("repeat", "Repeatability", "Is it the same each time?", _repeat),
    Template("fitness", "Fitness", "Is it fit for any host: states, blocks, instances, silence, ends?", _fitness),
)


def plan_from(session: Session, key: str, effect_name: str) -> PlanDocument:
    """A template's plan for an effect; nothing is kept.

    Raises:
        TemplateNotFound, EffectNotFound: there is no such template or effect.
        BadPlan: no host that is known, or nothing that the effect has, fits the template.
    """
    template = next((one for one in TEMPLATES if one.key == key), None)
    if template is None:
        raise TemplateNotFound(key)
    effect = session.scalar(select(Effect).where(Effect.name == effect_name))
    if effect is None:
        raise EffectNotFound(effect_name)
    settings = list(session.scalars(select(Setting.name).where(Setting.effect_id == effect.id).order_by(Setting.id)))
    hosts = hosts_for(session, effect)
    document = template.make(Bench(effect, [s for s in settings if s != AS_IT_COMES], hosts))
    return _with_free_names(session, effect, document)


def _with_free_names(session: Session, effect: Effect, document: PlanDocument) -> PlanDocument:
    """Signals that are kept already are taken by the name that they have; those of a taken name get another."""
    kept = {signal.name: shown(signal.request) for signal in session.scalars(select(Signal))}
    named: dict[str, str] = {}
    for name, request in document.signals.items():
        same = next((known for known, other in kept.items() if other == shown(checked(request))), None)
        free = name
        while same is None and free in kept:
            free += "′"
        named[name] = same or free
    return document.model_copy(update={
        "signals": {named[name]: request for name, request in document.signals.items()},
        "cases": [case.model_copy(update={"signal": named[case.signal]}) for case in document.cases],
    })  # fmt: skip


def _decibels(value: float) -> str:
    return f"{number(value)} dB of gain are set"


def _spread(parameter: ParameterDocument) -> list[float]:
    """Values over a parameter's range, its ends included."""
    least, greatest = float(parameter["least"]), float(parameter["greatest"])
    step = (greatest - least) / (_SWEPT_VALUES - 1)
    return [round(least + step * number, 3) for number in range(_SWEPT_VALUES)]
