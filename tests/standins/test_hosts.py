"""Simulated hosts feed in blocks, take the claimed latency off, and do what their habits say, where these say so."""

import numpy as np
import pytest
from scipy import signal

from kind_echo.core.audio.source import Samples
from kind_echo.renderers.contract import RenderFailed, RenderRequest
from kind_echo.renderers.stand_in import StandInRenderer
from kind_echo.standins.effects import Values
from kind_echo.standins.hosts import HOSTS, NoSuchHost, find_host, run_through
from kind_echo.standins.stages import Job


class _Delay:
    """An effect that delays by what it claims, and remembers the blocks it got."""

    def __init__(self, latency: int, channels: int = 1) -> None:
        self.claimed_latency = latency
        self.blocks: list[int] = []
        self._kept = np.zeros((latency, channels))

    def process(self, block: Samples) -> Samples:
        self.blocks.append(len(block))
        joined = np.concatenate([self._kept, block])
        self._kept = joined[len(block) :]
        return joined[: len(block)]


def _through(
    name: str, version: str, samples: Samples, rate: int = 48_000, mode: str = "offline", *,
    effect: _Delay | None = None, block: int = 512, values: Values | None = None, named: str = "",
) -> Samples:  # fmt: skip
    host = find_host(name, version, mode)
    job = Job(named, values or {}, rate, mode, block, samples.shape[1])
    out, claimed = run_through(host, lambda _: effect or _Delay(0, samples.shape[1]), job, samples)
    assert claimed == (effect.claimed_latency if effect else 0)
    assert out.shape == samples.shape
    return out


@pytest.mark.parametrize("latency", [0, 1, 96, 700])
@pytest.mark.parametrize("block", [1, 64, 512])
def test_claimed_latency_is_taken_off(latency: int, block: int) -> None:
    noise = np.random.default_rng(1).uniform(-1, 1, (1000, 1))
    effect = _Delay(latency)
    assert np.array_equal(_through("Almanac", "7", noise, effect=effect, block=block), noise)
    assert max(effect.blocks) <= block
    assert sum(effect.blocks) == 1000 + latency


@pytest.mark.parametrize(("rate", "silent"), [(44_100, True), (48_000, True), (96_000, False)])
def test_bittern_5_loses_the_first_third_of_a_second_at_two_rates(rate: int, silent: bool) -> None:
    lost = int((_through("Bittern", "5", np.ones((rate, 1)), rate)[:, 0] == 0).sum())
    assert lost == (round(rate / 3) if silent else 0)


def test_bittern_6_has_mended_that_and_writes_24_bits() -> None:
    noise = np.random.default_rng(1).uniform(-1, 1, (1000, 1))
    steps = _through("Bittern", "6", noise) * 2**23
    assert np.array_equal(steps, np.round(steps))
    assert np.abs(steps - noise * 2**23).max() <= 0.5


def test_causeway_feeds_blocks_of_changing_length_and_its_monitor_path_is_late() -> None:
    noise = np.random.default_rng(1).uniform(-1, 1, (4800, 1))
    effect = _Delay(10)
    assert np.array_equal(_through("Causeway", "11", noise, effect=effect), noise)
    assert len(set(effect.blocks)) >= 4
    late = _through("Causeway", "11", noise, mode="real time")
    assert np.array_equal(late[240:], noise[:-240])  # 5 ms at 48 kHz
    later = _through("Causeway", "12", noise, mode="real time", effect=_Delay(10))
    assert np.array_equal(later[433:], noise[:-433])  # 9 ms, and one frame too few taken off


