"""The record: the log of events, read."""

from kind_echo.bench.record.reading import EventQuery, events, known_names, link_of

__all__ = ["EventQuery", "events", "known_names", "link_of"]
