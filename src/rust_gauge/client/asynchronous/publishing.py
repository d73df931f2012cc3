"""`client.publishing`: Plans published by dynamic update (RFC 2136)."""

import builtins
from collections.abc import Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import publishing as calls
from rust_gauge.contract.publishing import NewUpdateServer, Publication, UpdateServer, ZoneChange, ZoneChangeRequest


class Publishing(Part):
    """Plans published by dynamic update (RFC 2136)."""

    async def servers(self, tenant: str) -> "builtins.list[UpdateServer]":
        """Where zones are changed."""
        return (await self._client.send(calls.list_update_servers(tenant))).items

    async def set_server(self, tenant: str, zone: str, new: NewUpdateServer) -> UpdateServer:
        """Keep where a zone is changed, and the key. The secret is never given back."""
        return await self._client.send(calls.set_update_server(tenant, zone, new))

    async def delete_server(self, tenant: str, zone: str) -> None:
        """Forget a server and its key."""
        await self._client.send(calls.delete_update_server(tenant, zone))

    async def preview(self, tenant: str, name: str, keys: Sequence[str] = ()) -> ZoneChange:
        """Exactly what would change in the zone."""
        return await self._client.send(calls.preview_publication(tenant, name, ZoneChangeRequest(keys=[*keys])))

    async def apply(self, tenant: str, name: str, digest: str, keys: Sequence[str] = ()) -> Publication:
        """Make the change that was shown (by its digest), and look whether it is there."""
        return await self._client.send(
            calls.add_publication(tenant, name, ZoneChangeRequest(keys=[*keys], digest=digest))
        )

    async def list(self, tenant: str, name: str) -> "builtins.list[Publication]":
        """Return the changes that were made for a domain, newest first."""
        return (await self._client.send(calls.list_publications(tenant, name))).items

    async def roll_back(self, tenant: str, id: int) -> Publication:
        """Put everything back as it was, if nobody changed it since."""
        return await self._client.send(calls.roll_back_publication(tenant, id))
