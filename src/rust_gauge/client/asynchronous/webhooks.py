"""`client.webhooks`: Where the service tells what happened."""

import builtins
from collections.abc import AsyncIterator, Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import webhooks as calls
from rust_gauge.contract.webhooks import MadeWebhook, NewWebhook, Webhook, WebhookCall, WebhookChange


class Webhooks(Part):
    """Where the service tells what happened."""

    async def list(self, tenant: str) -> "builtins.list[Webhook]":
        """All of a tenant, and how their calls go."""
        return (await self._client.send(calls.list_webhooks(tenant))).items

    async def add(self, tenant: str, name: str, url: str, subjects: Sequence[str] = ()) -> MadeWebhook:
        """Tell an address what happens; `secret` is in this answer only. Without subjects it is told everything."""
        new = NewWebhook.model_construct(name=name, url=url, subjects=[*subjects])  # type: ignore[list-item]
        return await self._client.send(calls.add_webhook(tenant, new))

    async def update(self, tenant: str, id: int, change: WebhookChange) -> Webhook:
        """Change settings of a webhook; what is left out stays."""
        return await self._client.send(calls.update_webhook(tenant, id, change))

    async def delete(self, tenant: str, id: int) -> None:
        """Forget it and its calls."""
        await self._client.send(calls.delete_webhook(tenant, id))

    async def test(self, tenant: str, id: int) -> WebhookCall:
        """Call it now with a message that says nothing."""
        return await self._client.send(calls.test_webhook(tenant, id))

    def calls(self, tenant: str, id: int, *, state: str | None = None) -> AsyncIterator[WebhookCall]:
        """Newest first."""
        return self._client.pages(lambda cursor: calls.list_webhook_calls(tenant, id, state, cursor))

    async def replay(self, tenant: str, id: int, call: str | None = None) -> int:
        """Try calls that were given up anew: one, or all. Gives how many."""
        return await self._client.send(calls.replay_webhook(tenant, id, call))
