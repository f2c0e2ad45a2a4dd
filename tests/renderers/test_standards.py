"""Real plug-ins in the three standards that Linux has: the same effect in each of them is the same to the bit."""

from pathlib import Path

import numpy as np
import pytest
import soundfile

from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.plugins.hosting import PluginRun, describe
from kind_echo.renderers.plugins.scanning import digest_of
from tests.renderers.plugins import FETCHED, NOISE, STANDARDS, R, fetched_stems, needs_fetched, run

# Compressors, equalisers, gates and a limiter: what is drawn at random, or done by a thread of its own, is left out.
PURE = ("Comp", "EQ2", "GEQ31", "Gate", "AutoSat", "Phono", "Maxim")


def _pure() -> list[str]:
    return [stem for stem in fetched_stems() if any(word in stem for word in PURE)]


@needs_fetched
def test_there_are_many_in_all_three_standards() -> None:
    assert len(fetched_stems()) >= 12
    assert len(_pure()) >= 8


@needs_fetched
@pytest.mark.parametrize("stem", _pure())
def test_one_effect_is_the_same_in_three_standards(stem: str, tmp_path: Path) -> None:
    sound = tmp_path / "in.wav"
    outs = {}
    for key in STANDARDS:
        path = FETCHED / key / f"{stem}.{key}"
        (about,) = describe(path)
        soundfile.write(sound, NOISE[:, : about.channels[0]], R, subtype="FLOAT")
        out, ran = run(path, sound, PluginRun(about.id, {}, 256))
        # The host library of one of them takes the latency off.
        outs[key] = out if ran.taken_off else out[ran.latency :]
    frames = min(map(len, outs.values()))
    assert np.abs(outs["clap"]).max() > 0.01
    assert np.array_equal(outs["clap"][:frames], outs["vst3"][:frames])
    assert np.array_equal(outs["clap"][:frames], outs["lv2"][:frames])


@needs_fetched
@pytest.mark.parametrize("key", STANDARDS)
def test_values_are_plain_in_every_standard(key: str, tmp_path: Path) -> None:
    """An equaliser's gain of 6 dB is a factor of 10^(6/20), whatever the standard keeps of it."""
    path, sound = FETCHED / "builds" / "lantern" / "1.0.0" / f"lantern.{key}", tmp_path / "in.wav"
    soundfile.write(sound, 0.1 * NOISE[:, :1], R, subtype="FLOAT")
    (about,) = describe(path)
    gain = next(one for one in about.parameters if "Master Gain" in (one.name, one.title))
    assert (gain.least, gain.greatest, gain.default) == (-12.0, 12.0, 0.0)
    out, _ = run(path, sound, PluginRun(about.id, {"Master Gain": 6.0}, 512))
    assert np.allclose(out, 0.1 * NOISE[:, :1] * 10 ** (6 / 20), atol=2e-6)
    with pytest.raises(RenderFailed, match="is from -12 to 12, and not 13"):
        run(path, sound, PluginRun(about.id, {"Master Gain": 13.0}, 512))
    steps, _ = run(path, sound, PluginRun(about.id, {"Master Gain": {"at": [0.0, 0.25], "values": [0.0, -12.0]}}, 100))
    late = round(0.25 * R) + 100  # from the next block on, where a standard or its library has no finer way
    assert np.allclose(steps[: late - 200], 0.1 * NOISE[: late - 200, :1], atol=1e-6)
    assert np.allclose(steps[late:], 0.1 * NOISE[late:, :1] * 10 ** (-12 / 20), atol=1e-6)


@needs_fetched
@pytest.mark.parametrize("key", ["vst3", "lv2"])
def test_a_state_that_was_saved_gives_the_same_again(key: str, tmp_path: Path) -> None:
    path, sound = FETCHED / "builds" / "lantern" / "1.0.0" / f"lantern.{key}", tmp_path / "in.wav"
    soundfile.write(sound, NOISE[:, :1], R, subtype="FLOAT")
    kept = tmp_path / "state"
    values = {"Boost/Cut 1": 9.0, "Frequency 1": 700.0, "Peaks ON": 1.0}
    first, _ = run(path, sound, PluginRun("", values, 256, save=kept))
    plain, _ = run(path, sound, PluginRun("", {}, 256))
    again, _ = run(path, sound, PluginRun("", {}, 256, state=kept))
    assert not np.array_equal(first, plain)
    assert np.array_equal(first, again)
    over, _ = run(path, sound, PluginRun("", {"Boost/Cut 1": 0.0}, 256, state=kept))  # a preset, and a value over it
    assert not np.array_equal(over, first)
    kept.write_bytes(b"no state at all")
    with pytest.raises(RenderFailed, match="refused the state"):
        run(path, sound, PluginRun("", {}, 256, state=kept))


@needs_fetched
def test_a_build_is_named_by_all_its_bytes(tmp_path: Path) -> None:
    for key in STANDARDS:
        path = FETCHED / "builds" / "lantern" / "1.0.0" / f"lantern.{key}"
        assert len(digest_of(path)) == 12
    folder = tmp_path / "a.lv2"
    folder.mkdir()
    (folder / "manifest.ttl").write_text("one")
    before = digest_of(folder)
    (folder / "presets.ttl").write_text("two")
    assert digest_of(folder) != before


@pytest.mark.parametrize(("name", "says"), [
    ("none.lv2", "is no bundle of the LV2 standard that holds a plug-in"),
    ("none.vst3", "holds no plug-in that can be loaded"),
    ("none.dll", "is no plug-in of a standard that is known here, which end with .clap, .vst3, .lv2, .component"),
])  # fmt: skip
def test_what_is_no_plugin_is_said_to_be_none(name: str, says: str, tmp_path: Path) -> None:
    (tmp_path / name).mkdir()
    with pytest.raises(RenderFailed) as failed:
        describe(tmp_path / name)
    assert says in failed.value.reason
