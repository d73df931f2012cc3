"""`client.relays`: Paths that mail leaves by."""

import builtins

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import relays as calls
from rust_gauge.contract.relays import Relay, RelayDescription


class Relays(Part):
    """Paths that mail leaves by."""

    async def list(self, tenant: str) -> "builtins.list[Relay]":
        """All relays, described or only seen in events."""
        return (await self._client.send(calls.list_relays(tenant))).items

    async def set(self, tenant: str, name: str, description: RelayDescription) -> Relay:
        """Say what a relay is, wants published and allows."""
        return await self._client.send(calls.set_relay(tenant, name, description))

    async def delete(self, tenant: str, name: str) -> None:
        """Forget what was said of a relay."""
        await self._client.send(calls.delete_relay(tenant, name))
