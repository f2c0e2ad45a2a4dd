"""Parameters that move within a render: points in time, stepped or ramped, as changes at frames."""

import math
from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from kind_echo.renderers.plugins.model import Change, HostFailed, Instance, find_parameter, plain_value

RAMP_FRAMES = 32
"""A ramp is told to the plug-in as a step every so many frames."""

MOST_POINTS = 1000


@dataclass(frozen=True)
class Motion:
    """A parameter's course: its value at each frame is that of the last point, or on the line to the next."""

    key: str
    frames: tuple[int, ...]
    values: tuple[float, ...]
    ramp: bool

    def value(self, frame: int) -> float:
        """The value at a frame; before the first point that of the first."""
        after = bisect_right(self.frames, frame)
        if after == 0:
            return self.values[0]
        if not self.ramp or after == len(self.frames):
            return self.values[after - 1]
        begin, end = self.frames[after - 1], self.frames[after]
        share = (frame - begin) / (end - begin)
        return self.values[after - 1] + share * (self.values[after] - self.values[after - 1])

    def frames_within(self, begin: int, end: int) -> Iterator[int]:
        """The frames from `begin` up to `end` at which the value changes."""
        if begin == 0:
            yield 0
        for index, frame in enumerate(self.frames):
            if max(begin, 1) <= frame < end:
                yield frame
            if not self.ramp or index + 1 == len(self.frames):
                continue
            first = frame + RAMP_FRAMES * max(1, math.ceil((begin - frame) / RAMP_FRAMES))
            yield from range(first, min(end, self.frames[index + 1]), RAMP_FRAMES)


def motions(instance: Instance, values: Mapping[str, Any], rate: int) -> list[Motion]:
    """Values of parameters by name as their courses: a plain value is a course of one point. Raises HostFailed."""
    about = instance.about()
    found = []
    for name, value in values.items():
        parameter = find_parameter(about, name)
        if not isinstance(value, Mapping):
            found.append(Motion(parameter.key, (0,), (plain_value(instance, parameter, value),), False))
            continue
        times, listed = [float(time) for time in value.get("at", ())], value.get("values", ())
        if not 0 < len(times) == len(listed) <= MOST_POINTS or set(value) - {"at", "values", "ramp"}:
            raise HostFailed(f"{name} moves by up to {MOST_POINTS} times and as many values, and whether it ramps")
        if times != sorted(set(times)) or times[0] < 0 or not all(map(math.isfinite, times)):
            raise HostFailed(f"the times at which {name} moves go up from 0, and are not {times}")
        plain = tuple(plain_value(instance, parameter, one) for one in listed)
        found.append(Motion(parameter.key, tuple(round(time * rate) for time in times), plain, bool(value.get("ramp"))))
    return found


def changes_within(courses: Sequence[Motion], begin: int, end: int, *, exact: bool) -> list[Change]:
    """What changes from frame `begin` up to `end`, in order, at frames within that block.

    Args:
        exact: at their own frames; else all at the beginning of the block, with the value that they have there. A step
            within a block is heard from the next one on.
    """
    found = []
    for course in courses:
        if exact:
            found += [
                Change(frame - begin, course.key, course.value(frame)) for frame in course.frames_within(begin, end)
            ]
        elif begin == 0 or (len(course.frames) > 1 and begin <= course.frames[-1] + end - begin):
            found.append(Change(0, course.key, course.value(begin)))
    return sorted(found, key=lambda change: change.frame)
