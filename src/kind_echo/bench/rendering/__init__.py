"""From a cell to a kept render, by a worker here or by a render machine."""

from kind_echo.bench.rendering.keeping import keep_render
from kind_echo.bench.rendering.remote import (
    Facts,
    Question,
    RenderJob,
    answer_question,
    deliver,
    deregister_worker,
    measure_delivery,
    own_machine,
    preset_of,
    record_heartbeat,
    register_remote_worker,
    report_failure,
    stimulus_of,
    take_job,
    uploaded_of,
)
from kind_echo.bench.rendering.requests import can_render_here, renderer_named, request_for
from kind_echo.bench.rendering.reuse import render_key
from kind_echo.bench.rendering.steps import (
    advance_search_of,
    begin_render,
    fail_cell,
    fail_waiting,
    forget_attempt,
    prepare,
    reassign_cell,
    to_analysis,
)

__all__ = [
    "Facts",
    "Question",
    "RenderJob",
    "advance_search_of",
    "answer_question",
    "begin_render",
    "can_render_here",
    "deliver",
    "deregister_worker",
    "fail_cell",
    "fail_waiting",
    "forget_attempt",
    "keep_render",
    "measure_delivery",
    "own_machine",
    "prepare",
    "preset_of",
    "reassign_cell",
    "record_heartbeat",
    "register_remote_worker",
    "render_key",
    "renderer_named",
    "report_failure",
    "request_for",
    "stimulus_of",
    "take_job",
    "to_analysis",
    "uploaded_of",
]
