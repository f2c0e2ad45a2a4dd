"""Whether the service lives, whether it is ready, and figures for who watches it; all in standard forms."""

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Literal

from flask import Response
from flask_openapi3 import APIBlueprint
from prometheus_client import CollectorRegistry, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric, SummaryMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from sqlalchemy.exc import DBAPIError

from kind_echo.bench.machines import job_counts, workers_at_work
from kind_echo.bench.queue import queue_states
from kind_echo.database.migrate import is_up_to_date
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.http.problems import problem
from kind_echo.web.http.schemas import Body

api = APIBlueprint("health", __name__)


class HealthBody(Body):
    """It answers; nothing else is told to who is not let in."""

    status: Literal["ok"]


class _Figures:
    """The metrics, read from the database whenever they are asked for."""

    def collect(self) -> Iterator[Metric]:
        """All families of metrics."""
        with transaction() as session:
            queues, counts = queue_states(session), job_counts(session)
            workers = workers_at_work(session, datetime.now(UTC))
        jobs = GaugeMetricFamily("kind_echo_queue_jobs", "Jobs on a queue", labels=["queue", "state"])
        oldest = GaugeMetricFamily(
            "kind_echo_queue_oldest_seconds",
            "Seconds that the first waiting job of a queue has waited",
            labels=["queue"],
        )
        for queue in queues:
            jobs.add_metric([queue.queue, "waiting"], queue.waiting)
            jobs.add_metric([queue.queue, "doing"], queue.doing)
            oldest.add_metric([queue.queue], queue.oldest_seconds)
        took = SummaryMetricFamily("kind_echo_job_seconds", "Seconds that finished jobs took", labels=["task"])
        failed = CounterMetricFamily("kind_echo_job_failures", "Attempts at jobs that failed", labels=["task"])
        for count in counts:
            if count.outcome == "done":
                took.add_metric([count.task], count_value=count.jobs, sum_value=count.seconds)
            else:
                failed.add_metric([count.task], count.jobs)
        yield from (jobs, oldest, took, failed)
        yield GaugeMetricFamily("kind_echo_workers", "Workers that were heard of lately", value=workers)


@api.get("/healthz", responses={200: HealthBody})
def alive() -> Response:
    """Whether the process answers."""
    return answer(HealthBody(status="ok"))


@api.get("/readyz", responses={200: HealthBody})
def ready() -> Response:
    """Whether the database answers too, and has the shape that this version needs."""
    try:
        if not is_up_to_date():
            return problem(503, "NotMigrated", "The database is of another version; run 'kind-echo migrate'.")
    except DBAPIError:
        return problem(503, "DatabaseUnavailable", "The database does not answer.")
    return answer(HealthBody(status="ok"))


@api.get("/metrics")
def metrics() -> Response:
    """Queues, jobs and workers in the text form of Prometheus."""
    registry = CollectorRegistry()
    registry.register(_Figures())
    return Response(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)
