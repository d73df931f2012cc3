"""Calls of `client.people` and `client.installation`."""

from datetime import datetime
from typing import Any
from urllib.parse import quote

from rust_gauge.client.calls.call import Call, make_call, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.people import (
    Assignment,
    AuditEntry,
    ChainCheck,
    Invitation,
    InvitationSecret,
    InvitationView,
    MadeInvitation,
    Member,
    NewAssignment,
    NewInvitation,
    NewTenant,
    OwnerChange,
    Person,
    RoleChange,
    Tenant,
    TenantSettings,
)


def list_members(tenant: str) -> Call[Page[Member]]:
    return make_call("GET", tenant_path(tenant, "members"), Page[Member])


def change_role(tenant: str, email: str, change: RoleChange) -> Call[Member]:
    return make_call("PUT", tenant_path(tenant, f"members/{quote(email, safe='')}"), Member, change)


def remove_member(tenant: str, email: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"members/{quote(email, safe='')}"), type(None))


def list_invitations(tenant: str | None) -> Call[Page[Invitation]]:
    return make_call("GET", _of(tenant, "invitations"), Page[Invitation])


def invite(tenant: str | None, new: NewInvitation) -> Call[MadeInvitation]:
    return make_call("POST", _of(tenant, "invitations"), MadeInvitation, new)


def delete_invitation(tenant: str | None, id: int) -> Call[None]:
    return make_call("DELETE", _of(tenant, f"invitations/{id}"), type(None))


def look_at_invitation(secret: str) -> Call[InvitationView]:
    return make_call("POST", "/invitations/view", InvitationView, InvitationSecret(secret=secret))


def get_settings(tenant: str) -> Call[TenantSettings]:
    return make_call("GET", tenant_path(tenant, "settings"), TenantSettings)


def set_settings(tenant: str, settings: TenantSettings) -> Call[TenantSettings]:
    return make_call("PUT", tenant_path(tenant, "settings"), TenantSettings, settings)


def list_audit_log(tenant: str | None, query: dict[str, Any]) -> Call[Page[AuditEntry]]:
    return make_call("GET", _of(tenant, "audit-log"), Page[AuditEntry], **query)


def check_audit_log() -> Call[ChainCheck]:
    return make_call("GET", "/installation/audit-log/check", ChainCheck)


def list_tenants() -> Call[Page[Tenant]]:
    return make_call("GET", "/installation/tenants", Page[Tenant])


def delete_tenant(slug: str) -> Call[None]:
    return make_call("DELETE", f"/installation/tenants/{quote(slug, safe='')}", type(None), confirm=slug)


def add_tenant(new: NewTenant) -> Call[Tenant]:
    return make_call("POST", "/installation/tenants", Tenant, new)


def list_people() -> Call[Page[Person]]:
    return make_call("GET", "/installation/people", Page[Person])


def change_owner(email: str, change: OwnerChange) -> Call[Person]:
    return make_call("PUT", _person(email), Person, change)


def delete_person(email: str) -> Call[None]:
    return make_call("DELETE", _person(email), type(None))


def reset_second_factor(email: str) -> Call[None]:
    return make_call("POST", f"{_person(email)}/second-factor-reset", type(None))


def list_assignments() -> Call[Page[Assignment]]:
    return make_call("GET", "/installation/assignments", Page[Assignment])


def add_assignment(new: NewAssignment) -> Call[Assignment]:
    return make_call("POST", "/installation/assignments", Assignment, new)


def delete_assignment(kind: str, value: str) -> Call[None]:
    return make_call("DELETE", "/installation/assignments", type(None), kind=kind, value=value)


def audit_query(account: str, action: str, text: str, since: datetime | None, until: datetime | None) -> dict[str, Any]:
    """Return a filter of the audit log as query parameters."""
    query = {"account": account, "action": action, "text": text}
    times = {"since": since, "until": until}
    found: dict[str, Any] = {name: value for name, value in query.items() if value}
    return found | {name: time.isoformat() for name, time in times.items() if time is not None}


def _of(tenant: str | None, rest: str) -> str:
    return f"/installation/{rest}" if tenant is None else tenant_path(tenant, rest)


def _person(email: str) -> str:
    return f"/installation/people/{quote(email, safe='')}"
