"""`client.domains`: Sending domains."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Iterator, Sequence

from rust_gauge.client.calls import domains as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain


class Domains(Part):
    """Sending domains."""

    def list(self, tenant: str, *, search: str = "") -> Iterator[Domain]:
        """Yield the tenant's sending domains by name; `search`: a part of it."""
        return self._client.pages(lambda cursor: calls.list_domains(tenant, search, cursor))

    def get(self, tenant: str, name: str) -> Domain:
        """Return one domain. NotFoundError if the tenant does not have it."""
        return self._client.send(calls.get_domain(tenant, name))

    def add(self, tenant: str, name: str, *, selectors: Sequence[str] = ()) -> Domain:
        """Add a domain. AlreadyThereError if the tenant has it, InvalidInputError if it is not a domain name."""
        # Not validated here, so that the reason comes from one place: the service.
        new = NewDomain.model_construct(name=name, selectors=[*selectors])
        return self._client.send(calls.add_domain(tenant, new))

    def update(self, tenant: str, name: str, change: DomainChange) -> Domain:
        """Change settings of a domain. Settings that are left out stay unchanged."""
        return self._client.send(calls.update_domain(tenant, name, change))

    def delete(self, tenant: str, name: str) -> None:
        """Stop auditing a domain. Its past audits are kept."""
        self._client.send(calls.delete_domain(tenant, name))
