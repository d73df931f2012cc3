"""`client.watches`: how changes of records spread."""

import builtins
from collections.abc import Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import watches as calls
from rust_gauge.contract.watches import Watch, WatchRequest, WatchSettings


class Watches(Part):
    """Propagation watches: how changes of records spread."""

    async def start(self, tenant: str, name: str, keys: Sequence[str] = (), hours: int = 48) -> Watch:
        """Watch records of the plan (all without `keys`) until every server has them."""
        return await self._client.send(calls.start_watch(tenant, name, WatchRequest(keys=[*keys], hours=hours)))

    async def list(self, tenant: str, name: str) -> "builtins.list[Watch]":
        """Return the latest watches of a domain."""
        return (await self._client.send(calls.list_watches(tenant, name))).items

    async def get(self, tenant: str, id: int) -> Watch:
        """Return the state of a watch."""
        return await self._client.send(calls.get_watch(tenant, id))

    async def cancel(self, tenant: str, id: int) -> Watch:
        """Stop a watch. What it observed is kept."""
        return await self._client.send(calls.cancel_watch(tenant, id))

    async def recheck(self, tenant: str, id: int) -> Watch:
        """Re-check now instead of at the next scheduled time."""
        return await self._client.send(calls.recheck_watch(tenant, id))

    async def settings(self, tenant: str) -> WatchSettings:
        """Return the resolvers that watches ask."""
        return await self._client.send(calls.get_watch_settings(tenant))

    async def set_settings(self, tenant: str, settings: WatchSettings) -> WatchSettings:
        """Set the resolvers that watches ask beside the built-in ones."""
        return await self._client.send(calls.set_watch_settings(tenant, settings))
