"""The line of each kind, from audio or from curves that were measured."""

from collections.abc import Mapping

import numpy as np

from kind_echo.core.audio import peaks
from kind_echo.core.audio.source import Source
from kind_echo.core.audio.spectrum import level_spectrum
from kind_echo.core.comparison.bands import third_octaves
from kind_echo.core.overlays.kinds import Kind
from kind_echo.core.overlays.overlay import Floats, Line
from kind_echo.core.registry.readings import Curve

LEAST_FRAMES = 16
"""Frames that have a spectrum."""

COLUMNS = 600
"""Places of a waveform, or of its level over time."""

_SILENCE = 1e-12
_MEASURED = {"response": "magnitude", "transfer": "transfer", "gain": "gain", "loudness": "momentary"}


def line_of_audio(kind: Kind, label: str, source: Source) -> Line | None:
    """The spectrum of a file, or its third octaves; None of one that is too short, and of a sample that is no number.

    Of a long file some two hundred stretches are looked at, however long it is.
    """
    if source.frames < LEAST_FRAMES:
        return None
    if kind.key == "third_octaves":
        bands = third_octaves(source)
        return _line(label, np.asarray(bands.x), np.asarray(bands.y))
    found = level_spectrum(source, 0, source.frames)
    return _line(label, found.frequencies, found.levels)


def line_of_columns(kind: Kind, label: str, columns: peaks.Bins, start: float, stop: float) -> Line:
    """A waveform, or its peak level over time, from the least and the greatest sample in equal parts of a stretch.

    Args:
        columns: shape (columns, channels, 2).
        start, stop: of the stretch, in seconds.
    """
    edges = np.linspace(start, stop, len(columns) + 1)
    places = (edges[:-1] + edges[1:]) / 2
    low, high = columns[..., 0].min(axis=1).astype(np.float64), columns[..., 1].max(axis=1).astype(np.float64)
    if kind.key == "waveform":
        return Line(label, places, high, low)
    greatest = np.maximum(np.abs(low), np.abs(high))
    return Line(label, places, 20.0 * np.log10(np.maximum(greatest, _SILENCE)))


def line_of_curves(kind: Kind, label: str, curves: Mapping[str, Curve]) -> Line | None:
    """What was measured of a render against its signal, or its loudness over time; None where that was not measured.

    Harmonics stand by their order, in decibels re the fundamental.
    """
    if kind.key == "harmonics":
        return _harmonics(label, curves)
    curve = curves.get(_MEASURED[kind.key])
    if curve is None or not curve.x:
        return None
    return _line(label, np.asarray(curve.x, np.float64), np.asarray(curve.y, np.float64))


def law_of_curves(curves: Mapping[str, Curve]) -> Line | None:
    """The law that was expected of a transfer curve; None where none was."""
    curve = curves.get("transfer_expected")
    return None if curve is None or not curve.x else _line("expected", np.asarray(curve.x), np.asarray(curve.y))


def _harmonics(label: str, curves: Mapping[str, Curve]) -> Line | None:
    fundamental, levels, orders = (curves.get(name) for name in ("fundamental", "harmonics", "harmonic_orders"))
    if fundamental is None or levels is None or orders is None or not fundamental.y or not levels.x:
        return None
    if len(levels.x) != len(orders.x):  # they are lists of the same lines
        return None
    return _line(label, np.asarray(orders.x, np.float64), np.asarray(levels.y, np.float64) - fundamental.y[0])


def _line(label: str, x: Floats, y: Floats) -> Line | None:
    keep = np.isfinite(x) & np.isfinite(y)
    if not keep.any():
        return None
    order = np.argsort(x[keep], kind="stable")
    places, values = x[keep][order], y[keep][order]
    once = np.diff(places, prepend=-np.inf) > 0.0  # a staircase may come to a level twice: its first time counts
    return Line(label, places[once], values[once])
