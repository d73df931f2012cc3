"""`client.watches`: How changes of records spread."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

import builtins
from collections.abc import Sequence

from rust_gauge.client.calls import watches as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.watches import Watch, WatchRequest, WatchSettings


class Watches(Part):
    """How changes of records spread."""

    def start(self, tenant: str, name: str, keys: Sequence[str] = (), hours: int = 48) -> Watch:
        """Watch records of the plan (all without `keys`) until every server has them."""
        return self._client.send(calls.start_watch(tenant, name, WatchRequest(keys=[*keys], hours=hours)))

    def list(self, tenant: str, name: str) -> "builtins.list[Watch]":
        """Return the newest watches of a domain."""
        return (self._client.send(calls.list_watches(tenant, name))).items

    def get(self, tenant: str, id: int) -> Watch:
        """How it stands."""
        return self._client.send(calls.get_watch(tenant, id))

    def cancel(self, tenant: str, id: int) -> Watch:
        """Stop it; what it saw stays."""
        return self._client.send(calls.cancel_watch(tenant, id))

    def recheck(self, tenant: str, id: int) -> Watch:
        """Look now in place of at the next time."""
        return self._client.send(calls.recheck_watch(tenant, id))

    def settings(self, tenant: str) -> WatchSettings:
        """Whom watches ask."""
        return self._client.send(calls.get_watch_settings(tenant))

    def set_settings(self, tenant: str, settings: WatchSettings) -> WatchSettings:
        """Choose whom watches ask beside those of the service."""
        return self._client.send(calls.set_watch_settings(tenant, settings))
