"""Lines over each other, in words: what is drawn, of how many, and which of them lies farthest from the reference."""

from collections.abc import Mapping
from dataclasses import dataclass

from kind_echo.core.overlays.kinds import Kind, KindKey
from kind_echo.core.overlays.overlay import Overlay
from kind_echo.core.registry.numbers import number
from kind_echo.wording.figures import counted


@dataclass(frozen=True)
class KindWords:
    """A kind as it is called, and what stands along its axes."""

    title: str
    x: str
    y: str


KIND_WORDS: Mapping[KindKey, KindWords] = {
    "response": KindWords("Responses", "Hz", "output over input, dB"),
    "transfer": KindWords("Transfer curves", "in, dBFS", "out, dBFS"),
    "gain": KindWords("Gain over time", "s", "dB"),
    "harmonics": KindWords("Harmonics by order", "order", "re the fundamental, dB"),
    "spectrum": KindWords("Spectra", "Hz", "dBFS"),
    "third_octaves": KindWords("Third octaves", "Hz", "dBFS (AES17)"),
    "loudness": KindWords("Loudness over time", "s", "momentary, LUFS"),
    "level": KindWords("Peak level over time", "s", "dBFS"),
    "waveform": KindWords("Waveforms", "s", "FS"),
}


def overlay_sentence(overlay: Overlay, what: str, shared: str) -> str:
    """As "Spectra of 4 files (Players) against plain.wav: warm.wav lies farthest from it, +3.20 dB at 120 Hz."

    Args:
        what: one of the lines, as "file".
        shared: what they have in common; empty for nothing.
    """
    held = overlay.reference is not None and overlay.kind.has_differences and len(overlay.lines) > 1
    said = f"{KIND_WORDS[overlay.kind.key].title} of {counted(len(overlay.lines) - held, what)}"
    if shared:
        said += f" ({shared})"
    if not held or overlay.reference is None:
        return f"{said}."
    finding = farthest_text(overlay)
    return f"{said} against {overlay.lines[overlay.reference].label}{f': {finding}' if finding else '.'}"


def farthest_text(overlay: Overlay) -> str:
    """Which line lies farthest from the reference, where and by how much; empty where nothing is held against it."""
    farthest = overlay.farthest()
    if farthest is None:
        return ""
    i, place, by = farthest
    if abs(by) < _EQUAL:
        return f"None differs by {_EQUAL:g} {overlay.kind.difference_unit} or more."
    far = f"{number(by, '+.2f')} {overlay.kind.difference_unit} {place_text(overlay.kind, place)}"
    return f"{overlay.lines[i].label} lies farthest from it, {far}."


def place_text(kind: Kind, place: float) -> str:
    """A place on the axis of a kind: "at 1.25 kHz"."""
    match kind.x_unit:
        case "Hz":
            return f"at {place / 1000:.3g} kHz" if place >= 1000.0 else f"at {place:.3g} Hz"
        case "s":
            return f"at {place:.2f} s"
        case "dBFS":
            return f"at {number(place, '.1f')} dBFS in"
        case _:
            return f"at order {place:.0f}"


_EQUAL = 0.01
"""Of the unit: lines that are nearer everywhere are drawn as one."""
