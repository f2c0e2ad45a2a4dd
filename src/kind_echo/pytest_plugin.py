"""A fixture for pytest: renders are compared with references that lie beside the tests.

    def test_drive(audio):
        audio.matches("drive", my_effect(signal), rate=48_000)

The reference is `audio-references/<module of the test>/drive.wav` beside the test's file. `pytest --audio-approve`
writes it, and writes it anew where a render differs. A render that breaks a limit fails the test with what explains the
difference, and is kept with its reference and their difference in `audio-failures` beside the references.
"""

import os
import re
import shutil
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from kind_echo.library import Limits, Result, Sound

_REFERENCES, _FAILURES = "audio-references", "audio-failures"
_NAME = re.compile(r"[\w\-. ]+(/[\w\-. ]+)*")
_USUAL: "Limits" = {"residual_rms": "<= -120", "non_finite": "<= 0", "length_difference": (0.0, 0.0)}
_IN_CI = ("", "0", "false")


def pytest_addoption(parser: pytest.Parser) -> None:
    """The option that lets renders become references."""
    group = parser.getgroup("kind-echo", "audio that is compared with references")
    group.addoption("--audio-approve", action="store_true", help="Write renders that differ as the new references.")


def pytest_configure(config: pytest.Config) -> None:
    """Approving is for people. Raises UsageError on a build server."""
    if config.getoption("--audio-approve") and os.environ.get("CI", "").lower() not in _IN_CI:
        raise pytest.UsageError("--audio-approve is for people: this is a build server, for CI is set")


@pytest.fixture
def audio(request: pytest.FixtureRequest) -> "Audio":
    """Compares renders with the references of this test's module."""
    return Audio(Path(request.node.path), approves=bool(request.config.getoption("--audio-approve")))


class Audio:
    """The references of a module of tests."""

    def __init__(self, module: Path, *, approves: bool) -> None:
        self._references = module.parent / _REFERENCES / module.stem
        self._failures = module.parent / _FAILURES / module.stem
        self._approves = approves

    def matches(
        self,
        name: str,
        render: "Sound",
        rate: int | None = None,
        *,
        limits: "Limits | None" = None,
        **options: Any,
    ) -> "Result":
        """Compare a render with the reference of that name, and fail the test where a limit is broken.

        Args:
            name: of the reference, without an ending; slashes make folders.
            render: the path of a file, or samples with their rate in Hz.
            limits: by measure, beside no residual over −120 dBFS, no length that differs and no NaN, which hold unless
                they are given otherwise.
            options: of `kind_echo.compare`.
        """
        __tracebackhide__ = True
        from kind_echo.library import compare

        if _NAME.fullmatch(name) is None or ".." in name.split("/"):
            raise ValueError(f"{name!r} is no name of a reference: letters, digits, - _ . and spaces, folders by /")
        reference = self._references / f"{name}.wav"
        if not reference.is_file():
            if not self._approves:
                pytest.fail(f"there is no reference {reference}; --audio-approve writes it", pytrace=False)
            _write(reference, render, rate)
        found = compare(reference, render, rate, limits={**_USUAL, **(limits or {})}, **options)
        if found.passes:
            self._forget(name)
            return found
        if self._approves:
            _write(reference, render, rate)
            return compare(reference, render, rate, limits={**_USUAL, **(limits or {})}, **options)
        kept = self._keep(name, reference, render, rate)
        pytest.fail(f"{name} differs from its reference: {found.explain()}\nkept in {kept}", pytrace=False)

    def _keep(self, name: str, reference: Path, render: "Sound", rate: int | None) -> Path:
        """Keep the two and their difference where they can be listened to."""
        folder = self._failures / name
        folder.mkdir(parents=True, exist_ok=True)
        _write(folder / "render.wav", render, rate)
        shutil.copyfile(reference, folder / "reference.wav")
        _write_difference(folder)
        return folder

    def _forget(self, name: str) -> None:
        shutil.rmtree(self._failures / name, ignore_errors=True)


def _write(path: Path, sound: "Sound", rate: int | None) -> None:
    """A sound as a file of 64-bit floats, which changes no sample; whole or not at all."""
    import soundfile

    from kind_echo.library import opened_sounds

    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_name(f".{path.name}.part")
    try:
        with opened_sounds(rate, sound) as (source,):
            soundfile.write(beside, source.read(0, source.frames), source.rate, subtype="DOUBLE", format="WAV")
        os.replace(beside, path)  # noqa: PTH105 - it says that it replaces
    finally:
        beside.unlink(missing_ok=True)


def _write_difference(folder: Path) -> None:
    import soundfile

    reference, rate = soundfile.read(folder / "reference.wav", always_2d=True)
    render, other = soundfile.read(folder / "render.wav", always_2d=True)
    if rate == other and reference.shape[1] == render.shape[1]:
        frames = min(len(reference), len(render))
        soundfile.write(folder / "difference.wav", render[:frames] - reference[:frames], rate, subtype="DOUBLE")
