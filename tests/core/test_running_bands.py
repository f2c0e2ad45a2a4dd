"""The spectrum of the last tenth of a second: tones in their bands, and the whole against the level of a window."""

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.audio.third_octaves import band_centres, band_powers
from kind_echo.core.levels.needles import FLOOR
from kind_echo.core.levels.running_bands import running_bands


@pytest.mark.parametrize("rate", [8000, 44_100, 96_000])
def test_a_tone_stands_in_its_own_band_while_it_sounds(rate: int) -> None:
    """997 Hz at −20 dBFS from 1 to 2 s: AES17 reads −20 in the band of 1 kHz, and nothing outside that second."""
    samples = 0.1 * np.sin(2 * np.pi * 997.0 * np.arange(3 * rate) / rate)[:, None]
    samples[:rate] = samples[2 * rate :] = 0.0
    found = running_bands(ArraySource(np.repeat(samples, 2, axis=1), rate), 0, 1000)
    assert found.levels.shape == (30, len(found.frequencies))
    assert (found.frequencies[0], found.frequencies[-1] * 10**0.05 <= rate / 2) == (pytest.approx(50.1, abs=0.1), True)
    band = int(np.argmin(np.abs(found.frequencies - 1000.0)))
    assert found.levels[10:20, band] == pytest.approx(-20.0, abs=0.05)
    assert (found.levels[10:20].argmax(axis=1) == band).all()
    assert (found.levels[:10] == FLOOR).all()
    assert (found.levels[20:] == FLOOR).all()
    later = running_bands(ArraySource(samples, rate), 12, 3)
    assert later.levels == pytest.approx(found.levels[12:15])
    assert running_bands(ArraySource(samples, rate), 30, 5).levels.shape[0] == 0


def test_the_bands_of_a_spectrum_add_up_to_its_power() -> None:
    """By another way: the sum of all lines between the outer edges, where they fall between lines."""
    rate, size = 48_000, 4800
    power = np.random.default_rng(2).uniform(0.0, 1.0, (3, size // 2 + 1))
    centres = band_centres(rate, -13)
    edges = (centres[0] * 10**-0.05, centres[-1] * 10**0.05)
    fine = (np.arange((size // 2 + 1) * 1000) + 0.5) / 1000 - 0.5  # each line in a thousand parts
    inside = (fine * rate / size >= edges[0]) & (fine * rate / size < edges[1])
    wanted = np.array([np.repeat(one, 1000)[inside].sum() / 1000 for one in power])
    assert band_powers(power, centres, rate, size).sum(axis=-1) == pytest.approx(wanted, rel=1e-5)


def test_what_is_not_finite_counts_as_silence_and_a_short_end_is_read() -> None:
    samples = np.full((5000, 1), np.nan)
    assert (running_bands(ArraySource(samples, 48_000), 0, 9).levels == FLOOR).all()
    assert running_bands(ArraySource(np.ones((1, 1)), 48_000), 0, 9).levels.shape[0] == 1
