"""The record: the log of events, read."""

from kind_echo.bench.record.reading import Asked, events, known_names, link_of

__all__ = ["Asked", "events", "known_names", "link_of"]
