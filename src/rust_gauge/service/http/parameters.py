"""Parameters and responses that many routes have in common."""

from typing import Annotated, Any

from fastapi import Query

from rust_gauge.contract.common import Problem

problems: dict[int | str, dict[str, Any]] = {
    code: {"model": Problem, "content": {"application/problem+json": {}}, "description": "Problem document (RFC 9457)"}
    for code in (401, 403, 404, 422)
}

Cursor = Annotated[str | None, Query(max_length=500, description="`next` of the previous page")]
Limit = Annotated[int, Query(ge=1, le=1000)]
