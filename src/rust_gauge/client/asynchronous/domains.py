"""`client.domains`: Sending domains."""

from collections.abc import AsyncIterator, Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import domains as calls
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain


class Domains(Part):
    """Sending domains."""

    def list(self, tenant: str, *, search: str = "") -> AsyncIterator[Domain]:
        """Yield the tenant's sending domains by name; `search`: a part of it."""
        return self._client.pages(lambda cursor: calls.list_domains(tenant, search, cursor))

    async def get(self, tenant: str, name: str) -> Domain:
        """Return one domain. NotFoundError if the tenant does not have it."""
        return await self._client.send(calls.get_domain(tenant, name))

    async def add(self, tenant: str, name: str, *, selectors: Sequence[str] = ()) -> Domain:
        """Add a domain. AlreadyThereError if the tenant has it, InvalidInputError if it is not a domain name."""
        # Not validated here, so that the reason comes from one place: the service.
        new = NewDomain.model_construct(name=name, selectors=[*selectors])
        return await self._client.send(calls.add_domain(tenant, new))

    async def update(self, tenant: str, name: str, change: DomainChange) -> Domain:
        """Change settings of a domain. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_domain(tenant, name, change))

    async def delete(self, tenant: str, name: str) -> None:
        """Stop auditing a domain. Its past audits are kept."""
        await self._client.send(calls.delete_domain(tenant, name))
