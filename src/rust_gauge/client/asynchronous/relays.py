"""`client.relays`: paths by which mail leaves."""

import builtins

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import relays as calls
from rust_gauge.contract.relays import Relay, RelayDescription, RelayUsage


class Relays(Part):
    """Relays: paths by which mail leaves."""

    async def list(self, tenant: str) -> "builtins.list[Relay]":
        """Return all relays, described or only seen in events."""
        return (await self._client.send(calls.list_relays(tenant))).items

    async def set(self, tenant: str, name: str, description: RelayDescription) -> Relay:
        """Describe a relay: what it is, which records it needs, what it allows."""
        return await self._client.send(calls.set_relay(tenant, name, description))

    async def delete(self, tenant: str, name: str) -> None:
        """Delete the description of a relay."""
        await self._client.send(calls.delete_relay(tenant, name))

    async def usage(self, tenant: str, name: str, *, days: int = 7) -> RelayUsage:
        """Return how far the limits of a relay are used, when they were hit, and what is not proven there."""
        return await self._client.send(calls.get_usage(tenant, name, days))
