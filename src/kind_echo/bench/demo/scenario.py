"""What the demo is about: Saltmarsh readies a season of effects; signals, settings, and a plan for each effect."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from kind_echo.bench.accounts import Role
from kind_echo.bench.plans import Law, Mode
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.numbers import number
from kind_echo.core.signals import SignalDocument
from kind_echo.database.states import DecisionKind
from kind_echo.renderers.contract import Values
from kind_echo.renderers.plugins.standards import LV2

PEOPLE: dict[str, Role] = {"Nora F.": "keep", "Tove L.": "work"}

SIGNALS: dict[str, SignalDocument] = {
    "Steady tone 997 Hz": {
        "kind": "tone", "frequency": 997.0, "level": -6.0, "seconds": 2.0, "lead_in": 0.1, "tail": 0.1, "fade": 0.02,
    },
    "Steady tone 997 Hz, low": {
        "kind": "tone", "frequency": 997.0, "level": -30.0, "seconds": 1.5, "lead_in": 0.1, "tail": 0.1, "fade": 0.02,
    },
    "Steady tone at −8": {
        "kind": "tone", "frequency": 997.0, "level": -8.0, "seconds": 2.0, "lead_in": 0.1, "tail": 0.1, "fade": 0.02,
    },
    "Hit of tone at −8": {
        "kind": "burst", "frequency": 997.0, "level": -8.0, "low": 40.0, "seconds": 0.16, "lead_in": 0.1, "tail": 0.3,
    },
    "Stepped tones": {
        "kind": "steps", "start": 510.0, "end": 16_000.0, "per_octave": 6, "step_seconds": 0.25, "level": -6.0,
        "lead_in": 0.1, "tail": 0.1,
    },
    "Sine sweep": {
        "kind": "sweep", "start": 20.0, "level": -9.0, "seconds": 3.0, "lead_in": 0.1, "tail": 0.1, "fade": 0.02,
    },
    "Bell buoy strikes": {"kind": "bells", "level": -1.0, "seconds": 3.2, "seed": 7, "tail": 0.1},
    "Clicks at 120": {"kind": "clicks", "tempo": 120.0, "level": -6.0, "seconds": 3.0, "lead_in": 0.1},
    "Level staircase": {
        "kind": "staircase", "frequency": 1000.0, "lowest": -60.0, "level": 0.0, "climb": 4.0, "step_seconds": 0.4,
    },
    "Pink noise": {"kind": "noise", "color": "pink", "level": -20.0, "seconds": 2.5, "lead_in": 0.1},
    "Pink noise, two sides": {
        "kind": "noise", "color": "pink", "level": -20.0, "seconds": 2.5, "lead_in": 0.1, "placement": "apart",
    },
    "Gravel, dense": {"kind": "piece", "piece": "gravel", "density": "dense", "level": -30.0, "seconds": 2.5,
                      "lead_in": 0.1},
    "Rain on tin, sparse": {"kind": "piece", "piece": "rain on tin", "density": "sparse", "level": -32.0,
                            "seconds": 2.5, "lead_in": 0.1},
    "Reed organ, dense": {"kind": "piece", "piece": "reed organ", "density": "dense", "level": -26.0, "seconds": 2.5,
                          "lead_in": 0.1},
    "Harbour, dense": {"kind": "piece", "piece": "harbour", "density": "dense", "level": -26.0, "seconds": 2.5,
                       "lead_in": 0.1},
}  # fmt: skip


@dataclass(frozen=True)
class Where:
    """A host at some rates."""

    host: str
    version: str
    mode: Mode
    rates: tuple[int, ...]
    channels: int = 1


@dataclass(frozen=True)
class What:
    """A signal through a setting.

    Attributes:
        limits: bounds beside those of a null regression.
        spared: measures of a null regression that are not judged here.
        expected: the law that levels are held against.
    """

    signal: str
    setting: str
    limits: dict[str, Limit] = field(default_factory=dict)
    spared: tuple[str, ...] = ()
    takes: int = 1
    expected: Law | None = None


@dataclass(frozen=True)
class Scene:
    """The plan of an effect.

    Attributes:
        starts: whether the demo runs it, on every build.
        release_alone: whether it runs it on the release and no candidate.
    """

    effect: str
    plan: str
    settings: dict[str, Values]
    cases: tuple[What, ...]
    conditions: tuple[Where, ...]
    starts: bool = True
    release_alone: bool = False


@dataclass(frozen=True)
class DemoDecision:
    """A decision of the demo's people on the cells of a run that have a verdict and break a measure.

    Attributes:
        run: effect, plan and version.
        broken: a measure; empty for all of that verdict.
        days: how long a waiver holds.
    """

    run: tuple[str, str, str]
    verdict: str
    broken: str
    kind: DecisionKind
    who: str
    why: str
    ticket: str = ""
    days: int = 0


SAID = (
    DemoDecision(
        ("Skerry", "Null regression", "2.0.3"), "Fail", "lead_in_excess", "waived", "Tove L.",
        "Bittern 5 loses the start of every file; mended in Bittern 6, which customers get in spring", "SALT-71", 120,
    ),
    DemoDecision(
        ("Skerry", "Null regression", "2.1.0-rc1"), "Fail", "delay", "fault", "Nora F.",
        "The new filter delays by one sample more than it claims", "SALT-118",
    ),
    DemoDecision(
        ("Plumb", "Unity and polarity", "1.1-rc2"), "Changed", "", "accepted", "Tove L.",
        "The gain stage rounds with dither now, far under anything that is heard",
    ),
)  # fmt: skip


def near(value: float, by: float) -> Limit:
    """Within a distance of a value."""
    return Limit(value - by, value + by)


_IN_TIME = {"latency_error": near(0.0, 0.5)}
_NEVER_ALIKE = ("delay", "gain", "clicks", "gaps")

_CLIPPING: dict[str, Values] = {
    "Idle": {"shape": "hard", "ceiling": 0.0, "drive": 0.0, "oversampling": 1},
    "Hard, 1×": {"shape": "hard", "ceiling": -6.0, "drive": 6.0, "oversampling": 1},
    "Hard, 8×": {"shape": "hard", "ceiling": -6.0, "drive": 6.0, "oversampling": 8},
    "Soft, 4×": {"shape": "soft", "ceiling": -3.0, "drive": 6.0, "oversampling": 4},
    "Soft, 8×": {"shape": "soft", "ceiling": -3.0, "drive": 6.0, "oversampling": 8},
}

_CHARACTERS = ("plain", "copper", "heron", "anvil", "kettle", "drowse")
_FOUR_TO_ONE = Law(threshold=-20.0, ratio=4.0)

SCENES: tuple[Scene, ...] = (
    Scene(
        "Towpath",
        "Characters and curve",
        {
            "Plain, 4:1": {"character": "plain"},
            "Copper": {"character": "copper"},
            "Heron": {"character": "heron", "attack": 1.0},
            "Drowse": {"character": "drowse"},
        },
        (
            What(
                "Level staircase",
                "Plain, 4:1",
                {
                    "threshold_estimate": near(-20.0, 0.5),
                    "ratio_estimate": near(4.0, 0.12),
                    "curve_error_worst": near(0.0, 0.2),
                },
                expected=_FOUR_TO_ONE,
            ),
            What("Steady tone 997 Hz", "Copper"),
            What("Bell buoy strikes", "Heron"),
            What("Gravel, dense", "Drowse"),
        ),
        (Where("Almanac", "7", "offline", (48_000,)), Where("Causeway", "11", "offline", (48_000,))),
    ),
    Scene(
        "Towpath",
        "Six characters, one level",
        {f"{name.capitalize()}, 0.5 ms": {"character": name, "attack": 0.5} for name in _CHARACTERS},
        tuple(
            What(
                signal,
                f"{name.capitalize()}, 0.5 ms",
                {"law_error_rms": near(0.0, 0.5)},
                spared=("lead_in_excess",),
                expected=_FOUR_TO_ONE,
            )
            for signal in ("Steady tone at −8", "Hit of tone at −8")
            for name in _CHARACTERS
        ),
        (Where("Almanac", "7", "offline", (48_000,)),),
        release_alone=True,
    ),
    Scene(
        "Holdfast",
        "Ceiling and look-ahead",
        {
            "Ceiling −6 dBFS": {"ceiling": -6.0},
            "Ceiling −6 dBTP": {"ceiling": -6.0, "peaks": "between samples"},
        },
        (
            What("Clicks at 120", "Ceiling −6 dBFS", _IN_TIME),
            What("Bell buoy strikes", "Ceiling −6 dBFS", {"sample_peak": Limit(None, -5.99)}),
            What("Bell buoy strikes", "Ceiling −6 dBTP", {"true_peak": Limit(None, -5.9)}),
        ),
        (
            Where("Almanac", "7", "real time", (48_000,)),
            Where("Bittern", "6", "offline", (48_000,)),
            Where("Estuary", "2", "offline", (44_100,)),
        ),
    ),
    Scene(
        "Weir",
        "Bands and sum",
        {"All bands": {"output": "all"}, "Low band": {"output": "low"}, "High band": {"output": "high"}},
        (
            What("Pink noise, two sides", "All bands"),
            What("Pink noise, two sides", "High band"),
            What("Bell buoy strikes", "Low band"),
        ),
        (
            Where("Almanac", "7", "offline", (48_000, 96_000), channels=2),
            Where("Estuary", "2", "offline", (44_100,), channels=2),
        ),
    ),
    Scene(
        "Rushlight",
        "Folding",
        {
            "Telephone": {"rate": 12_000.0, "filter": "on"},
            "Raw": {"rate": 12_000.0, "filter": "off"},
            "Wandering clock": {"rate": 12_000.0, "filter": "on", "wander": 1.0},
        },
        (
            What("Rain on tin, sparse", "Telephone"),
            What("Rain on tin, sparse", "Raw"),
            What("Reed organ, dense", "Wandering clock", spared=_NEVER_ALIKE, takes=3),
        ),
        (
            Where("Almanac", "7", "offline", (48_000, 96_000)),
            Where("Dunlin", "4", "real time", (48_000,)),
        ),
    ),
    Scene(
        "Sedge",
        "Resonances",
        {
            "Gentle": {"strength": "gentle"},
            "Firm": {"strength": "firm"},
            "What is taken": {"strength": "firm", "output": "difference"},
        },
        (
            What("Reed organ, dense", "Gentle"),
            What("Bell buoy strikes", "Firm"),
            What("Harbour, dense", "What is taken"),
        ),
        (Where("Almanac", "7", "offline", (48_000,)), Where("Causeway", "11", "real time", (44_100,))),
    ),
    Scene(
        "Plumb",
        "Unity and polarity",
        {"Default": {}, "−24 dB": {"gain": -24.0}, "Turned": {"polarity": "turned"}},
        (
            What("Steady tone 997 Hz", "Default", {"fundamental_level": near(-6.0, 0.05)}),
            What("Steady tone 997 Hz", "−24 dB", {"fundamental_level": near(-30.0, 0.05)}),
            What("Clicks at 120", "Turned", _IN_TIME | {"latency_first": near(0.0, 0.5)}),
            What("Sine sweep", "Default", {"flatness_error": near(0.0, 0.1)}),
        ),
        (
            Where("Almanac", "7", "offline", (48_000,)),
            Where("Causeway", "11", "real time", (48_000,)),
            Where("Causeway", "12", "real time", (48_000,)),
            Where("Dunlin", "3", "real time", (48_000,)),
        ),
    ),
    Scene(
        "Fogbank",
        "Noise and steady tones",
        {"All of it": {"depth": 120.0}},
        (
            What("Steady tone 997 Hz", "All of it", {"fundamental_level": near(-6.0, 0.05)}),
            What("Pink noise", "All of it", {"gain_1k": near(0.0, 1.0)}),
            What("Harbour, dense", "All of it", {"dc_offset": near(0.0, 0.0001)}),
            What("Bell buoy strikes", "All of it"),
        ),
        (Where("Almanac", "7", "offline", (44_100,)), Where("Estuary", "3", "offline", (48_000,))),
    ),
    Scene(
        "Skerry",
        "Real time against offline",
        _CLIPPING,
        (
            What("Steady tone 997 Hz", "Hard, 8×", {"alias_worst_level": Limit(None, -100.0)}),
            What("Stepped tones", "Hard, 8×", {"alias_worst_level": Limit(None, -50.0)}),
        ),
        (Where("Almanac", "8", "real time", (48_000,)), Where("Almanac", "8", "offline", (48_000,))),
    ),
    Scene(
        "Skerry",
        "By hand",
        _CLIPPING,
        (What("Steady tone 997 Hz", "Hard, 8×"), What("Bell buoy strikes", "Soft, 8×")),
        (Where("Dunlin", "5", "real time", (44_100, 48_000)),),
        starts=False,
    ),
    Scene(
        "Skerry",
        "Null regression",
        _CLIPPING,
        (
            What("Steady tone 997 Hz", "Idle"),
            What("Steady tone 997 Hz", "Hard, 1×"),
            What("Steady tone 997 Hz", "Hard, 8×"),
            What("Sine sweep", "Soft, 4×"),
            What("Bell buoy strikes", "Hard, 1×"),
            What("Bell buoy strikes", "Soft, 8×"),
        ),
        (
            Where("Almanac", "7", "real time", (44_100, 48_000, 96_000)),
            Where("Almanac", "7", "offline", (44_100, 48_000, 96_000)),
            Where("Bittern", "5", "offline", (44_100, 48_000, 96_000)),
            Where("Estuary", "2", "offline", (44_100, 48_000, 96_000)),
        ),
    ),
)


def amplifier_scene(effect: str, host_version: str) -> Scene:
    """Gain calibration of the example amplifier over its range."""
    gains = (-40.0, -20.0, -6.0, 0.0, 6.0, 20.0)
    names = {gain: f"{number(gain, '+.0f')} dB" if gain else "Unity" for gain in gains}
    return Scene(
        effect,
        "Gain calibration",
        {names[gain]: {"gain": gain} for gain in gains},
        (
            *(
                What("Steady tone 997 Hz, low", names[gain], {"fundamental_level": near(-30.0 + gain, 0.01)})
                for gain in gains
            ),
            What("Sine sweep", "Unity", {"flatness_error": near(0.0, 0.01)}),
        ),
        (Where(LV2.host, host_version, "offline", (44_100, 96_000)),),
    )


def formats_scene(effect: str, hosts: Sequence[tuple[str, str]]) -> Scene:
    """An equaliser in each standard that it comes in: flat, with its gain up, and with a peak."""
    return Scene(
        effect,
        "Format against format",
        {
            "Flat": {},
            "Gain up 6 dB": {"Master Gain": 6.0},
            "Peak at 500 Hz": {"Boost/Cut 1": 6.0, "Frequency 1": 500.0, "Peaks ON": 1.0},
        },
        (
            What("Sine sweep", "Flat", {"flatness_error": near(0.0, 0.01)}),
            What("Steady tone 997 Hz, low", "Gain up 6 dB", {"fundamental_level": near(-24.0, 0.01)}),
            What("Sine sweep", "Peak at 500 Hz"),
        ),
        tuple(Where(name, version, "offline", (48_000, 96_000)) for name, version in hosts),
    )


def command_scene(effect: str, host: str, host_version: str) -> Scene:
    """The corner of a low-pass that a declared command renders.

    Its filter is y += (1 − e^(−2π·corner/rate))·(x − y): at 48 kHz 3.01 dB under its level at 1 kHz at 4344 Hz, and
    2.99 dB down at 997 Hz where the corner is 1 kHz, by that formula.
    """
    return Scene(
        effect,
        "Corner by command",
        {"Corner 4 kHz": {"corner": 4000.0}, "Corner 1 kHz": {"corner": 1000.0}},
        (
            What("Sine sweep", "Corner 4 kHz", {"edge_high": near(4344.0, 87.0)}),
            What("Steady tone 997 Hz", "Corner 1 kHz", {"fundamental_level": near(-9.0, 0.1)}),
        ),
        (Where(host, host_version, "offline", (48_000,)),),
    )
