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

_EXAMPLE = (
    '{"kind": "bounced", "time": "2026-11-20T08:00:04Z", "domain": "news.glasswort.example", '
    '"recipient": "someone@tidepost.example", "stream": "newsletter", "relay": "driftline", '
    '"message_id": "a1@news.glasswort.example", "reply_code": 550, "enhanced_code": "5.1.1", '
    '"diagnostic": "550 5.1.1 no such mailbox"}\n'
)


@router.post(
    "/tenants/{tenant}/events",
    tags=["events"],
    operation_id="load_events",
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {
                "application/x-ndjson": {"schema": {"type": "string"}, "example": _EXAMPLE},
                "application/json": {"schema": {"type": "array", "items": {"$ref": "#/components/schemas/NewEvent"}}},
            },
        }
    },
)
async def load_events(context: Ctx, tenant: Tenant, request: Request) -> IntakeResult:
    """Store events: one JSON object per line, or a JSON array. Safe to repeat: a known event counts once. Valid rows
    are stored beside invalid ones; the answer names the line, field and reason of each rejected row. When no row is
    valid, nothing is stored and the answer is a problem.
    """
    packed = await request.body()
    encoding = request.headers.get("content-encoding", "")
    body = await run_in_threadpool(unpack_body, packed, encoding, context.settings.max_unpacked_bytes)
    rows = await run_in_threadpool(
        split_body, body, request.headers.get("content-type", ""), context.settings.max_event_rows
    )
    return await run_in_threadpool(intake.take_in, context, tenant, rows)