def test_dunlin_3_walls_off_halves_one_channel_and_starts_late() -> None:
    time = np.arange(48_000) / 48_000
    low, high = (0.5 * np.sin(2 * np.pi * f * time)[:, None] for f in (1000, 17_000))
    settled = slice(24_000, 40_000)
    out = _through("Dunlin", "3", low, mode="real time")
    assert 20 * np.log10(np.std(out[settled]) / np.std(low[settled])) == pytest.approx(-3.01, abs=0.01)
    assert np.std(_through("Dunlin", "3", high, mode="real time")[settled]) < 1e-4
    two = np.repeat(low, 2, axis=1)
    assert np.std(_through("Dunlin", "3", two, mode="real time")[settled]) == pytest.approx(np.std(low), rel=1e-3)
    clicks = np.zeros((48_000, 1))
    clicks[[4800, 36_000]] = 0.5
    came = np.abs(_through("Dunlin", "3", clicks, mode="real time")[:, 0])
    assert [int(np.argmax(came[:19_200])), 30_000 + int(np.argmax(came[30_000:]))] == [4813, 36_000]
    late = _through("Dunlin", "3", clicks, mode="real time", effect=_Delay(100))
    assert 30_000 + int(np.argmax(np.abs(late[30_000:, 0]))) == 36_100


def test_dunlin_4_cuts_off_on_import_at_another_rate_and_dithers_to_16_bits() -> None:
    time = np.arange(44_100) / 44_100
    loud = 1.3 * np.sin(2 * np.pi * 400 * time)[:, None]
    assert np.abs(_through("Dunlin", "4", loud, 44_100, "real time")).max() <= 1.0
    silence = _through("Dunlin", "4", np.zeros((48_000, 1)), mode="real time")
    assert set(np.unique(silence * 2**15)) == {-1.0, 0.0, 1.0}
    quiet = 0.1 * np.sin(2 * np.pi * 400 * time)[:, None]
    back = _through("Dunlin", "4", quiet, 44_100, "real time")
    frequency, density = signal.periodogram((back - quiet)[4410:-4410, 0], 44_100)
    assert 10 * np.log10(density[frequency < 15_000].sum() * frequency[1]) < -90


def test_estuary_3_is_silent_with_one_effect_alone() -> None:
    noise = np.random.default_rng(1).uniform(-1, 1, (1000, 1))
    assert not _through("Estuary", "3", noise, named="Fogbank").any()
    assert np.array_equal(_through("Estuary", "3", noise, named="Weir"), noise)
    assert np.array_equal(_through("Estuary", "2", noise, named="Fogbank"), noise)


def test_almanac_8_oversamples_less_in_real_time() -> None:
    noise = np.random.default_rng(2).uniform(-1, 1, (4800, 1))
    values: Values = {"shape": "hard", "ceiling": -6.0, "oversampling": 8}
    renders = {}
    for version in ("7", "8"):
        for mode in ("real time", "offline"):
            request = RenderRequest("Skerry", "2.0.3", values, "Almanac", version, mode, 48_000, 128, noise)
            renders[version, mode] = StandInRenderer().render(request)
    assert np.array_equal(renders["7", "real time"].samples, renders["7", "offline"].samples)
    assert not np.array_equal(renders["8", "real time"].samples, renders["8", "offline"].samples)
    assert renders["8", "real time"].claimed_latency == 0


def test_every_host_can_be_found_by_name_version_and_mode() -> None:
    for host in HOSTS:
        for mode in host.modes:
            assert find_host(host.name, host.version, mode) is host
    with pytest.raises(NoSuchHost, match="no stand-in host Estuary 2 that renders in the mode real time"):
        find_host("Estuary", "2", "real time")


def test_a_renderer_starts_afresh_each_time_and_names_what_it_lacks() -> None:
    noise = np.random.default_rng(2).uniform(-1, 1, (4800, 1))
    values: Values = {"shape": "soft", "ceiling": -3.0, "drive": 6.0, "oversampling": 4}
    request = RenderRequest("Skerry", "2.0.3", values, "Almanac", "7", "real time", 48_000, 128, noise)
    renderer = StandInRenderer()
    first, second = renderer.render(request), renderer.render(request)
    assert np.array_equal(first.samples, second.samples)
    assert first.claimed_latency == 96
    unknown = RenderRequest("Nothing", "1", {}, "Almanac", "7", "offline", 48_000, 128, noise)
    with pytest.raises(RenderFailed, match="no stand-in effect named Nothing"):
        renderer.render(unknown)
