"""Real sounds of Debian's packages, which nobody here made: music, voices, instruments, signals of a desktop.

Installed by `ops/bootstrap.sh dev`, never committed. Licences, as the packages' copyright files state them: alsa-utils
GPL-2 (voice), frozen-bubble-data GPL-2 (music), extremetuxracer-data GPL-2 (music), oxygen-sounds CC-BY-SA-3.0 and
LGPL (desktop), sound-theme-freedesktop CC-BY-SA-3.0, CC-BY-3.0 and GPL-2 (desktop), timgm6mb-soundfont GPL-2
(instruments).
"""

import struct
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

Samples = NDArray[np.float64]

SHARED = Path("/usr/share")
RATES = (44_100, 48_000, 96_000)
_MOST_SECONDS = 8.0
_INSTRUMENTS = SHARED / "sounds/sf2/TimGM6mb.sf2"


@dataclass(frozen=True)
class Piece:
    """A sound: a name, its file, where in the file it begins in seconds; or a sample of an instrument by its name."""

    name: str
    file: Path
    start: float = 0.0
    instrument: str = ""


PIECES = (
    Piece("arcade music", SHARED / "games/frozen-bubble/snd/frozen-mainzik-1p.ogg", 20.0),
    Piece("intro music", SHARED / "games/frozen-bubble/snd/introzik.ogg", 12.0),
    Piece("calm music", SHARED / "games/etr/music/calmrace-ks.ogg", 15.0),
    Piece("title music", SHARED / "games/etr/music/start1-jt.ogg", 10.0),
    Piece("woman's voice", SHARED / "sounds/alsa/Front_Center.wav"),
    Piece("applause", SHARED / "games/frozen-bubble/snd/applause.ogg"),
    Piece("sign-in chime", SHARED / "sounds/Oxygen-Sys-Log-In-Long.ogg"),
    Piece("telephone", SHARED / "sounds/freedesktop/stereo/phone-incoming-call.oga"),
    Piece("alarm clock", SHARED / "sounds/freedesktop/stereo/alarm-clock-elapsed.oga"),
    Piece("piano", _INSTRUMENTS, instrument="piano"),
    Piece("guitar", _INSTRUMENTS, instrument="n guitar"),
    Piece("oboe", _INSTRUMENTS, instrument="oboe"),
)


@cache
def load(piece: Piece, rate: int) -> Samples:
    """Up to 8 s of a piece at a rate, two channels, its peak at −3 dBFS; shape (frames, channels)."""
    if piece.instrument:
        samples, own = _instrument(piece)
    else:
        samples, own = soundfile.read(piece.file, always_2d=True)
    samples = samples[round(piece.start * own) :][: round(_MOST_SECONDS * own)]
    samples = samples if own == rate else soxr.resample(samples, own, rate, "VHQ")
    if samples.shape[1] == 1 or np.array_equal(samples[:, 0], samples[:, 1]):
        samples = samples[:, :1]
        # A second channel that is not the first: the same sound a little later and darker, as a room gives it.
        late = np.concatenate([np.zeros((round(0.0013 * rate), 1)), samples])[: len(samples)]
        samples = np.hstack([samples, 0.6 * late + 0.3 * np.roll(samples, 1, axis=0)])
    return np.ascontiguousarray(samples[:, :2] * 10 ** (-3 / 20) / np.abs(samples).max())


def _instrument(piece: Piece) -> tuple[Samples, int]:
    """Notes of an instrument from a bank in the open SF2 format, one after the other as a player would strike them."""
    data = piece.file.read_bytes()
    at = data.index(b"smpl") + 4
    pcm = np.frombuffer(data, "<i2", struct.unpack_from("<I", data, at)[0] // 2, at + 4) / 32768.0
    at = data.index(b"shdr") + 4
    notes = []
    for place in range(at + 4, at + 4 + struct.unpack_from("<I", data, at)[0], 46):
        name, start, stop, _, _, rate = struct.unpack_from("<20sIIIII", data, place)
        text = name.split(b"\0")[0].decode("latin-1").lower()
        if piece.instrument in text and stop - start > 2000 and rate:
            notes.append(soxr.resample(pcm[start:stop], rate, 44_100, "HQ"))
    struck = np.zeros(round(_MOST_SECONDS * 44_100))
    for i in range(24):
        note, begin = notes[(5 * i + i * i) % len(notes)], round(i * 0.31 * 44_100)
        length = min(len(note), len(struck) - begin)
        struck[begin : begin + length] += note[:length] * np.exp(-np.arange(length) / 22_000)
    return struck[:, None], 44_100
