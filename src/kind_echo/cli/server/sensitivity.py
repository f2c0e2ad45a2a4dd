"""What a plan would miss, found by this process and its children, and kept for everybody."""

import multiprocessing
from collections.abc import Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime

import click

from kind_echo.bench.plans import PlanDocument
from kind_echo.bench.sensitivity import (
    find_noticed,
    give_up_planting,
    plan_sensitivity,
    planned_cells,
    request_sensitivity,
)
from kind_echo.cli.exits import RowsFailed
from kind_echo.cli.measuring.sensitivity import end_by_wanted, print_sensitivity
from kind_echo.cli.progress import progress
from kind_echo.core.registry.errors import BadParameter, KindEchoError
from kind_echo.core.sensitivity.documents import CellAsked
from kind_echo.core.sensitivity.summary import USUAL_WANTED
from kind_echo.database.sessions import transaction


def tell_plan(document: PlanDocument, wanted: Mapping[str, float], jobs: int, output: str) -> None:
    """Plant faults into the approved renders of a plan, and say what is noticed.

    Args:
        output: as of `print_sensitivity`.
    Raises:
        LimitBroken: a size that is wanted is not noticed. RowsFailed: nothing could be found of some cells.
        BadParameter: no render is approved for any cell.
    """
    with transaction() as session:
        planned = planned_cells(session, document)
        asked = [cell.asked for cell in planned if cell.asked is not None]
    if not asked:
        raise BadParameter("plan", document.plan, "one with approved references, into which faults can be planted")
    _find_all(asked, jobs)
    judged_by = wanted or USUAL_WANTED
    with transaction() as session:
        told = plan_sensitivity(session, planned, judged_by)
    if told.without:
        click.echo(f"kind-echo: {told.without} of {len(planned)} cells have no approved reference", err=True)
    for cell, why in told.failed:
        click.echo(f"kind-echo: {cell.case}, {cell.condition}: {why}", err=True)
    print_sensitivity(told.cells, judged_by, output, "plan sensitivity")
    if told.failed:
        raise RowsFailed(len(told.failed), len(planned))
    end_by_wanted(told.cells, wanted)


def _find_all(asked: Sequence[CellAsked], jobs: int) -> None:
    with transaction() as session:
        numbers = request_sensitivity(session, asked, datetime.now(UTC), defer=False)
    with progress("Planting", "cells", len(numbers)) as shown:
        count = min(jobs, len(numbers))
        if count <= 1:
            for done, number in enumerate(numbers, start=1):
                _find(number)
                shown.tell(done)
            return
        # A fork would take the threads of this process along, halfway through what they do.
        with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("spawn")) as pool:
            for done, _ in enumerate(pool.map(_find, numbers), start=1):
                shown.tell(done)


def _find(number: int) -> None:
    try:
        find_noticed(number)
    except KindEchoError as error:
        give_up_planting(number, str(error).rstrip("."))
