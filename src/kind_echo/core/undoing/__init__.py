"""Changes that hold in time or between channels: each finds itself, and what it did is done to the other side."""
