"""`client.feeds`: sources of events."""

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
    """Feeds: sources of events."""

    async def list(self, tenant: str) -> "builtins.list[Feed]":
        """Return a tenant's feeds and their state."""
        return (await self._client.send(calls.list_feeds(tenant))).items

    async def add(self, tenant: str, new: NewFeed) -> MadeFeed:
        """Add a feed. Its `token` and `secret` are in this answer only."""
        return await self._client.send(calls.add_feed(tenant, new))

    async def get(self, tenant: str, name: str) -> Feed:
        """Return one feed."""
        return await self._client.send(calls.get_feed(tenant, name))

    async def update(self, tenant: str, name: str, change: FeedChange) -> Feed:
        """Change settings of a feed. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_feed(tenant, name, change))

    async def delete(self, tenant: str, name: str) -> None:
        """Remove a feed. Events that came through it are kept."""
        await self._client.send(calls.delete_feed(tenant, name))

    def rejected_rows(self, tenant: str, name: str) -> AsyncIterator[RejectedRow]:
        """Yield rejected rows, newest first."""
        return self._client.pages(lambda cursor: calls.list_rejected_rows(tenant, name, cursor))

    async def replay(self, tenant: str, name: str, id: int | None = None) -> ReplayResult:
        """Retry rejected rows: one, or all."""
        return await self._client.send(calls.replay_rejected_rows(tenant, name, id))

    async def delete_rejected_rows(self, tenant: str, name: str) -> int:
        """Delete rejected rows and return how many they were."""
        return await self._client.send(calls.delete_rejected_rows(tenant, name))

    async def test_mapping(self, tenant: str, sample: str, mapping: FeedMapping | None = None) -> MappingDryRunResult:
        """Turn a sample into events, field by field. Nothing is stored."""
        trial = MappingDryRun.model_construct(sample=sample, mapping=mapping)
        return await self._client.send(calls.try_mapping(tenant, trial))

    async def send(self, key: str, body: bytes, content_type: str = "application/x-ndjson") -> IntakeResult:
        """Send a body to a feed, with the feed's token as this client's. Safe to repeat."""
        return await self._client.send(calls.send_to_feed(key, body, content_type))

    async def send_to(self, tenant: str, name: str, body: bytes, content_type: str) -> IntakeResult:
        """Upload a body to a feed as a user of the tenant. Safe to repeat."""
        return await self._client.send(calls.hand_to_feed(tenant, name, body, content_type))
