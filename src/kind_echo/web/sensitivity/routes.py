"""What a plan would miss."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.runs import find_run
from kind_echo.bench.sensitivity import plan_sensitivity, planned_cells, request_sensitivity, run_sensitivity
from kind_echo.core.sensitivity.faults import FAULTS
from kind_echo.core.sensitivity.summary import USUAL_WANTED, wanted_size
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.sensitivity.schemas import (
    AskSensitivityBody,
    FaultBody,
    FaultsBody,
    RunPath,
    RunSensitivityBody,
    SensitivityBody,
)
from kind_echo.web.sensitivity.views import sensitivity_body
from kind_echo.wording.sensitivity import summary_sentence

api = APIBlueprint("sensitivity", __name__, url_prefix="/api")


@api.get("/sensitivity/faults", responses={200: FaultsBody})
def faults() -> Response:
    """The faults that are planted, in the order in which they are told."""
    listed = [FaultBody(key=f.key, title=f.title, unit=f.unit, least=f.least, most=f.most) for f in FAULTS]
    return answer(FaultsBody(faults=listed, wanted=dict(USUAL_WANTED)))


@api.post("/plans/sensitivity", responses={200: SensitivityBody})
def of_plan(body: AskSensitivityBody) -> Response:
    """What a plan would miss; what is not known is asked of the workers, and asking again tells how far they are."""
    asked = USUAL_WANTED if body.wanted is None else body.wanted
    wanted = {key: wanted_size(key, size) for key, size in asked.items()}
    with transaction() as session:
        planned, now = planned_cells(session, body.document), datetime.now(UTC)
        request_sensitivity(session, [cell.asked for cell in planned if cell.asked is not None], now)
        told = plan_sensitivity(session, planned, wanted)
        request_sensitivity(session, told.wanting, now)
        return answer(sensitivity_body(told, len(planned), wanted))


@api.get("/runs/<int:run_id>/sensitivity", responses={200: RunSensitivityBody})
def of_run(path: RunPath) -> Response:
    """What the plan of a run would have noticed, where somebody has had that found out."""
    with transaction() as session:
        told = run_sensitivity(session, find_run(session, path.run_id))
        return answer(RunSensitivityBody(summary="" if told is None else summary_sentence(told.rows)))
