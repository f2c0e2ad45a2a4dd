"""Audio in an object store that speaks the S3 protocol, instead of in the database.

Which one is said by KIND_ECHO_OBJECT_STORE, as s3://BUCKET or s3://BUCKET/PREFIX; its address, region and credentials
are what every program for this protocol reads: AWS_ENDPOINT_URL_S3, AWS_REGION, AWS_ACCESS_KEY_ID,
AWS_SECRET_ACCESS_KEY.
"""

import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from functools import lru_cache
from typing import IO, Any
from urllib.parse import urlsplit

from kind_echo.core.registry.errors import KindEchoError, Unavailable

STORE_VARIABLE = "KIND_ECHO_OBJECT_STORE"
_AT_ONCE = 1000
"""Keys that one request may delete, by the protocol."""


class NoObjectStore(KindEchoError):
    """Audio is in an object store, and none is set up."""

    def __init__(self) -> None:
        super().__init__(f"This audio is in an object store; set {STORE_VARIABLE} to s3://BUCKET/PREFIX.")


class BadObjectStore(KindEchoError):
    """The object store that is named cannot be one."""

    def __init__(self, said: str, why: str) -> None:
        super().__init__(f"{STORE_VARIABLE}={said} is invalid: {why}.")


class ObjectStoreUnavailable(Unavailable):
    """The object store does not answer, or refuses."""

    def __init__(self, error: Exception) -> None:
        super().__init__(f"The object store does not answer ({error}). Nothing was lost; it is tried again.")


class ObjectStore:
    """One bucket, and the prefix under which this installation keeps its audio."""

    def __init__(self, bucket: str, prefix: str) -> None:
        import boto3
        from botocore.config import Config

        self._bucket, self._prefix = bucket, prefix
        patience = Config(connect_timeout=5, read_timeout=30, retries={"max_attempts": 3, "mode": "standard"})
        self._client: Any = boto3.client("s3", config=patience)

    def put(self, key: str, file: IO[bytes]) -> None:
        """Keep a file under a key. Raises ObjectStoreUnavailable."""
        with _clear_errors():
            self._client.upload_fileobj(file, self._bucket, self._prefix + key)

    def read(self, key: str, start: int, stop: int) -> bytes:
        """Bytes start to stop of an object. Raises ObjectStoreUnavailable."""
        with _clear_errors():
            answer = self._client.get_object(
                Bucket=self._bucket, Key=self._prefix + key, Range=f"bytes={start}-{stop - 1}"
            )
            data: bytes = answer["Body"].read()
        return data

    def delete(self, keys: Iterable[str]) -> None:
        """Remove objects; those that are not there are no error. Raises ObjectStoreUnavailable."""
        listed = [{"Key": self._prefix + key} for key in keys]
        with _clear_errors():
            for first in range(0, len(listed), _AT_ONCE):
                part = {"Objects": listed[first : first + _AT_ONCE], "Quiet": True}
                self._client.delete_objects(Bucket=self._bucket, Delete=part)

    def keys(self, before: datetime) -> Iterator[str]:
        """Keys of all objects that were last written before that time. Raises ObjectStoreUnavailable."""
        with _clear_errors():
            pages = self._client.get_paginator("list_objects_v2").paginate(Bucket=self._bucket, Prefix=self._prefix)
            for page in pages:
                for found in page.get("Contents", ()):
                    if found["LastModified"] < before:
                        yield found["Key"].removeprefix(self._prefix)


def object_store() -> ObjectStore | None:
    """The object store that is set up; None where audio is kept in the database. Raises BadObjectStore."""
    said = os.environ.get(STORE_VARIABLE)
    return _opened(said) if said else None


@lru_cache(maxsize=4)
def _opened(said: str) -> ObjectStore:
    parts = urlsplit(said)
    if parts.scheme != "s3" or not parts.netloc:
        raise BadObjectStore(said, "it must be s3://BUCKET or s3://BUCKET/PREFIX")
    prefix = parts.path.strip("/")
    try:
        return ObjectStore(parts.netloc, f"{prefix}/" if prefix else "")
    except ImportError as error:
        raise BadObjectStore(said, "it needs more than the server alone: pip install 'kind-echo[objects]'") from error


@contextmanager
def _clear_errors() -> Iterator[None]:
    from boto3.exceptions import Boto3Error
    from botocore.exceptions import BotoCoreError, ClientError

    try:
        yield
    except (BotoCoreError, ClientError, Boto3Error) as error:
        raise ObjectStoreUnavailable(error) from error
