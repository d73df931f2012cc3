"""Feeds under /api/v1: their settings, and the addresses that sources send to."""

from typing import Annotated

from fastapi import Path, Query, Request
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.common import Page
from rust_gauge.contract.events import IntakeResult
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    MadeFeed,
    MappingDryRun,
    MappingDryRunResult,
    NewFeed,
    RejectedRow,
    ReplayResult,
)
from rust_gauge.service.feeds import feeds, mapping, receiving, rejected_rows
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.bodies import unpack_body
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router

router = api_router()


@router.get("/tenants/{tenant}/feeds", tags=["feeds"], operation_id="list_feeds")
def list_feeds(context: Ctx, tenant: Tenant) -> Page[Feed]:
    """List the feeds and their state."""
    return Page(items=feeds.list_feeds(context, tenant))


@router.post("/tenants/{tenant}/feeds", tags=["feeds"], status_code=201, operation_id="add_feed")
def add_feed(context: Ctx, tenant: Tenant, body: NewFeed) -> MadeFeed:
    """Add a feed. Its token and its key are in this answer and are not shown again."""
    return feeds.add_feed(context, tenant, body)


Name = Annotated[str, Path(max_length=60)]


@router.get("/tenants/{tenant}/feeds/{name}", tags=["feeds"], operation_id="get_feed")
def get_feed(context: Ctx, tenant: Tenant, name: Name) -> Feed:
    """Return one feed."""
    return feeds.get_feed(context, tenant, name)


@router.patch("/tenants/{tenant}/feeds/{name}", tags=["feeds"], operation_id="update_feed")
def update_feed(context: Ctx, tenant: Tenant, name: Name, body: FeedChange) -> Feed:
    """Change, pause or resume a feed."""
    return feeds.update_feed(context, tenant, name, body)


@router.delete("/tenants/{tenant}/feeds/{name}", tags=["feeds"], status_code=204, operation_id="delete_feed")
def delete_feed(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Remove a feed. Events that came through it are kept."""
    feeds.delete_feed(context, tenant, name)


@router.post(
    "/tenants/{tenant}/feeds/{name}/events",
    tags=["feeds"],
    operation_id="send_to_feed",
)
async def send_to_feed(context: Ctx, tenant: Tenant, name: Name, request: Request) -> IntakeResult:
    """Upload a file to a feed: JSON, NDJSON, CSV, a message (message/rfc822), an mbox (application/mbox), or lines of
    a log (text/plain). Safe to repeat.
    """
    body = await request.body()

    def take() -> IntakeResult:
        unpacked = unpack_body(body, request.headers.get("content-encoding", ""), context.settings.max_unpacked_bytes)
        return receiving.receive_by_name(context, tenant, name, unpacked, request.headers.get("content-type", ""))

    return await run_in_threadpool(take)


@router.get("/tenants/{tenant}/feeds/{name}/rejected-rows", tags=["feeds"], operation_id="list_rejected_rows")
def list_rejected_rows(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 100
) -> Page[RejectedRow]:
    """List rejected rows, newest first, each with its reason."""
    return rejected_rows.list_rejected_rows(context, tenant, name, cursor, limit)


@router.post("/tenants/{tenant}/feeds/{name}/rejected-rows/replay", tags=["feeds"], operation_id="replay_rejected_rows")
def replay_rejected_rows(
    context: Ctx, tenant: Tenant, name: Name, id: Annotated[int | None, Query(ge=1, description="Only this row")] = None
) -> ReplayResult:
    """Retry rejected rows with the present mapping."""
    return rejected_rows.replay(context, tenant, name, id)


@router.delete("/tenants/{tenant}/feeds/{name}/rejected-rows", tags=["feeds"], operation_id="delete_rejected_rows")
def delete_rejected_rows(context: Ctx, tenant: Tenant, name: Name) -> int:
    """Delete rejected rows and return how many they were."""
    return rejected_rows.delete_rejected_rows(context, tenant, name)


@router.post("/tenants/{tenant}/mapping-dry-runs", tags=["feeds"], operation_id="try_mapping")
def try_mapping(context: Ctx, tenant: Tenant, body: MappingDryRun) -> MappingDryRunResult:
    """Show how a sample becomes events, field by field. Nothing is stored."""
    return mapping.try_mapping(context, tenant, body)


@router.post("/tls-reports/{key}", tags=["feeds"], status_code=201, operation_id="receive_tls_report")
async def receive_tls_report(context: Ctx, request: Request, key: Annotated[str, Path(max_length=60)]) -> IntakeResult:
    """Receive a TLS report by HTTPS POST (RFC 8460 §3). Publish the address as `rua` in the `_smtp._tls` record;
    senders need no token. Safe to repeat.
    """
    body = await request.body()

    return await run_in_threadpool(receiving.receive_tls_report, context, key, body)


@router.post(
    "/intake/{key}",
    tags=["feeds"],
    operation_id="receive",
)
async def receive(context: Ctx, request: Request, key: Annotated[str, Path(max_length=60)]) -> IntakeResult:
    """Receive events from a source: JSON or NDJSON, plain, gzip or zstd. The source proves itself by the feed's token
    (Authorization: Bearer) or by a signature over time and body as in the open Standard Webhooks form, not older
    than five minutes. The answer follows once the events are stored. Safe to repeat. Rows that cannot be used are
    kept with the reason.
    """
    body = await request.body()
    headers = {name: request.headers.get(name, "") for name in ("webhook-id", "webhook-timestamp", "webhook-signature")}
    headers = {name: value for name, value in headers.items() if value}

    def take() -> IntakeResult:
        feed = receiving.feed_for(context, key, request.headers.get("authorization", ""), headers, body)
        unpacked = unpack_body(body, request.headers.get("content-encoding", ""), context.settings.max_unpacked_bytes)
        return receiving.receive(context, feed, unpacked, request.headers.get("content-type", ""))

    return await run_in_threadpool(take)
