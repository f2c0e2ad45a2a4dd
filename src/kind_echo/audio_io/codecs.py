"""Real lossy encoders, through libsndfile: there and back in memory."""

import io
from typing import Literal, get_args

import numpy as np
import soundfile

from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.errors import BadParameter

Codec = Literal["mp3", "vorbis", "opus"]
CODECS: tuple[Codec, ...] = get_args(Codec)

_FORMATS = {"mp3": ("MP3", "MPEG_LAYER_III"), "vorbis": ("OGG", "VORBIS"), "opus": ("OGG", "OPUS")}
_RATES = {
    "mp3": (8000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000),
    "opus": (8000, 12_000, 16_000, 24_000, 48_000),
}
_MOST_CHANNELS: dict[Codec, int] = {"mp3": 2}
_MP3_RANGES = ((32_000, 32, 320), (16_000, 8, 160), (0, 8, 64))  # from this rate up: kbit/s, least and greatest
_VORBIS_MOST_RATE = 192_000  # its encoder crashes on more
_PIECE = 1 << 16
_TRIAL_SECONDS = 10


class LossyCodec:
    """One encoder at a bit rate, for files of one rate and number of channels.

    Attributes:
        rate: at which it works: that of the files where it takes it.
    Raises:
        BadParameter: the codec does not take that number of channels or bit rate.
    """

    def __init__(self, codec: Codec, kilobits: float, rate: int, channels: int) -> None:
        self._format, self._subtype = _FORMATS[codec]
        self.rate, self._channels = working_rate(codec, rate), channels
        if channels > _MOST_CHANNELS.get(codec, channels):
            more = f"one that takes more than {_MOST_CHANNELS[codec]} channels: vorbis or opus"
            raise BadParameter("codec", codec, more)
        low, high = bitrates(codec, self.rate, channels)
        if not low <= kilobits <= high:
            raise BadParameter("bitrate", kilobits, f"from {low:g} to {high:g} kbit/s for {codec} at this rate")
        self._wanted = kilobits
        self._level: float | None = None  # of Vorbis it is sought when there is something to encode
        if codec != "vorbis":
            self._level = float(np.clip((high - kilobits) / (high - low), 0.0, 0.999))

    def round_trip(self, samples: Samples) -> Samples:
        """Encode and decode; whatever the decoder adds at either end is kept.

        Raises:
            BadParameter: so short a sound gives a file that no decoder reads.
        """
        if self._level is None:
            self._level = self._quality_for(samples[: _TRIAL_SECONDS * self.rate])
        file = io.BytesIO(self._encoded(samples, self._level))
        try:
            decoded: Samples = soundfile.read(file, dtype="float64", always_2d=True)[0]
        except soundfile.LibsndfileError as error:
            allowed = f"longer: {self._format} of so few frames cannot be decoded"
            raise BadParameter("length", f"{len(samples)} frames", allowed) from error
        return decoded

    def _encoded(self, samples: Samples, level: float) -> bytes:
        file = io.BytesIO()
        mode = {"bitrate_mode": "CONSTANT"} if self._format == "MP3" else {}
        with soundfile.SoundFile(
            file, "w", self.rate, self._channels, self._subtype, format=self._format, compression_level=level, **mode
        ) as out:
            # In pieces: some versions of the Vorbis encoder overflow their stack on long writes.
            for start in range(0, len(samples), _PIECE):
                out.write(np.ascontiguousarray(samples[start : start + _PIECE]))
        return file.getvalue()

    def _quality_for(self, samples: Samples) -> float:
        """Quality at which this material comes nearest to the bit rate; Vorbis has no constant one."""
        low, high = 0.0, 1.0
        for _ in range(6):
            middle = (low + high) / 2
            kilobits = len(self._encoded(samples, middle)) * 8 / 1000 / (len(samples) / self.rate)
            low, high = (middle, high) if kilobits > self._wanted else (low, middle)
        return (low + high) / 2


def working_rate(codec: Codec, rate: int) -> int:
    """The rate at which a codec encodes a file: its own, the next above, or of those below one that divides it."""
    rates = _RATES.get(codec)
    if rates is None:
        return min(rate, _VORBIS_MOST_RATE)
    if rate <= rates[-1]:
        return next(one for one in rates if one >= rate)
    return next((one for one in reversed(rates) if rate % one == 0 and 2 * one >= rates[-1]), rates[-1])


def bitrates(codec: Codec, rate: int, channels: int) -> tuple[float, float]:
    """Least and greatest bit rate of a codec at a rate that it has, in kbit/s for all channels together."""
    if codec == "vorbis":
        return 16.0, 1000.0
    if codec == "opus":
        return 6.0 * channels, 256.0 * channels
    return next((low, high) for least, low, high in _MP3_RANGES if rate >= least)


def usual_codec(rate: int, channels: int) -> LossyCodec:
    """MP3, or Vorbis where there are more channels than it has; at 128 kbit/s a channel, or the most that it takes."""
    codec: Codec = "mp3" if channels <= _MOST_CHANNELS["mp3"] else "vorbis"
    _, most = bitrates(codec, working_rate(codec, rate), channels)
    return LossyCodec(codec, min(128.0 * channels, most), rate, channels)
