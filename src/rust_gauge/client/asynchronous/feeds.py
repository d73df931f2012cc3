"""`client.feeds`: Ways in for events."""

import builtins
from collections.abc import AsyncIterator

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import feeds as calls
from rust_gauge.contract.events import IntakeResult
from rust_gauge.contract.feeds import (
    Feed,
    FeedChange,
    FeedMapping,
    MadeFeed,
    MappingDryRun,
    MappingDryRunResult,
    NewFeed,
    RejectedRow,
    ReplayResult,
)


class Feeds(Part):
    """Ways in for events."""

    async def list(self, tenant: str) -> "builtins.list[Feed]":
        """All of a tenant, and how they go."""
        return (await self._client.send(calls.list_feeds(tenant))).items

    async def add(self, tenant: str, new: NewFeed) -> MadeFeed:
        """Open one; its `token` and `secret` are in this answer only."""
        return await self._client.send(calls.add_feed(tenant, new))

    async def get(self, tenant: str, name: str) -> Feed:
        """One of them."""
        return await self._client.send(calls.get_feed(tenant, name))

    async def update(self, tenant: str, name: str, change: FeedChange) -> Feed:
        """Change settings of a feed; what is left out stays."""
        return await self._client.send(calls.update_feed(tenant, name, change))

    async def delete(self, tenant: str, name: str) -> None:
        """Close it; what came by it stays."""
        await self._client.send(calls.delete_feed(tenant, name))

    def rejected_rows(self, tenant: str, name: str) -> AsyncIterator[RejectedRow]:
        """Rows that were rejected, newest first."""
        return self._client.pages(lambda cursor: calls.list_rejected_rows(tenant, name, cursor))

    async def replay(self, tenant: str, name: str, id: int | None = None) -> ReplayResult:
        """Try rejected rows again: one, or all."""
        return await self._client.send(calls.replay_rejected_rows(tenant, name, id))

    async def delete_rejected_rows(self, tenant: str, name: str) -> int:
        """Forget what was rejected. Gives how many rows."""
        return await self._client.send(calls.delete_rejected_rows(tenant, name))

    async def test_mapping(self, tenant: str, sample: str, mapping: FeedMapping | None = None) -> MappingDryRunResult:
        """Turn a sample into events, field by field; nothing is stored."""
        trial = MappingDryRun.model_construct(sample=sample, mapping=mapping)
        return await self._client.send(calls.try_mapping(tenant, trial))

    async def send(self, key: str, body: bytes, content_type: str = "application/x-ndjson") -> IntakeResult:
        """Hand a body to a feed, with its token as this client's. Safe to repeat."""
        return await self._client.send(calls.send_to_feed(key, body, content_type))

    async def send_to(self, tenant: str, name: str, body: bytes, content_type: str) -> IntakeResult:
        """Hand a body to a feed as somebody who may see the tenant. Safe to repeat."""
        return await self._client.send(calls.hand_to_feed(tenant, name, body, content_type))
