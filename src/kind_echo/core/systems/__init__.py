"""A render against the signal that went in: response, latency, dynamics, transfer curve."""
