"""The cells of a plan into which faults are planted, each with all that what is found depends on."""

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from kind_echo.bench.documents import limit_document, reading_from
from kind_echo.bench.plans import CaseAsked, ConditionAsked, PlanDocument, case_fingerprint, unfold
from kind_echo.bench.queue import plant_faults
from kind_echo.core.registry.errors import Invalid
from kind_echo.core.registry.readings import value_of
from kind_echo.core.registry.versions import FAMILY_VERSIONS, versions_of
from kind_echo.core.sensitivity.documents import CellAsked, ClosingAsked, SensitivityAsked
from kind_echo.core.sensitivity.faults import FAULTS_VERSION
from kind_echo.core.sensitivity.summary import Row
from kind_echo.core.verdicts.rules import RULES_VERSION
from kind_echo.database.models import Build, Case, Cell, Condition, Effect, Reference, Render, Run, Sensitivity, Setting
from kind_echo.wording.conditions import condition_text

MOST_CELLS = 2000


class TooManyCells(Invalid):
    """A plan has more cells than faults are planted into."""

    def __init__(self, cells: int) -> None:
        self.cells = cells
        super().__init__(f"The plan has {cells} cells, and faults are planted into {MOST_CELLS} at most.")


@dataclass(frozen=True)
class PlanCell:
    """A cell of a plan.

    Attributes:
        asked: what is to be found, and all that it depends on; None where no render is approved for it.
        key: digest of that; empty where there is none.
    """

    case: str
    condition: str
    asked: CellAsked | None

    @property
    def key(self) -> str:
        """Digest of what is asked."""
        return "" if self.asked is None else key_of(self.asked)


def key_of(asked: SensitivityAsked) -> str:
    """Digest of what is asked, and of how it is found."""
    parts = [FAULTS_VERSION, RULES_VERSION, versions_of(FAMILY_VERSIONS), asked]
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def planned_cells(session: Session, document: PlanDocument) -> list[PlanCell]:
    """The cells of a plan, kept or not, in the order of its cases and conditions.

    Faults go into the approved reference of each; of a case that is compared with its signal, into its newest render.

    Raises:
        BadPlan: the plan cannot be used. TooManyCells: it is too large.
    """
    unfolded = unfold(session, document)
    if unfolded.cells > MOST_CELLS:
        raise TooManyCells(unfolded.cells)
    effect = session.scalars(select(Effect).where(Effect.name == document.effect)).one()
    presets = _presets(session, effect)
    conditions = [(condition_text(one), _number_of(session, one), one) for one in unfolded.conditions]
    places = _Renders(session, effect)
    excluded, found = set(unfolded.excluded), []
    for i, case in enumerate(unfolded.cases):
        setting = case.setting
        fingerprint = case_fingerprint(case.request, setting.values, setting.parts, presets.get(setting.name))
        for j, (name, number, condition) in enumerate(conditions):
            if (i, j) in excluded:
                continue
            render = None if number is None else places.of(case, fingerprint, number)
            asked = None if render is None else _asked(session, case, condition, render)
            found.append(PlanCell(f"{case.signal}, {setting.name}", name, asked))
    return found


def _number_of(session: Session, condition: ConditionAsked) -> int | None:
    return session.scalar(select(Condition.id).filter_by(**condition.columns))


def _presets(session: Session, effect: Effect) -> dict[str, str]:
    rows = select(Setting.name, Setting.preset_sha256).where(
        Setting.effect_id == effect.id, Setting.preset_sha256.is_not(None)
    )
    return {name: digest for name, digest in session.execute(rows) if digest}


_Kept = tuple[int, str]
"""Of a render its number, and the digest of its audio."""


