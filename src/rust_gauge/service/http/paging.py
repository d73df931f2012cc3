"""Cursors of paged lists: opaque to callers, a position of one list to us, and sealed so that nobody can make one."""

import base64
import binascii
import json
import secrets
from hashlib import blake2b
from typing import Any

from rust_gauge.service.runtime.problems import ServiceProblem

_SEAL = 8  # octets
_key = secrets.token_bytes(32)  # until `use_key`; all processes of an installation have to use the same


def use_key(key: str) -> None:
    """Seal cursors with a key of the installation, so that another process accepts them."""
    global _key
    _key = blake2b(key.encode(), digest_size=32, person=b"rustgauge cursor").digest()


def write_cursor(name: str, *position: object) -> str:
    """Return the cursor of a position in the list `name`."""
    body = json.dumps(position).encode()
    return base64.urlsafe_b64encode(_seal(name, body) + body).decode().rstrip("=")


def read_cursor(name: str, cursor: str | None, *types: type) -> list[Any] | None:
    """Return the position in the list `name`, checked against `types`; None without a cursor.

    ServiceProblem `bad-cursor` for anything that this list did not issue.
    """
    if cursor is None:
        return None
    try:
        raw = base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4))
        body = raw[_SEAL:]
        position = json.loads(body) if secrets.compare_digest(raw[:_SEAL], _seal(name, body)) else None
    except (ValueError, binascii.Error, RecursionError):
        position = None
    if not isinstance(position, list) or [type(value) for value in position] != list(types):
        raise ServiceProblem("bad-cursor", "The cursor does not belong to this list")
    return position


def _seal(name: str, body: bytes) -> bytes:
    return blake2b(body, digest_size=_SEAL, key=_key, salt=blake2b(name.encode(), digest_size=16).digest()).digest()
