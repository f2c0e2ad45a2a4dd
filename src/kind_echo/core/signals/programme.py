"""Short pieces of programme, synthesised: five sounds of a harbour, each sparse or dense."""

import math
from collections.abc import Callable

import numpy as np

from kind_echo.core.signals.parameter import PieceName
from kind_echo.core.signals.shapes import Mono, add_body, add_grain

_CHORDS = ((1.0, 1.25, 1.5), (0.9, 1.2, 1.5), (1.0, 4 / 3, 1.6))
_TONIC = 146.8  # Hz


def play(piece: PieceName, seed: int, seconds: float, frames: int, rate: int, *, dense: bool) -> Mono:
    """The piece at no level in particular, shape (frames,). What chance decides is drawn by time, not by sample."""
    rng = np.random.default_rng([seed, list(_PLAYERS).index(piece)])
    return _PLAYERS[piece](seconds, frames, rate, dense, rng)


def _bell_buoy(seconds: float, frames: int, rate: int, dense: bool, rng: np.random.Generator) -> Mono:
    """Bells in a swell: one buoy now and then, or three across each other."""
    sound, time = np.zeros(frames), np.arange(frames) / rate
    for _ in range(3 if dense else 1):
        strike = float(rng.uniform(0.02, 0.2))
        while strike < seconds:
            force = float(rng.uniform(0.4, 1.0))
            add_body(sound, time, strike, force, rng)
            add_grain(sound, rate, strike, 4100.0, 0.0008, 0.8 * force)
            strike += float(rng.uniform(0.25, 0.7) if dense else rng.uniform(0.9, 1.8))
    return sound


def _gravel(seconds: float, frames: int, rate: int, dense: bool, rng: np.random.Generator) -> Mono:
    """Footsteps on gravel: each a heel and a toe, of many small stones."""
    sound = np.zeros(frames)
    step = 0.05
    while step < seconds:
        add_grain(sound, rate, step, 95.0, 0.03, 0.8)
        for after, stones in ((0.0, 26), (0.16, 40)):
            for _ in range(stones):
                at = step + after + float(rng.exponential(0.035))
                if at < seconds:
                    pitch = float(np.exp(rng.uniform(math.log(700), math.log(6500))))
                    add_grain(sound, rate, at, pitch, float(rng.uniform(0.001, 0.006)), float(rng.uniform(0.05, 0.5)))
        step += float(rng.uniform(0.3, 0.36) if dense else rng.uniform(0.7, 0.9))
    return sound


def _reed_organ(seconds: float, frames: int, rate: int, dense: bool, rng: np.random.Generator) -> Mono:
    """A chord on a reed organ, alone or in a row of chords; each note of two reeds that beat."""
    sound, time = np.zeros(frames), np.arange(frames) / rate
    length = 1.2 if dense else max(seconds, 0.5)
    for number in range(math.ceil(seconds / length)):
        begin, end = number * length, min(seconds, (number + 1) * length)
        inside = slice(int(np.searchsorted(time, begin)), int(np.searchsorted(time, end)))
        t = time[inside]
        wind = np.minimum(1.0, (t - begin) / 0.06) * np.clip((end - t) / 0.08, 0.0, 1.0)
        wind = wind * (1.0 + 0.05 * np.sin(2 * np.pi * 5.3 * t))
        for note in _CHORDS[number % len(_CHORDS)]:
            for reed in (1.0, 1.0 + float(rng.uniform(0.001, 0.004))):
                for harmonic in range(1, 24):
                    pitch = _TONIC * note * reed * harmonic
                    phase = float(rng.uniform(0, 2 * np.pi))
                    sound[inside] += wind / harmonic**1.2 * np.sin(2 * np.pi * pitch * t + phase)
    return sound


def _rain_on_tin(seconds: float, frames: int, rate: int, dense: bool, rng: np.random.Generator) -> Mono:
    """Drops on a tin roof: single ones, or a shower."""
    sound = np.zeros(frames)
    at = 0.02
    while at < seconds:
        force = float(rng.uniform(0.1, 1.0)) ** 2
        for _ in range(3):
            pitch = float(np.exp(rng.uniform(math.log(900), math.log(9000))))
            add_grain(sound, rate, at, pitch, float(rng.uniform(0.002, 0.014)), force)
        at += float(rng.exponential(0.012 if dense else 0.13))
    return sound


def _harbour(seconds: float, frames: int, rate: int, dense: bool, rng: np.random.Generator) -> Mono:
    """Water at a quay; when dense, with a distant horn and halyards that tap a mast."""
    sound, time = np.zeros(frames), np.arange(frames) / rate
    for _ in range(90):
        pitch = float(np.exp(rng.uniform(math.log(60), math.log(1400))))
        swell = 1.0 + 0.8 * np.sin(2 * np.pi * float(rng.uniform(0.1, 0.5)) * time + float(rng.uniform(0, 6.3)))
        phase = float(rng.uniform(0, 6.3))
        sound += (150.0 / (pitch + 100.0)) * swell * np.sin(2 * np.pi * pitch * time + phase)
    if dense:
        horn = np.exp(-np.square((time - 0.5 * seconds) / (0.2 * seconds)))
        for harmonic in range(1, 9):
            sound += 3.0 * horn / harmonic * np.sin(2 * np.pi * 82.0 * harmonic * time)
        tap = 0.1
        while tap < seconds:
            add_grain(sound, rate, tap, float(rng.uniform(1700, 2600)), 0.012, 5.0)
            tap += float(rng.uniform(0.15, 0.6))
    return sound


_PLAYERS: dict[PieceName, Callable[[float, int, int, bool, np.random.Generator], Mono]] = {
    "bell buoy": _bell_buoy,
    "gravel": _gravel,
    "reed organ": _reed_organ,
    "rain on tin": _rain_on_tin,
    "harbour": _harbour,
}