class _Renders:
    """The renders of an effect that faults can go into."""

    def __init__(self, session: Session, effect: Effect) -> None:
        self._session, self._effect = session, effect
        query = (
            select(Reference.fingerprint, Reference.condition_id, Reference.render_id, Render.content_sha256)
            .join(Render, Render.id == Reference.render_id)
            .where(Reference.effect_id == effect.id, Reference.retired_at.is_(None))
        )
        self._references = {(one, number): (render, sha) for one, number, render, sha in session.execute(query)}
        self._newest: dict[tuple[str, int], int] | None = None

    def of(self, case: CaseAsked, fingerprint: str, condition_id: int) -> _Kept | None:
        """The render of a case under a condition."""
        if case.against == "reference":
            return self._references.get((fingerprint, condition_id))
        if self._newest is None:
            query = (
                select(Case.fingerprint, Cell.condition_id, func.max(Cell.render_id))
                .join(Case, Case.id == Cell.case_id)
                .join(Run, Run.id == Cell.run_id)
                .join(Build, Build.id == Run.build_id)
                .where(Build.effect_id == self._effect.id, Case.against == "signal", Cell.state == "done")
                .where(Cell.unfit.is_(False), Cell.render_id.is_not(None))
                .group_by(Case.fingerprint, Cell.condition_id)
            )
            self._newest = {(one, number): render for one, number, render in self._session.execute(query) if render}
        newest = self._newest.get((fingerprint, condition_id))
        return None if newest is None else (newest, self._session.get_one(Render, newest).content_sha256)


def _asked(session: Session, case: CaseAsked, condition: ConditionAsked, kept: _Kept) -> CellAsked:
    render, sha256 = kept
    limits = {**case.limits, **condition.limits}
    readings = []
    if case.takes > 1 or any(key.startswith("latency") for key in limits):
        readings = [reading_from(document) for document in session.get_one(Render, render).readings]
    return {
        "sha256": sha256, "signal": case.request, "channels": condition.channels,
        "rate": condition.rate, "limits": {key: limit_document(limits[key]) for key in sorted(limits)},
        "against": case.against, "law": case.expected, "take_spread": value_of(readings, "take_spread"),
        "claimed": value_of(readings, "latency_reported"),
    }  # fmt: skip


def request_sensitivity(
    session: Session, asked: Iterable[SensitivityAsked], now: datetime, *, defer: bool = True
) -> list[int]:
    """Have found what nobody has found or asked for; what could not be found is tried again.

    Args:
        defer: a worker is to find it; else whoever asks does.
    Returns:
        The numbers of what is to be found.
    """
    wanted = {key_of(one): one for one in asked}
    known = {row.key: row for row in session.scalars(select(Sensitivity).where(Sensitivity.key.in_(wanted)))}
    new = [{"key": key, "asked": one, "asked_at": now} for key, one in wanted.items() if key not in known]
    made: Sequence[int] = []
    if new:
        query = insert(Sensitivity).values(new).on_conflict_do_nothing().returning(Sensitivity.id)
        made = session.scalars(query).all()
    again = [row for row in known.values() if row.why or (not defer and row.found is None)]
    for row in again:
        row.why, row.asked_at = "", now
    numbers = [*made, *(row.id for row in again)]
    if defer:
        plant_faults(session, numbers)
    return numbers


def closing_asked(row: Row, planned: Mapping[tuple[str, str], PlanCell]) -> ClosingAsked:
    """What would close a gap, as it is asked for: signals that show a fault, and the limit that would notice it.

    The limit is of the cell that notices the fault best, or of the first that it passes in.

    Args:
        planned: by case and condition.
    """
    cell = row.where or next((one for one in row.passing if one.found[row.fault.key].state == "passes"), None)
    of = None if cell is None or row.wanted is None else planned[cell.case, cell.condition].asked
    return {"closing": row.fault.key, "wanted": row.wanted, "cell": of}


def gaps_of(rows: Sequence[Row]) -> list[Row]:
    """The rows of faults that no cell notices as it is wanted."""
    gaps = [row for row in rows if row.least is None or row.is_met is False]
    return [row for row in gaps if row.states != {"fails already"}]
