"""Numbers only: arrays and rates in, frozen dataclasses out; no files, no database, no web, no clock."""
