"""Names of providers, domains and streams, as a tenant calls them."""

from sqlalchemy import Connection

from rust_gauge.core.suppression import Scope
from rust_gauge.store import holding as store_holding
from rust_gauge.store import providers


class Names:
    """Names of providers, domains and streams, as the tenant calls them."""

    def __init__(self, connection: Connection, tenant_id: int) -> None:
        self._connection = connection
        self._labels = providers.labels(connection, tenant_id)
        self._providers: dict[int, str] = {}
        domains, streams = store_holding.ids_of(connection, tenant_id)
        self.domains, self.streams = domains, streams
        self._reached = {(Scope.DOMAIN, id): name for name, id in domains.items()}
        self._reached |= {(Scope.STREAM, id): name for name, id in streams.items()}

    def reached(self, scope: Scope, id: int) -> str:
        return self._reached.get((scope, id), "")

    def provider(self, id: int) -> str:
        """Its registered domain; empty where it was never looked up."""
        if id and id not in self._providers:
            self._providers |= providers.names(self._connection, [id])
        return self._providers.get(id, "")

    def label(self, id: int) -> str:
        return self._labels.get(id) or self.provider(id)
