"""The library of signals: kinds, what is kept, previews, and files."""

import re
from pathlib import Path
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.audio import BAND_STEPS
from kind_echo.bench.comparisons import spectrum_document
from kind_echo.bench.signals import (
    FORMATS,
    RATES,
    WORD_LENGTHS,
    Signal,
    aliases_of,
    all_signals,
    export,
    keep_own_file,
    keep_signal,
    preview,
    seconds_of,
    shown,
    sounding,
)
from kind_echo.core.audio.peaks import columns_from_samples
from kind_echo.core.audio.source import ArraySource
from kind_echo.core.levels.needles import needles_of
from kind_echo.core.levels.running_bands import running_bands
from kind_echo.core.signals import SignalRequest, all_kinds, every_parameter
from kind_echo.database.sessions import transaction
from kind_echo.web.audio.views import level_map_body, needles_body, running_bands_body
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import sent_and_gone, with_body
from kind_echo.web.http.pair_schemas import NeedlesBody, RunningBandsBody, SpectrumBody, StripBody
from kind_echo.web.runs.views import reading_bodies
from kind_echo.web.security.doors import caller
from kind_echo.web.signals.schemas import (
    AliasBody,
    ExportQuery,
    NewSignalBody,
    OwnFileQuery,
    PreviewBody,
    PreviewQuery,
    RateAliasesBody,
    SignalBody,
    SignalKindBody,
    SignalKindsBody,
    SignalParameterBody,
    SignalPartQuery,
    SignalsBody,
)

api = APIBlueprint("signals", __name__, url_prefix="/api")

_MAKING = BoundedSemaphore(2)  # a signal may have 30 million samples, and there are more threads than memory for that
_LISTED_AT = 48_000  # Hz; the rate for which lengths are told in the list


@api.get("/signals/kinds", responses={200: SignalKindsBody})
def signal_kinds() -> Response:
    """What can be asked of the generator."""
    body = SignalKindsBody(
        kinds=[_kind_body(kind) for kind in all_kinds().values()],
        rates=list(RATES),
        word_lengths=list(WORD_LENGTHS),
        formats=list(FORMATS),
    )
    return answer(body)


@api.get("/signals", responses={200: SignalsBody})
def signals() -> Response:
    """All signals that are kept."""
    with transaction() as session:
        return answer(SignalsBody(signals=[_body(session, signal, used) for signal, used in all_signals(session)]))


@api.post("/signals", responses={201: SignalBody})
def new_signal(body: NewSignalBody) -> Response:
    """Keep a signal under a name."""
    with transaction() as session:
        return answer(_body(session, keep_signal(session, body.name, dict(body.request)), 0), 201)


@api.post("/signals/file", responses={201: SignalBody})
def new_own_file(query: OwnFileQuery) -> Response:
    """Keep a person's own file as a signal; the request's body is the file."""

    def keep(path: Path) -> Response:
        with transaction() as session:
            return answer(
                _body(session, keep_own_file(session, path, query.file, query.name, who=caller().name), 0), 201
            )

    return with_body(query.file, keep)


@api.get("/signals/preview", responses={200: PreviewBody})
def preview_signal(query: PreviewQuery) -> Response:
    """A signal as it will be rendered, before it is kept."""
    with _MAKING, transaction() as session:
        stimulus = query.stimulus
        found = preview(session, stimulus, query.rate)
    frames, channels = found.samples.shape
    columns = columns_from_samples(found.samples, min(query.columns, frames))
    body = PreviewBody(
        rate=query.rate,
        channels=channels,
        frames=frames,
        played=found.played,
        readings=reading_bodies(found.readings, {}),
        strip=StripBody(
            start=0,
            stop=frames,
            low=columns[:, :, 0].T.tolist(),
            high=columns[:, :, 1].T.tolist(),
            samples=[],
            curve=[],
            curve_points=0,
        ),
        spectrum=SpectrumBody.model_validate(spectrum_document(ArraySource(found.samples, query.rate))),
        level_map=level_map_body(found.level_map),
        aliases=[
            RateAliasesBody(rate=rate, aliases=[AliasBody.model_validate(alias) for alias in found_aliases])
            for rate, found_aliases in aliases_of(stimulus).items()
        ],
    )
    return answer(body)


@api.get("/signals/needles", responses={200: NeedlesBody})
def needles(query: PreviewQuery) -> Response:
    """What needles show along a signal while it is heard."""
    with _MAKING, transaction() as session:
        return answer(needles_body(needles_of(sounding(session, query.stimulus, query.rate))))


@api.get("/signals/bands", responses={200: RunningBandsBody})
def bands(query: SignalPartQuery) -> Response:
    """The spectrum of the last tenth of a second along a minute of a signal, in third octaves."""
    first = query.part * BAND_STEPS
    with _MAKING, transaction() as session:
        source = sounding(session, query.stimulus, query.rate)
        return answer(running_bands_body(running_bands(source, first, BAND_STEPS), first))


@api.get("/signals/export")
def export_signal(query: ExportQuery) -> Response:
    """A signal as a file: to be listened to, or taken elsewhere."""
    name = re.sub(r"[^\w ,.−-]+", "-", query.name).strip(" .") or "signal"
    with _MAKING, temporary_folder() as folder, transaction() as session:
        path = Path(folder) / f"signal.{query.format}"
        export(session, query.stimulus, query.rate, query.word_length, query.dither, path)
        return sent_and_gone(path, f"audio/{query.format}", f"{name}, {query.rate} Hz.{query.format}")


def _kind_body(kind: type[SignalRequest]) -> SignalKindBody:
    usual = every_parameter()
    return SignalKindBody(
        key=kind.kind,
        title=kind.title,
        purpose=kind.purpose,
        level=kind.level_means or "none",
        expect=kind.expect,
        parameters=[
            SignalParameterBody(
                key=key,
                title=one.title,
                unit=one.unit,
                least=one.least,
                greatest=one.greatest,
                choices=list(one.choices),
                whole=one.whole,
                default=usual[key][1],
            )
            for key, one in kind.form().items()
        ],
    )


def _body(session: Session, signal: Signal, used: int) -> SignalBody:
    return SignalBody(
        id=signal.id,
        name=signal.name,
        request=shown(signal.request),
        seconds=seconds_of(session, signal.stimulus, _LISTED_AT),
        used_by=used,
    )
