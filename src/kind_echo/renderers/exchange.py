"""Handing audio to another program and taking it back, as files in a folder of their own."""

from collections.abc import Callable
from pathlib import Path

from kind_echo.audio_io.files import AudioFile, UnreadableAudio, write_audio
from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.core.audio.source import Samples
from kind_echo.renderers.contract import RenderFailed
from kind_echo.renderers.process import Finished


def exchange(
    samples: Samples, rate: int, subtype: str, work: Callable[[Path, Path, Path], Finished]
) -> tuple[Samples, Finished]:
    """Write the samples, let `work` (folder, input, output) make the output, and read that.

    Raises:
        RenderFailed: there is no output, it is no audio, or it has another rate or number of channels.
    """
    with temporary_folder() as name:
        folder = Path(name)
        source, target = folder / "input.wav", folder / "output.wav"
        write_audio(source, samples, rate, subtype)
        finished = work(folder, source, target)
        if not target.exists():
            raise RenderFailed("it exited with status 0 but wrote no output", finished.log)
        try:
            with AudioFile(target, "the output") as audio:
                if audio.rate != rate:
                    raise RenderFailed(f"the output has {audio.rate} Hz instead of {rate} Hz", finished.log)
                if audio.channels != samples.shape[1]:
                    raise RenderFailed(
                        f"the output has {audio.channels} channels instead of {samples.shape[1]}", finished.log
                    )
                return audio.read(0, audio.frames), finished
        except UnreadableAudio as error:
            raise RenderFailed(str(error), finished.log) from error
