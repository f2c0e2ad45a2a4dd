"""One approved render planted with faults: what is noticed, kept under what was asked."""

from typing import cast

from sqlalchemy.orm import Session

from kind_echo.bench.comparisons import options_for
from kind_echo.bench.documents import limit_from
from kind_echo.bench.signals import make_stimulus
from kind_echo.core.audio.source import ArraySource, Samples, Source
from kind_echo.core.registry.readings import Reading
from kind_echo.core.sensitivity.closing import limit_that_notices, signals_that_show
from kind_echo.core.sensitivity.documents import CellAsked, FoundDocument
from kind_echo.core.sensitivity.excerpt import excerpt_of
from kind_echo.core.sensitivity.fault import Fault
from kind_echo.core.sensitivity.faults import BY_KEY
from kind_echo.core.sensitivity.least import Least, least_noticed
from kind_echo.core.sensitivity.noticing import Approved, Own
from kind_echo.core.signals import Stimulus, stimulus_of
from kind_echo.core.systems.by_signal import measure_by_signal
from kind_echo.core.systems.transfer import ExpectedCurve
from kind_echo.database.blobs import BlobSource, find_content
from kind_echo.database.models import Sensitivity
from kind_echo.database.sessions import transaction

_TRIED_RATE = 48_000


def find_noticed(sensitivity_id: int) -> None:
    """Find what was asked, in transactions of its own: what is computed between them holds no connection."""
    with transaction() as session:
        row = session.get(Sensitivity, sensitivity_id)
        if row is None or row.found is not None:
            return
        asked = row.asked
        of = asked["cell"] if "closing" in asked else asked
        approved = None if of is None else _approved(session, of)
    found: list[FoundDocument]
    if "closing" in asked:
        found, seconds = _closing(BY_KEY[asked["closing"]], asked["wanted"], approved), 0.0
    else:
        assert approved is not None
        seconds = len(approved.samples) / approved.rate
        found = [_told(least) for least in least_noticed(approved)]
    with transaction() as session:
        row = session.get(Sensitivity, sensitivity_id)
        if row is not None:
            row.found, row.seconds, row.why = found, seconds, ""


def _closing(fault: Fault, wanted: float | None, approved: Approved | None) -> list[FoundDocument]:
    found: list[FoundDocument] = [
        {**_told(least), "title": title} for title, least in signals_that_show(fault, wanted, _TRIED_RATE)
    ]
    limit = None if approved is None or wanted is None else limit_that_notices(approved, fault, wanted)
    return found if limit is None else [*found, {"limit": limit.at_most}]


def _told(least: Least) -> FoundDocument:
    return cast("FoundDocument", least.document())


def give_up(sensitivity_id: int, reason: str) -> None:
    """Say why it could not be found."""
    with transaction() as session:
        row = session.get(Sensitivity, sensitivity_id)
        if row is not None and row.found is None:
            row.why = reason


def _approved(session: Session, asked: CellAsked) -> Approved:
    source = BlobSource(session, find_content(session, asked["sha256"]))
    samples, is_whole = excerpt_of(source)
    signal, rate = stimulus_of(asked["signal"]), source.rate
    stimulus = make_stimulus(session, signal, asked["channels"], rate)
    against = stimulus if asked["against"] == "signal" else None
    return Approved(
        samples, rate, {key: limit_from(document) for key, document in asked["limits"].items()},
        _own(asked, signal, stimulus, rate) if is_whole else None, asked["take_spread"], options_for(signal, rate),
        against if is_whole else None,
    )  # fmt: skip


def _own(asked: CellAsked, went_in: Stimulus, stimulus: Samples, rate: int) -> Own:
    law = None if asked["law"] is None else ExpectedCurve(**asked["law"])

    def own(render: Source, claim: float) -> list[Reading]:
        claimed = None if asked["claimed"] is None else asked["claimed"] + claim
        return measure_by_signal(went_in, ArraySource(stimulus, rate), render, claimed=claimed, law=law)[0]

    return own
