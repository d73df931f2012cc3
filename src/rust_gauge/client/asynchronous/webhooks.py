"""`client.webhooks`: addresses that the service calls when something happens."""

import builtins
from collections.abc import AsyncIterator, Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import webhooks as calls
from rust_gauge.contract.webhooks import MadeWebhook, NewWebhook, Webhook, WebhookCall, WebhookChange


class Webhooks(Part):
    """Webhooks: addresses that the service calls when something happens."""

    async def list(self, tenant: str) -> "builtins.list[Webhook]":
        """Return a tenant's webhooks and the state of their calls."""
        return (await self._client.send(calls.list_webhooks(tenant))).items

    async def add(self, tenant: str, name: str, url: str, subjects: Sequence[str] = ()) -> MadeWebhook:
        """Add a webhook. Its `secret` is in this answer only. Without subjects, it is called for all of them."""
        new = NewWebhook.model_construct(name=name, url=url, subjects=[*subjects])  # type: ignore[list-item]
        return await self._client.send(calls.add_webhook(tenant, new))

    async def update(self, tenant: str, id: int, change: WebhookChange) -> Webhook:
        """Change settings of a webhook. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_webhook(tenant, id, change))

    async def delete(self, tenant: str, id: int) -> None:
        """Delete a webhook and its calls."""
        await self._client.send(calls.delete_webhook(tenant, id))

    async def rotate_secret(self, tenant: str, id: int, *, overlap_hours: int = 24) -> MadeWebhook:
        """Give a webhook a new secret. Calls are signed with the one before as well, for a while."""
        return await self._client.send(calls.rotate_webhook_secret(tenant, id, overlap_hours))

    async def test(self, tenant: str, id: int) -> WebhookCall:
        """Send a test message now."""
        return await self._client.send(calls.test_webhook(tenant, id))

    def calls(self, tenant: str, id: int, *, state: str | None = None) -> AsyncIterator[WebhookCall]:
        """Yield calls, newest first."""
        return self._client.pages(lambda cursor: calls.list_webhook_calls(tenant, id, state, cursor))

    async def replay(self, tenant: str, id: int, call: str | None = None) -> int:
        """Retry calls that were given up, one or all, and return how many."""
        return await self._client.send(calls.replay_webhook(tenant, id, call))
