"""Kind Echo: regression testing for audio effects."""

__version__ = "0.1.0"
