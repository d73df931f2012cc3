"""`client.people`: members of a tenant, invitations, the tenant's settings and its audit log."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Iterator, Sequence
from datetime import datetime

from rust_gauge.client.calls import people as calls
from rust_gauge.client.calls.people import audit_query
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.people import (
    AuditEntry,
    Invitation,
    InvitationView,
    MadeInvitation,
    Member,
    NewInvitation,
    RoleChange,
    TenantSettings,
)
from rust_gauge.contract.session import Role


class People(Part):
    """People of a tenant."""

    def list(self, tenant: str) -> Sequence[Member]:
        """Return who may see the tenant."""
        return (self._client.send(calls.list_members(tenant))).items

    def change_role(self, tenant: str, email: str, role: Role) -> Member:
        """Give a member another role."""
        return self._client.send(calls.change_role(tenant, email, RoleChange(role=role)))

    def remove(self, tenant: str, email: str) -> None:
        """Take a member's access away."""
        self._client.send(calls.remove_member(tenant, email))

    def invitations(self, tenant: str) -> Sequence[Invitation]:
        """Return invitations that can still be accepted."""
        return (self._client.send(calls.list_invitations(tenant))).items

    def invite(self, tenant: str, email: str, role: Role = "viewer", *, relay: str = "") -> MadeInvitation:
        """Invite somebody by mail; without a mail relay the link is in the answer."""
        new = NewInvitation(email=email, role=role, relay=relay)
        return self._client.send(calls.invite(tenant, new))

    def withdraw(self, tenant: str, id: int) -> None:
        """Withdraw an invitation."""
        self._client.send(calls.delete_invitation(tenant, id))

    def look_at(self, secret: str) -> InvitationView:
        """Return what the link of an invitation is for."""
        return self._client.send(calls.look_at_invitation(secret))

    def settings(self, tenant: str) -> TenantSettings:
        """Return the tenant's name and whether it requires a second factor."""
        return self._client.send(calls.get_settings(tenant))

    def set_settings(self, tenant: str, settings: TenantSettings) -> TenantSettings:
        """Change the tenant's name, and whether it requires a second factor."""
        return self._client.send(calls.set_settings(tenant, settings))

    def audit_log(
        self, tenant: str, *, account: str = "", action: str = "", text: str = "", since: datetime | None = None,
        until: datetime | None = None,
    ) -> Iterator[AuditEntry]:  # fmt: skip
        """Yield who did what in the tenant, the newest first."""
        query = audit_query(account, action, text, since, until)
        return self._client.pages(lambda cursor: calls.list_audit_log(tenant, {**query, "cursor": cursor}))
