"""Sounds to be listened to, kept in the database, and how they are asked for."""

from typing import Any

import numpy as np

from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.core.audio.source import ArraySource
from kind_echo.database.blobs import store_content
from kind_echo.database.sessions import transaction

R = 48_000


def make_sound(seconds: float = 4.0, channels: int = 2) -> np.ndarray:
    """Noise that is loudest from 2 to 3 s."""
    frames = round(seconds * R)
    noise = np.random.default_rng(3).normal(size=(frames, channels)) * 0.02
    noise[2 * R : 3 * R] *= 5
    return noise


def keep(samples: np.ndarray, rate: int = R) -> str:
    with transaction() as session:
        return store_content(session, ArraySource(samples, rate), ENCODINGS["FLOAT"]).sha256


def ask_for(*specs: str, **also: Any) -> dict[str, Any]:
    return {"sides": [{"spec": spec, "name": f"side {i}"} for i, spec in enumerate(specs, 1)]} | also
