"""Events sent to /api/v1."""

from fastapi import Request
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.events import IntakeResult
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.bodies import unpack_body
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.intake import intake
from rust_gauge.service.intake.rows import split_body

router = api_router()


@router.post("/tenants/{tenant}/events", tags=["events"], operation_id="load_events")
async def load_events(context: Ctx, tenant: Tenant, request: Request) -> IntakeResult:
    """Store events: a JSON array. Safe to repeat: a known event counts once. Valid rows are stored beside invalid ones;
    the answer names the line, field and reason of each rejected row. When no row is valid, nothing is stored and the
    answer is a problem. NDJSON is accepted here as well.
    """
    return await _take(context, tenant, request)


@router.post("/tenants/{tenant}/events/stream", tags=["events"], operation_id="stream_events")
async def stream_events(context: Ctx, tenant: Tenant, request: Request) -> IntakeResult:
    """Store events as NDJSON, one per line; otherwise as above."""
    return await _take(context, tenant, request)


async def _take(context: Ctx, tenant: Tenant, request: Request) -> IntakeResult:
    packed = await request.body()
    encoding = request.headers.get("content-encoding", "")
    body = await run_in_threadpool(unpack_body, packed, encoding, context.settings.max_unpacked_bytes)
    rows = await run_in_threadpool(
        split_body, body, request.headers.get("content-type", ""), context.settings.max_event_rows
    )
    return await run_in_threadpool(intake.take_in, context, tenant, rows)
