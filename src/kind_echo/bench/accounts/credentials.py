"""Passwords and other secrets: how they are made, kept so that nobody can read them, and told again."""

import hashlib
import secrets
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from kind_echo.core.registry.errors import BadParameter

LEAST_PASSWORD, MOST_PASSWORD = 12, 1024
_hasher = PasswordHasher()  # Argon2id with the parameters of RFC 9106, second recommended option


def new_secret() -> str:
    """A secret of 256 bits for a link, a token or a session."""
    return secrets.token_urlsafe(32)


def digest_of(secret: str) -> str:
    """What is kept of a secret that was made here: it cannot be guessed, so a plain digest does."""
    return hashlib.sha256(secret.encode()).hexdigest()


def hash_password(password: str, name: str) -> str:
    """What is kept of a password that a person chose. Raises BadParameter for one that is easily guessed."""
    if not LEAST_PASSWORD <= len(password) <= MOST_PASSWORD:
        raise BadParameter("password", "…", f"{LEAST_PASSWORD} to {MOST_PASSWORD} characters long")
    if name.lower() in password.lower() or len(set(password)) < 5:
        raise BadParameter("password", "…", "harder to guess: without your name, and of more than a few characters")
    return _hasher.hash(password)


def is_password(kept: str | None, password: str) -> bool:
    """Whether it is the password; takes as long where there is none, so that the time tells nothing."""
    try:
        return _hasher.verify(kept or _unknown_hash(), password[:MOST_PASSWORD]) and kept is not None
    except (VerificationError, InvalidHashError):
        return False


@cache
def _unknown_hash() -> str:
    return _hasher.hash(new_secret())
