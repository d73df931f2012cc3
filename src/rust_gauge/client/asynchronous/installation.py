"""`client.installation`: what an owner of the installation manages."""

from collections.abc import AsyncIterator, Sequence
from datetime import datetime

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import people as calls
from rust_gauge.client.calls.people import audit_query
from rust_gauge.contract.people import (
    Assignment,
    AssignmentKind,
    AuditEntry,
    ChainCheck,
    Invitation,
    MadeInvitation,
    NewAssignment,
    NewInvitation,
    NewTenant,
    OwnerChange,
    Person,
    Tenant,
)


class Installation(Part):
    """Tenants, people, assignments and the audit log of the whole installation."""

    async def tenants(self) -> Sequence[Tenant]:
        """Return all tenants."""
        return (await self._client.send(calls.list_tenants())).items

    async def add_tenant(self, slug: str, name: str) -> Tenant:
        """Add a tenant; you become its admin."""
        return await self._client.send(calls.add_tenant(NewTenant(slug=slug, name=name)))

    async def delete_tenant(self, slug: str) -> None:
        """Delete a tenant with all its data. There is no way back."""
        await self._client.send(calls.delete_tenant(slug))

    async def people(self) -> Sequence[Person]:
        """Return all accounts."""
        return (await self._client.send(calls.list_people())).items

    async def change_owner(self, email: str, is_owner: bool) -> Person:
        """Make somebody an owner, or no longer."""
        return await self._client.send(calls.change_owner(email, OwnerChange(is_owner=is_owner)))

    async def delete_person(self, email: str) -> None:
        """Delete an account with its sessions and tokens."""
        await self._client.send(calls.delete_person(email))

    async def reset_second_factor(self, email: str) -> None:
        """Turn off the second factor of somebody who has lost it."""
        await self._client.send(calls.reset_second_factor(email))

    async def invitations(self) -> Sequence[Invitation]:
        """Return invitations to own the installation."""
        return (await self._client.send(calls.list_invitations(None))).items

    async def invite(self, email: str, *, relay: str = "") -> MadeInvitation:
        """Invite somebody to own the installation."""
        return await self._client.send(calls.invite(None, NewInvitation(email=email, relay=relay)))

    async def withdraw(self, id: int) -> None:
        """Withdraw an invitation to own the installation."""
        await self._client.send(calls.delete_invitation(None, id))

    async def assignments(self) -> Sequence[Assignment]:
        """Return what belongs to which tenant."""
        return (await self._client.send(calls.list_assignments())).items

    async def assign(self, kind: AssignmentKind, value: str, tenant: str) -> Assignment:
        """Assign an address, a domain, a folder or a host to a tenant."""
        return await self._client.send(calls.add_assignment(NewAssignment(kind=kind, value=value, tenant=tenant)))

    async def unassign(self, kind: AssignmentKind, value: str) -> None:
        """Take an assignment back."""
        await self._client.send(calls.delete_assignment(kind, value))

    def audit_log(
        self, *, account: str = "", action: str = "", text: str = "", since: datetime | None = None,
        until: datetime | None = None,
    ) -> AsyncIterator[AuditEntry]:  # fmt: skip
        """Yield who did what in the installation, the newest first."""
        query = audit_query(account, action, text, since, until)
        return self._client.pages(lambda cursor: calls.list_audit_log(None, {**query, "cursor": cursor}))

    async def check_audit_log(self) -> ChainCheck:
        """Check that the audit log is complete and unchanged."""
        return await self._client.send(calls.check_audit_log())
