"""Own files of the demo: two pairs, and two sets, as people would bring them."""

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

import numpy as np
from scipy import signal as filters
from sqlalchemy.orm import Session

from kind_echo.audio_io.codecs import LossyCodec
from kind_echo.audio_io.files import write_audio
from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.sets import NewFile, SetOptions, add_files, change_options, choose_columns, find_set, new_set
from kind_echo.bench.signals import compare_uploads, keep_upload
from kind_echo.core.audio.source import Samples
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.signals import make_request, synthesise
from kind_echo.database.models import Upload

_RATE = 48_000
_CEILING = 10 ** (-4.0 / 20)  # 3 dB under the peak of the strikes, which is at −1 dBFS


def bring_files(session: Session, now: datetime, who: str, colleague: str) -> None:
    """Two pairs of files: one late and soft, one cut short of its peaks. Two sets of files."""
    bells = synthesise(make_request("bells", level=-3.0, seconds=4.0, seed=3, lead_in=0.2), _RATE)
    organ = synthesise(
        make_request("piece", piece="reed organ", density="dense", level=-20.0, seconds=4.0, channels=2), 44_100
    )
    late = 10 ** (-0.3 / 20) * np.concatenate([np.zeros((37, 1)), bells[:-37]])
    pairs: tuple[tuple[str, Samples, str, Samples, int], ...] = (
        ("bell buoy, master.wav", bells, "bell buoy, through the mixer.wav", late, _RATE),
        ("reed organ, master.wav", organ, "reed organ, clipped.wav", np.clip(organ, -0.2, 0.2), 44_100),
    )
    for first, reference, second, render, rate in pairs:
        uploads = [_upload(session, name, x, rate, who, now) for name, x in ((first, reference), (second, render))]
        compare_uploads(session, uploads[0].id, uploads[1].id, CompareOptions(), now=now)
    _players(session, now, who)
    _three_decibels(session, now, colleague)


def _players(session: Session, now: datetime, who: str) -> None:
    """One sweep through players and steps of quality: where each of them ends."""
    sweep = synthesise(make_request("sweep", level=-6.0, seconds=6.0, lead_in=0.2, tail=0.2), _RATE)

    def walled(hertz: float) -> Samples:
        return np.asarray(filters.fftconvolve(sweep, filters.firwin(2047, hertz, fs=_RATE)[:, None], mode="same"))

    files = {
        "sweep, as it went in.wav": sweep,
        "Dunlin, best.wav": sweep * 10 ** (-0.02 / 20),
        "Dunlin, middle.wav": walled(16_000.0),
        "Dunlin, low.wav": walled(15_000.0),
        "Causeway, exported as MP3 128.wav": LossyCodec("mp3", 128.0, _RATE, 1).round_trip(sweep)[: len(sweep)],
        "Estuary, Ogg 96.wav": LossyCodec("vorbis", 96.0, _RATE, 1).round_trip(sweep)[: len(sweep)],
    }
    found = _bring_set(session, "Players and quality steps", "Where does each of them end?", files, who, now)
    made = find_set(session, found)
    change_options(session, made, SetOptions(), {made.files[0].id: "input"})
    choose_columns(made, ["gain_1k", "edge_high", "wall_frequency", "ripple", "true_peak"], {})


def _three_decibels(session: Session, now: datetime, who: str) -> None:
    """Four ways of taking 3 dB off one peak: what each of them changes under the ceiling."""
    strikes = synthesise(make_request("bells", level=-1.0, seconds=3.0, seed=12, lead_in=0.2), _RATE)
    over = np.abs(strikes) > _CEILING
    near = filters.fftconvolve(over.astype(float), filters.windows.hann(960)[:, None], mode="same")
    dip = np.minimum(1.0, _CEILING / np.maximum(np.abs(strikes).max(), 1e-9)) ** np.clip(near, 0.0, 1.0)
    files = {
        "strikes.wav": strikes,
        "turned down.wav": strikes * 10 ** (-3 / 20),
        "cut off.wav": np.clip(strikes, -_CEILING, _CEILING),
        "bent.wav": _CEILING * np.tanh(strikes / _CEILING),
        "held down around the peak.wav": strikes * dip,
    }
    number = _bring_set(session, "3 dB off one peak", "What does each way change under −4 dBFS?", files, who, now)
    made = find_set(session, number)
    change_options(session, made, SetOptions(CompareOptions(ceiling=-4.0)), {made.files[0].id: "reference"})
    columns = ["sample_peak", "changed_samples", "changed_below", "residual_rms", "loudness_integrated"]
    choose_columns(made, columns, {"changed_below": {"at_least": None, "at_most": 0.0}})


def _bring_set(session: Session, name: str, note: str, files: Mapping[str, Samples], who: str, now: datetime) -> int:
    made = new_set(session, name, SetOptions(), who=who, now=now)
    made.note = note
    uploads = [_upload(session, file, samples, _RATE, who, now) for file, samples in files.items()]
    add_files(session, made, [NewFile(upload.id) for upload in uploads])
    return made.id


def _upload(session: Session, name: str, samples: Samples, rate: int, who: str, now: datetime) -> Upload:
    with temporary_folder() as folder:
        path = Path(folder) / "file.wav"
        write_audio(path, samples, rate, "PCM_24")
        return keep_upload(session, path, name, who=who, now=now)
