"""`client.publishing`: Plans published by dynamic update (RFC 2136)."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

import builtins
from collections.abc import Sequence

from rust_gauge.client.calls import publishing as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.publishing import NewUpdateServer, Publication, UpdateServer, ZoneChange, ZoneChangeRequest


class Publishing(Part):
    """Plans published by dynamic update (RFC 2136)."""

    def servers(self, tenant: str) -> "builtins.list[UpdateServer]":
        """Return the zones that can be changed."""
        return (self._client.send(calls.list_update_servers(tenant))).items

    def set_server(self, tenant: str, zone: str, new: NewUpdateServer) -> UpdateServer:
        """Store the server of a zone and its key. The key's secret is never returned."""
        return self._client.send(calls.set_update_server(tenant, zone, new))

    def delete_server(self, tenant: str, zone: str) -> None:
        """Delete a server and its key."""
        self._client.send(calls.delete_update_server(tenant, zone))

    def preview(self, tenant: str, name: str, keys: Sequence[str] = ()) -> ZoneChange:
        """Preview exactly what would change in the zone."""
        return self._client.send(calls.preview_publication(tenant, name, ZoneChangeRequest(keys=[*keys])))

    def apply(self, tenant: str, name: str, digest: str, keys: Sequence[str] = ()) -> Publication:
        """Publish the previewed change (named by its digest), and check the result."""
        return self._client.send(calls.add_publication(tenant, name, ZoneChangeRequest(keys=[*keys], digest=digest)))

    def list(self, tenant: str, name: str) -> "builtins.list[Publication]":
        """Return the changes published for a domain, newest first."""
        return (self._client.send(calls.list_publications(tenant, name))).items

    def roll_back(self, tenant: str, id: int) -> Publication:
        """Restore what was there before a change, unless somebody changed it since."""
        return self._client.send(calls.roll_back_publication(tenant, id))
