"""Cursors of paged lists: opaque to callers, a position of the list to us."""

import base64
import binascii
import json
from typing import Any

from rust_gauge.service.runtime.problems import ServiceProblem


def write_cursor(*position: object) -> str:
    return base64.urlsafe_b64encode(json.dumps(position).encode()).decode().rstrip("=")


def read_cursor(cursor: str | None, *types: type) -> list[Any] | None:
    """The position that a cursor holds, checked against `types`. ServiceProblem `bad-cursor` for any other text."""
    if cursor is None:
        return None
    try:
        position = json.loads(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
    except (ValueError, binascii.Error, RecursionError):
        position = None
    if not isinstance(position, list) or [type(value) for value in position] != list(types):
        raise ServiceProblem("bad-cursor", "This cursor was not made by this list")
    return position
