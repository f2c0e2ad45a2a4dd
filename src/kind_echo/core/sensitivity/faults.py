"""The faults that are planted, in the order in which they are told: one for each cause that a comparison can name."""

from kind_echo.core.sensitivity import shapes
from kind_echo.core.sensitivity.fault import Fault

OCTAVES = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16_000.0)
"""In Hz, at which a peak is planted: the octaves of IEC 61260-1."""

_LATEST_SAMPLES = 4800.0


def _hertz(hertz: float) -> str:
    return f"{hertz:g} Hz" if hertz < 1000 else f"{hertz / 1000:g} kHz"


FAULTS: tuple[Fault, ...] = (
    Fault("gain", "gain", "Gain", "dB", 1e-6, 24.0, shapes.gain),
    Fault("channel_gain", "channel_gain", "Gain of one channel", "dB", 1e-6, 24.0, shapes.channel_gain),
    Fault("delay", "delay", "Delay, whole samples", "samples", 1.0, _LATEST_SAMPLES, shapes.late, is_count=True,
          moves=lambda size, _: size),
    Fault("fraction", "delay", "Delay within a sample", "samples", 1e-7, 0.499, shapes.fraction_late,
          moves=lambda size, _: size),
    Fault("polarity", "polarity", "Polarity", "", 1.0, 1.0, shapes.polarity),
    Fault("channel_polarity", "polarity", "Polarity of one channel", "", 1.0, 1.0, shapes.one_polarity),
    *(Fault(f"peak_{hertz:g}", "filter", f"Peak at {_hertz(hertz)}", "dB", 1e-6, 24.0, shapes.peak_at(hertz))
      for hertz in OCTAVES),
    Fault("noise", "noise", "Noise", "dBFS", -200.0, 0.0, shapes.noise, is_level=True),
    Fault("hum", "added_tone", "Hum", "dBFS", -200.0, 0.0, shapes.hum, is_level=True),
    Fault("aliasing", "aliasing", "Aliasing of the top octave", "dB", -200.0, 0.0, shapes.aliases, is_level=True),
    Fault("click", "click", "Click", "dBFS", -200.0, 0.0, shapes.click, is_level=True),
    Fault("dropout", "gap", "Dropout", "samples", 1.0, 48_000.0, shapes.dropout, is_count=True),
    Fault("repeat", "time_jump", "Block repeated", "samples", 1.0, 8192.0, shapes.repeated, is_count=True),
    Fault("time_jump", "time_jump", "Samples lost", "samples", 1.0, _LATEST_SAMPLES, shapes.jump, is_count=True,
          moves=lambda size, _: size),
    Fault("start", "gap", "Silence at the start", "samples", 1.0, 96_000.0, shapes.start_silent, is_count=True),
    Fault("tail", "gap", "Tail cut", "samples", 1.0, 96_000.0, shapes.tail_cut, is_count=True),
    Fault("dc", "dc", "DC", "dBFS", -200.0, 0.0, shapes.offset, is_level=True),
    Fault("channel_swap", "channel_swap", "Channels swapped", "", 1.0, 1.0, shapes.swapped),
    Fault("channel_missing", "channel_missing", "Channel lost", "", 1.0, 1.0, shapes.missing),
    Fault("channel_mix", "channel_mix", "One channel in the other", "dB", -200.0, 0.0, shapes.mixed, is_level=True),
    Fault("drift", "drift", "Drift", "ppm", 1e-6, 1000.0, shapes.drift,
          moves=lambda size, frames: size * 1e-6 * frames / 2),
    Fault("wander", "wander", "Wander", "samples", 1e-7, 16.0, shapes.wander, moves=lambda size, _: size),
    Fault("saturation", "non_linear", "Saturation", "dB", -200.0, -10.0, shapes.saturated, is_level=True),
    Fault("clipping", "clipping", "Clipping", "dB", 1e-6, 24.0, shapes.clipped),
    Fault("rounding", "quantisation", "Fewer bits", "dBFS", -200.0, 0.0, shapes.coarse, is_level=True),
    Fault("level_control", "level_control", "Level control", "dB", 1e-6, 24.0, shapes.controlled),
    Fault("fade", "gain_motion", "Gain that moves", "dB", 1e-6, 24.0, shapes.fading),
    Fault("claim", "delay", "Latency claimed wrongly", "samples", 1.0, _LATEST_SAMPLES, shapes.unchanged, is_count=True,
          of_claim=True),
)  # fmt: skip

BY_KEY = {fault.key: fault for fault in FAULTS}

FAULTS_VERSION = 1
"""Of the faults and of how they are judged: raised when either changes, so that nothing of before is taken over."""
