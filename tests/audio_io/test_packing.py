"""Packed audio is the audio that was packed, to the bit, of any word length, and mostly smaller."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.audio_io.encoding import ENCODINGS, decode, encode
from kind_echo.audio_io.packing import DamagedAudio, pack, unpack, unpack_samples, unpack_single


@given(st.sampled_from(sorted(ENCODINGS)), st.integers(1, 9), st.integers(0, 300), st.integers(0, 2**32))
def test_any_bytes_come_back_as_they_were(name: str, channels: int, frames: int, seed: int) -> None:
    # Any bits at all: in floats also NaN with a payload, infinities and the smallest numbers.
    encoding = ENCODINGS[name]
    data = np.random.default_rng(seed).bytes(frames * channels * encoding.width)
    packing, packed = pack(data, encoding, channels)
    assert unpack(packing, packed, encoding, channels) == data
    with np.errstate(invalid="ignore"):  # of a NaN that signals
        double = decode(data, encoding, channels)
        np.testing.assert_array_equal(unpack_samples(packing, packed, encoding, channels), double)
        if encoding.is_single:
            single = unpack_single(packing, packed, encoding, channels)
            np.testing.assert_array_equal(single.astype(np.float64), double)
    assert len(packed) <= len(data)


@pytest.mark.parametrize(("name", "most"), [("PCM_16", 0.75), ("PCM_24", 0.75), ("FLOAT", 0.85), ("DOUBLE", 0.85)])
def test_music_takes_less_space(name: str, most: float) -> None:
    # A decaying chord with noise 60 dB under it: plainly synthetic, hence bounds that real music keeps as well.
    rng, t = np.random.default_rng(1), np.arange(48_000) / 48_000
    chord = sum(np.sin(2 * np.pi * f * t + p) for p, f in enumerate((220.0, 277.2, 329.6))) * np.exp(-2 * t) / 6
    samples = np.stack([chord, 0.5 * chord], axis=1) + 5e-4 * rng.standard_normal((48_000, 2))
    data = encode(samples.astype(np.float32).astype(float), ENCODINGS[name])
    packing, packed = pack(data, ENCODINGS[name], 2)
    assert packing == ("flac" if name.startswith("PCM") else "zstd")
    assert len(packed) < most * len(data)


@pytest.mark.parametrize("name", ["PCM_24", "FLOAT"])
def test_damage_is_noticed(name: str) -> None:
    data = encode(np.sin(np.arange(9_000) / 20).reshape(-1, 1), ENCODINGS[name])
    packing, packed = pack(data, ENCODINGS[name], 1)
    with pytest.raises(DamagedAudio):
        unpack(packing, packed[: len(packed) // 8], ENCODINGS[name], 1)
    with pytest.raises(DamagedAudio):
        unpack_samples(packing, packed[: len(packed) // 8], ENCODINGS[name], 1)
