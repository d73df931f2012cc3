"""Calls of `client.webhooks`."""

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.webhooks import (
    MadeWebhook,
    NewWebhook,
    Webhook,
    WebhookCall,
    WebhookChange,
    WebhookRotation,
)


def list_webhooks(tenant: str) -> Call[Page[Webhook]]:
    return make_call("GET", tenant_path(tenant, "webhooks"), Page[Webhook])


def add_webhook(tenant: str, new: NewWebhook) -> Call[MadeWebhook]:
    return make_call("POST", tenant_path(tenant, "webhooks"), MadeWebhook, new)


def update_webhook(tenant: str, id: int, change: WebhookChange) -> Call[Webhook]:
    return repeatable(make_call("PATCH", tenant_path(tenant, f"webhooks/{id}"), Webhook, change))


def rotate_webhook_secret(tenant: str, id: int, overlap_hours: int) -> Call[MadeWebhook]:
    body = WebhookRotation(overlap_hours=overlap_hours)
    return make_call("POST", tenant_path(tenant, f"webhooks/{id}/rotation"), MadeWebhook, body)


def delete_webhook(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"webhooks/{id}"), type(None))


def test_webhook(tenant: str, id: int) -> Call[WebhookCall]:
    return make_call("POST", tenant_path(tenant, f"webhooks/{id}/test"), WebhookCall)


def list_webhook_calls(tenant: str, id: int, state: str | None, cursor: str | None) -> Call[Page[WebhookCall]]:
    return make_call("GET", tenant_path(tenant, f"webhooks/{id}/calls"), Page[WebhookCall], state=state, cursor=cursor)


def replay_webhook(tenant: str, id: int, call: str | None) -> Call[int]:
    return repeatable(make_call("POST", tenant_path(tenant, f"webhooks/{id}/replay"), int, call=call))
