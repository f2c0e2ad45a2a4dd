"""Notices: who is told of finished runs, decisions and waivers, by webhook or mail, and what was answered."""

from kind_echo.bench.notices.sending import send
from kind_echo.bench.notices.targets import (
    TOPICS,
    Topic,
    add_target,
    all_targets,
    change_target,
    find_target,
    place_of,
    remove_target,
)
from kind_echo.bench.notices.telling import (
    forget_old,
    latest_notices,
    tell_again,
    tell_of_act,
    tell_of_run,
    tell_of_waivers,
    tell_test,
    untold_runs,
)

__all__ = [
    "TOPICS",
    "Topic",
    "add_target",
    "all_targets",
    "change_target",
    "find_target",
    "forget_old",
    "latest_notices",
    "place_of",
    "remove_target",
    "send",
    "tell_again",
    "tell_of_act",
    "tell_of_run",
    "tell_of_waivers",
    "tell_test",
    "untold_runs",
]
