"""Server-sent events under /api/v1: what changed, so that pages follow (HTML Standard §9.2)."""

import asyncio
import time
from collections.abc import AsyncIterator, Callable

import orjson
from fastapi import Request
from fastapi.responses import StreamingResponse

from rust_gauge.service.changes.watching import TooManyPages, watching_of
from rust_gauge.service.http.access import Asker, Ctx
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.accounts import Principal

router = api_router()
_LONGEST = 600.0  # seconds: a browser asks again by itself, and a session that ended is noticed then
_ALIVE_EVERY = 15.0  # seconds; proxies close what says nothing


@router.get("/changes", tags=["changes"], operation_id="follow_changes", response_class=StreamingResponse)
async def follow_changes(context: Ctx, principal: Asker, request: Request) -> StreamingResponse:
    """Follow what changes in your tenants, as `text/event-stream`.

    Each event `changed` names a tenant and what changed: events, readings, worklist, domains, jobs, suppression,
    watches, placement, reports, warmup or settings. The stream ends after ten minutes, when the service stops, or with
    the connection.
    """
    watching = watching_of(context)
    ids = [tenant.id for tenant in principal.tenants]
    changes = watching.listen(principal.account_id, ids)
    try:
        first = await anext(changes)
    except TooManyPages:
        raise ServiceProblem("busy", "Too many open pages follow changes", remedy="Close some") from None
    stopping = getattr(request.app.state, "is_stopping", lambda: False)
    body = _stream(principal, changes, first, stopping)
    return StreamingResponse(body, media_type="text/event-stream", headers={"X-Accel-Buffering": "no"})


async def _stream(
    principal: Principal, changes: AsyncIterator[set[tuple[int, str]]], first: set[tuple[int, str]],
    is_stopping: Callable[[], bool],
) -> AsyncIterator[bytes]:  # fmt: skip
    slugs = {tenant.id: tenant.slug for tenant in principal.tenants}
    end = time.monotonic() + _LONGEST
    said = time.monotonic()
    yield b"retry: 3000\n\n"
    found = first
    while time.monotonic() < end and not is_stopping():
        for tenant_id, what in sorted(found):
            data = orjson.dumps({"tenant": slugs[tenant_id], "what": what})
            yield b"event: changed\ndata: " + data + b"\n\n"
        if found:
            said = time.monotonic()
        elif time.monotonic() - said > _ALIVE_EVERY:
            said = time.monotonic()
            yield b": still here\n\n"
        try:
            found = await anext(changes)
        except (StopAsyncIteration, asyncio.CancelledError):
            return
