"""What a render took. Never a pass or a fail by default: machines are noisy."""

from kind_echo.core.registry.readings import Reading


def cost_readings(audio: float, wall: float, cpu: float, memory: float | None) -> list[Reading]:
    """render_factor, render_cpu and render_memory.

    Args:
        audio, wall, cpu: seconds.
        memory: greatest resident memory, in MB; None where the renderer does not tell.
    """
    factor = audio / wall if wall > 0 else None
    share = cpu / audio if audio > 0 else None
    return [
        Reading("render_factor", "all", factor, None if factor is not None else "too fast to be timed"),
        Reading("render_cpu", "all", share, None if share is not None else "the render has no frames"),
        Reading("render_memory", "all", memory, None if memory is not None else "the renderer does not tell"),
    ]
