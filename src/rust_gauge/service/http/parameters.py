"""Parameters and responses that many routes have in common."""

from typing import Annotated, Any

from fastapi import Query

from rust_gauge.contract.common import Problem

problems: dict[int | str, dict[str, Any]] = {
    code: {"model": Problem, "content": {"application/problem+json": {}}, "description": "Problem document (RFC 9457)"}
    for code in (401, 403, 404, 422)
}

# For octets that came from somebody: a browser saves them and runs nothing that is in them.
NEVER_SHOWN = {"Content-Security-Policy": "sandbox; default-src 'none'", "X-Content-Type-Options": "nosniff"}
Cursor = Annotated[str | None, Query(max_length=500, description="`next` of the previous page")]
Limit = Annotated[int, Query(ge=1, le=1000)]
