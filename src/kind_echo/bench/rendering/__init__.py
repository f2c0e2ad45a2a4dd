"""From a cell to a kept render, by a worker here or by a render machine."""

from kind_echo.bench.rendering.keeping import keep_render
from kind_echo.bench.rendering.remote import (
    Facts,
    Question,
    Wanted,
    answer_question,
    arrive,
    beat,
    deliver,
    leave,
    measure_delivery,
    own_machine,
    report_failure,
    stimulus_of,
    take,
)
from kind_echo.bench.rendering.requests import can_render_here, renderer_named, request_for
from kind_echo.bench.rendering.reuse import render_key
from kind_echo.bench.rendering.steps import (
    begin_render,
    fail_cell,
    fail_waiting,
    forget_attempt,
    hand_on,
    prepare,
    search_on,
    to_analysis,
)

__all__ = [
    "Facts",
    "Question",
    "Wanted",
    "answer_question",
    "arrive",
    "beat",
    "begin_render",
    "can_render_here",
    "deliver",
    "fail_cell",
    "fail_waiting",
    "forget_attempt",
    "hand_on",
    "keep_render",
    "leave",
    "measure_delivery",
    "own_machine",
    "prepare",
    "render_key",
    "renderer_named",
    "report_failure",
    "request_for",
    "search_on",
    "stimulus_of",
    "take",
    "to_analysis",
]
