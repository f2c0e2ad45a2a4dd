"""Signatures of bundles: Ed25519 (RFC 8032), with keys in PEM files as OpenSSL makes them.

openssl genpkey -algorithm ed25519 -out signing.pem
openssl pkey -in signing.pem -pubout -out signing.pub.pem
"""

import base64
import binascii
import hashlib
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kind_echo.core.registry.errors import Invalid

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

KEY_VARIABLE = "KIND_ECHO_SIGNING_KEY"
"""Names the file of the private key that bundles are signed with; unset for none."""

_ALGORITHM = "Ed25519"


class BadKey(Invalid):
    """A file that holds no key of the kind that is asked for, or one that others than its owner can read."""

    def __init__(self, path: str, why: str) -> None:
        self.path = path
        super().__init__(f"{path}: {why}")


class BadSignature(Invalid):
    """A signature that does not hold, or is of another key."""


@dataclass(frozen=True)
class Signed:
    """A signature that holds.

    Attributes:
        fingerprint: SHA-256 of the public key's 32 bytes, in hexadecimal.
        is_known: it is the key that was asked for; False where none was.
    """

    fingerprint: str
    is_known: bool


def own_key() -> "Ed25519PrivateKey | None":
    """The key that `KIND_ECHO_SIGNING_KEY` names; None where it is unset. Raises BadKey."""
    named = os.environ.get(KEY_VARIABLE)
    if not named:
        return None
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    path = Path(named)
    text = _read(path)
    if os.name == "posix" and path.stat().st_mode & 0o077:
        raise BadKey(named, "others than its owner can read this private key; chmod 600")
    try:
        found = load_pem_private_key(text, password=None)
    except (ValueError, TypeError) as error:
        raise BadKey(named, f"it holds no private key without a password: {error}") from error
    if not isinstance(found, Ed25519PrivateKey):
        raise BadKey(named, f"its key is not of the kind {_ALGORITHM}")
    return found


def public_key(path: Path) -> "Ed25519PublicKey":
    """The public key in a PEM file. Raises BadKey."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
    from cryptography.hazmat.primitives.serialization import load_pem_public_key

    try:
        found = load_pem_public_key(_read(path))
    except ValueError as error:
        raise BadKey(str(path), f"it holds no public key: {error}") from error
    if not isinstance(found, Ed25519PublicKey):
        raise BadKey(str(path), f"its key is not of the kind {_ALGORITHM}")
    return found


def sign(key: "Ed25519PrivateKey", message: bytes) -> dict[str, str]:
    """The signature of a message, as JSON keeps it: with the public key, which says nothing of whose it is."""
    told = {"public_key": key.public_key().public_bytes_raw(), "signature": key.sign(message)}
    return {"algorithm": _ALGORITHM} | {name: base64.b64encode(value).decode() for name, value in told.items()}


def check(kept: Mapping[str, Any], message: bytes, expected: "Ed25519PublicKey | None") -> Signed:
    """Whether a signature is that of a message.

    Args:
        kept: as `sign` makes it.
        expected: the key that it has to be of; None for any.
    Raises:
        BadSignature: it is none, is of another message, or of another key.
    """
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    if kept.get("algorithm") != _ALGORITHM:
        raise BadSignature(f"its signature is not of the kind {_ALGORITHM}")
    try:
        raw, signature = (base64.b64decode(kept[name], validate=True) for name in ("public_key", "signature"))
        key = Ed25519PublicKey.from_public_bytes(raw)
    except (KeyError, TypeError, ValueError, binascii.Error) as error:
        raise BadSignature("its signature cannot be read") from error
    try:
        key.verify(signature, message)
    except InvalidSignature as error:
        raise BadSignature("its signature does not hold: the manifest was changed") from error
    fingerprint = hashlib.sha256(raw).hexdigest()
    if expected is not None and expected.public_bytes_raw() != raw:
        raise BadSignature(f"it was signed with another key, whose SHA-256 is {fingerprint}")
    return Signed(fingerprint, expected is not None)


def check_detached(key: "Ed25519PublicKey", message: bytes, signature: str) -> str:
    """The fingerprint of a key whose signature of a message, in base64, holds. Raises BadSignature."""
    from cryptography.exceptions import InvalidSignature

    try:
        key.verify(base64.b64decode(signature, validate=True), message)
    except (ValueError, binascii.Error) as error:
        raise BadSignature("it is no signature in base64") from error
    except InvalidSignature as error:
        raise BadSignature("it is of other bytes or of another key") from error
    return hashlib.sha256(key.public_bytes_raw()).hexdigest()


def _read(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise BadKey(str(path), f"it cannot be read: {error.strerror}") from error
