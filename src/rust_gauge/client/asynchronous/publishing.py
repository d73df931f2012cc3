"""`client.publishing`: Plans published by dynamic update (RFC 2136)."""

import builtins
from collections.abc import Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import publishing as calls
from rust_gauge.contract.publishing import NewUpdateServer, Publication, UpdateServer, ZoneChange, ZoneChangeRequest


class Publishing(Part):
    """Plans published by dynamic update (RFC 2136)."""

    async def servers(self, tenant: str) -> "builtins.list[UpdateServer]":
        """Return the zones that can be changed."""
        return (await self._client.send(calls.list_update_servers(tenant))).items

    async def set_server(self, tenant: str, zone: str, new: NewUpdateServer) -> UpdateServer:
        """Store the server of a zone and its key. The key's secret is never returned."""
        return await self._client.send(calls.set_update_server(tenant, zone, new))

    async def delete_server(self, tenant: str, zone: str) -> None:
        """Delete a server and its key."""
        await self._client.send(calls.delete_update_server(tenant, zone))

    async def preview(self, tenant: str, name: str, keys: Sequence[str] = ()) -> ZoneChange:
        """Preview exactly what would change in the zone."""
        return await self._client.send(calls.preview_publication(tenant, name, ZoneChangeRequest(keys=[*keys])))

    async def apply(self, tenant: str, name: str, digest: str, keys: Sequence[str] = ()) -> Publication:
        """Publish the previewed change (named by its digest), and check the result."""
        return await self._client.send(
            calls.add_publication(tenant, name, ZoneChangeRequest(keys=[*keys], digest=digest))
        )

    async def list(self, tenant: str, name: str) -> "builtins.list[Publication]":
        """Return the changes published for a domain, newest first."""
        return (await self._client.send(calls.list_publications(tenant, name))).items

    async def roll_back(self, tenant: str, id: int) -> Publication:
        """Restore what was there before a change, unless somebody changed it since."""
        return await self._client.send(calls.roll_back_publication(tenant, id))
