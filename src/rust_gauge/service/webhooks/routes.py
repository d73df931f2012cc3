"""Webhooks under /api/v1: addresses that the service calls when something happens."""

from typing import Annotated, Literal

from fastapi import Path, Query

from rust_gauge.contract.common import Page
from rust_gauge.contract.webhooks import (
    MadeWebhook,
    NewWebhook,
    Webhook,
    WebhookCall,
    WebhookChange,
    WebhookRotation,
)
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.webhooks import webhooks

router = api_router()


@router.get("/tenants/{tenant}/webhooks", tags=["webhooks"], operation_id="list_webhooks")
def list_webhooks(context: Ctx, tenant: Tenant) -> Page[Webhook]:
    """List the webhooks and the state of their calls."""
    return Page(items=webhooks.list_webhooks(context, tenant))


@router.post("/tenants/{tenant}/webhooks", tags=["webhooks"], status_code=201, operation_id="add_webhook")
def add_webhook(context: Ctx, tenant: Tenant, body: NewWebhook) -> MadeWebhook:
    """Add a webhook. The secret that signs its calls is in this answer and is not shown again."""
    return webhooks.add_webhook(context, tenant, body)


Id = Annotated[int, Path(ge=1)]


@router.patch("/tenants/{tenant}/webhooks/{id}", tags=["webhooks"], operation_id="update_webhook")
def update_webhook(context: Ctx, tenant: Tenant, id: Id, body: WebhookChange) -> Webhook:
    """Change, pause or resume a webhook."""
    return webhooks.update_webhook(context, tenant, id, body)


@router.post("/tenants/{tenant}/webhooks/{id}/rotation", tags=["webhooks"], operation_id="rotate_webhook_secret")
def rotate_webhook_secret(context: Ctx, tenant: Tenant, id: Id, body: WebhookRotation) -> MadeWebhook:
    """Give a webhook a new secret. Calls are signed with both for a while; the new one is in this answer only."""
    return webhooks.rotate_secret(context, tenant, id, body)


@router.delete("/tenants/{tenant}/webhooks/{id}", tags=["webhooks"], status_code=204, operation_id="delete_webhook")
def delete_webhook(context: Ctx, tenant: Tenant, id: Id) -> None:
    """Delete a webhook and its calls."""
    webhooks.delete_webhook(context, tenant, id)


@router.post("/tenants/{tenant}/webhooks/{id}/test", tags=["webhooks"], operation_id="test_webhook")
def test_webhook(context: Ctx, tenant: Tenant, id: Id) -> WebhookCall:
    """Send a message of subject `test` now, and return the answer."""
    return webhooks.test_webhook(context, tenant, id)


@router.get("/tenants/{tenant}/webhooks/{id}/calls", tags=["webhooks"], operation_id="list_webhook_calls")
def list_webhook_calls(
    context: Ctx,
    tenant: Tenant,
    id: Id,
    state: Annotated[Literal["waiting", "delivered", "dead"] | None, Query(description="Only these")] = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[WebhookCall]:
    """List calls, newest first. Delivered ones are kept for 30 days."""
    return webhooks.list_calls(context, tenant, id, state, cursor, limit)


@router.post("/tenants/{tenant}/webhooks/{id}/replay", tags=["webhooks"], operation_id="replay_webhook")
def replay_webhook(
    context: Ctx,
    tenant: Tenant,
    id: Id,
    call: Annotated[str | None, Query(max_length=60, description="Only this failed call")] = None,
) -> int:
    """Retry calls that were given up, under the same ids, and return how many."""
    return webhooks.replay(context, tenant, id, call)
