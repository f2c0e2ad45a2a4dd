"""Audio by range: waveforms, spectra and samples of any address."""

from contextlib import nullcontext
from pathlib import Path
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.audio import (
    BAND_STEPS,
    draw,
    map_levels,
    open_address,
    read_samples,
    show_bands,
    show_needles,
    write_file,
)
from kind_echo.bench.comparisons import spectrum_document
from kind_echo.core.audio.source import Samples
from kind_echo.database.sessions import transaction
from kind_echo.web.audio.views import level_map_body, needles_body, running_bands_body
from kind_echo.web.http.addresses import AudioFileQuery, AudioPath, MapQuery, PartQuery, RangeQuery, StripQuery
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import sent_and_gone
from kind_echo.web.http.pair_schemas import LevelMapBody, NeedlesBody, RunningBandsBody, SpectrumBody, StripBody

api = APIBlueprint("audio", __name__, url_prefix="/api/audio")

_MAPPING = BoundedSemaphore(2)  # a whole map takes a core for a moment: quick ones are to have their turn
_WRITING = BoundedSemaphore(2)  # a file of hours takes the disk and a core
_FOREVER = "private, max-age=31536000, immutable"  # an address names its content, so an answer never changes


@api.get("/<string:address>/waveform", responses={200: StripBody})
def waveform(path: AudioPath, query: StripQuery) -> Response:
    """A stretch for drawing: extremes of columns, or, close up, samples and the band-limited curve through them."""
    with transaction() as session:
        strip = draw(session, path.address, query.start, query.stop, query.columns)
    body = StripBody(
        start=query.start,
        stop=query.stop,
        low=strip.columns[..., 0].T.tolist(),
        high=strip.columns[..., 1].T.tolist(),
        samples=_by_channel(strip.samples),
        curve=_by_channel(strip.curve),
        curve_points=strip.points,
    )
    return _kept(answer(body))


@api.get("/<string:address>/spectrum", responses={200: SpectrumBody})
def spectrum(path: AudioPath, query: RangeQuery) -> Response:
    """The spectrum of a stretch."""
    with transaction() as session:
        source = open_address(session, path.address).source
        stop = min(query.stop, source.frames)
        start = min(query.start, max(0, stop - 16))
        return _kept(answer(SpectrumBody.model_validate(spectrum_document(source, start, stop))))


@api.get("/<string:address>/map", responses={200: LevelMapBody})
def level_map(path: AudioPath, query: MapQuery) -> Response:
    """The level map of a stretch: every frame is looked at, or, of a quick map, some of each column."""
    with _MAPPING if not query.quick else nullcontext(), transaction() as session:
        size = query.columns, query.rows
        found = map_levels(session, path.address, (query.start, query.stop), size, even=query.even, quick=query.quick)
    return _kept(answer(level_map_body(found)))


@api.get("/<string:address>/needles", responses={200: NeedlesBody})
def needles(path: AudioPath) -> Response:
    """What needles show along all of it: loudness, a needle, and peaks with their hold."""
    with _MAPPING, transaction() as session:
        return _kept(answer(needles_body(show_needles(session, path.address))))


@api.get("/<string:address>/bands", responses={200: RunningBandsBody})
def bands(path: AudioPath, query: PartQuery) -> Response:
    """The spectrum of the last tenth of a second along a minute of it, in third octaves."""
    with _MAPPING, transaction() as session:
        return _kept(answer(running_bands_body(show_bands(session, path.address, query.part), query.part * BAND_STEPS)))


@api.get("/<string:address>/samples")
def samples(path: AudioPath, query: RangeQuery) -> Response:
    """Samples for playing: 32 bit float, little-endian, channels interleaved."""
    with transaction() as session:
        data = read_samples(session, path.address, query.start, query.stop).astype("<f4").tobytes()
    return _kept(Response(data, content_type="application/octet-stream"))


@api.get("/<string:address>/file")
def file(path: AudioPath, query: AudioFileQuery) -> Response:
    """All of it as a file, every sample as it is kept: in the words of a file, or 64 bit float of what is computed."""
    with _WRITING, temporary_folder() as folder, transaction() as session:
        target = Path(folder) / f"audio.{query.form}"
        write_file(session, path.address, target)
        return sent_and_gone(target, f"audio/{query.form}", f"{query.name}.{query.form}")


def _by_channel(values: Samples) -> list[list[float]]:
    channels: list[list[float]] = values.astype("f4").T.tolist()
    return channels


def _kept(response: Response) -> Response:
    response.headers["Cache-Control"] = _FOREVER
    return response
