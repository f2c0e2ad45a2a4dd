"""A seeded mutator: files of every format that is read, damaged as accidents and enemies damage them."""

import io
import struct
import zipfile
from collections.abc import Callable, Iterator

import numpy as np
import soundfile

FORMATS = {
    "WAV": ("PCM_16", "PCM_24", "FLOAT", "IMA_ADPCM", "MS_ADPCM", "GSM610"),
    "WAVEX": ("PCM_32",),
    "RF64": ("PCM_24",),
    "W64": ("DOUBLE",),
    "AIFF": ("PCM_16", "FLOAT"),
    "CAF": ("PCM_24", "ALAC_16"),
    "FLAC": ("PCM_16", "PCM_24"),
    "OGG": ("VORBIS", "OPUS"),
    "MP3": ("MPEG_LAYER_III",),
    "MAT4": ("DOUBLE",),
    "MAT5": ("DOUBLE",),
    "XI": ("DPCM_16",),
    "WVE": ("ALAW",),
    **dict.fromkeys(("AU", "VOC", "SVX", "NIST", "PAF", "IRCAM", "PVF", "HTK", "AVR", "MPC2K", "SDS"), ("PCM_16",)),
}
_RATES = {"WVE": 8000, "HTK": 16_000}
_MONO = ("GSM610", "XI", "WVE", "HTK", "SVX", "SDS")


def sound_files() -> dict[str, bytes]:
    """A whole file of each format that this machine's libsndfile writes, by name."""
    made = {}
    for kind, subtype in ((kind, subtype) for kind, subtypes in FORMATS.items() for subtype in subtypes):
        channels = 1 if kind in _MONO or subtype in _MONO else 2
        samples = np.random.default_rng(5).uniform(-0.5, 0.5, (4000, channels))
        file = io.BytesIO()
        try:
            soundfile.write(file, samples, _RATES.get(kind, 48_000), format=kind, subtype=subtype)
        except (soundfile.LibsndfileError, ValueError):
            continue
        made[f"{kind} {subtype}"] = file.getvalue()
    return made


def zip_file(parts: dict[str, bytes]) -> bytes:
    """A ZIP of some files."""
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, part in parts.items():
            archive.writestr(name, part)
    return data.getvalue()


def _flip(data: bytearray, draw: np.random.Generator) -> None:
    for at in draw.integers(0, len(data), draw.integers(1, 20)):
        data[at] ^= 1 << int(draw.integers(0, 8))


def _flip_header(data: bytearray, draw: np.random.Generator) -> None:
    for at in draw.integers(0, min(len(data), 128), draw.integers(1, 8)):
        data[at] = int(draw.integers(0, 256))


def _cut(data: bytearray, draw: np.random.Generator) -> None:
    del data[int(draw.integers(0, len(data))) :]


def _great_number(data: bytearray, draw: np.random.Generator) -> None:
    if len(data) < 8:
        return
    at = int(draw.integers(0, min(len(data) - 8, 200) + 1))
    numbers = (0xFFFFFFFF, 0x7FFFFFFF, 0x80000000, 0, 1, 0xFFFF, 0x10000000)
    struct.pack_into(str(draw.choice(["<I", ">I"])), data, at, int(draw.choice(numbers)))


def _repeat(data: bytearray, draw: np.random.Generator) -> None:
    start = int(draw.integers(0, len(data)))
    piece = data[start : start + int(draw.integers(1, 400))]
    data[start:start] = bytes(piece) * int(draw.integers(1, 30))


def _noise(data: bytearray, draw: np.random.Generator) -> None:
    start = int(draw.integers(0, len(data)))
    piece = draw.bytes(int(draw.integers(1, 300)))
    data[start : start + len(piece)] = piece


_WAYS: tuple[Callable[[bytearray, np.random.Generator], None], ...] = (
    _flip, _flip_header, _flip_header, _cut, _great_number, _great_number, _repeat, _noise,
)  # fmt: skip


def mutated(seed: int, count: int) -> Iterator[tuple[str, bytes]]:
    """So many damaged files, the formats in turn, each damaged in one to three ways; the same for the same seed."""
    whole = sound_files()
    whole["ZIP"] = zip_file(dict(list(whole.items())[:3]))
    names = sorted(whole)
    for number in range(count):
        draw = np.random.default_rng((seed, number))
        name = names[number % len(names)]
        data = bytearray(whole[name])
        for _ in range(int(draw.integers(1, 4))):
            if data:
                _WAYS[int(draw.integers(0, len(_WAYS)))](data, draw)
        yield f"{name} {number}", bytes(data)
