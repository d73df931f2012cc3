"""What the owner of the installation manages: tenants, people, and what belongs to which tenant.

Owning the installation gives no access to a tenant's data; an owner who wants to see it becomes a member, which the
audit log shows.
"""

from datetime import datetime

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.people import (
    Assignment,
    Invitation,
    MadeInvitation,
    NewAssignment,
    NewInvitation,
    NewTenant,
    Person,
    Tenant,
    TenantSettings,
)
from rust_gauge.core.roles import Role
from rust_gauge.service.accounts import ownership, people, second_factor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import accounts, assignments, jobs, passkeys, sign_in, tenant_removal
from rust_gauge.store.accounts import AccountRow, Principal, TenantAccess, TenantRow
from rust_gauge.store.jobs import Job


def list_tenants(context: Context) -> list[Tenant]:
    def read(connection: Connection) -> list[Tenant]:
        return [
            Tenant(
                slug=row.slug, name=row.name, created_at=row.created_at, second_factor=row.second_factor,
                members=len(accounts.people_of(connection, row.id)),
            )
            for row in accounts.list_tenants(connection)
        ]  # fmt: skip

    return context.store.transaction(read)


def add_tenant(context: Context, principal: Principal, new: NewTenant) -> Tenant:
    """Add a tenant; whoever adds it becomes its admin. ServiceProblem `already-there`."""
    now = context.clock()

    def write(connection: Connection) -> None:
        if any(row.slug == new.slug for row in accounts.list_tenants(connection)):
            raise ServiceProblem("already-there", f"The tenant {new.slug} already exists", remedy="Choose another slug")
        tenant_id = accounts.add_tenant(connection, new.slug, new.name, now)
        accounts.grant(connection, principal.account_id, tenant_id, Role.ADMIN)

    context.store.transaction(write)
    return next(tenant for tenant in list_tenants(context) if tenant.slug == new.slug)


def delete_tenant(context: Context, slug: str, confirm: str) -> None:
    """Close a tenant; a job deletes its data. ServiceProblem `needs-confirmation` unless `confirm` is its slug."""
    now = context.clock()

    def write(connection: Connection) -> None:
        row = next((row for row in accounts.list_tenants(connection) if row.slug == slug), None)
        if row is None:
            raise unknown_name("The installation", "tenant", slug, [r.slug for r in accounts.list_tenants(connection)])
        if confirm != slug:
            raise ServiceProblem(
                "needs-confirmation", f"All data of {row.name} would be deleted", remedy=f"Repeat with confirm={slug}"
            )
        tenant_removal.close(connection, row.id)
        jobs.enqueue(connection, "tenant_removal", 0, row.id, now)

    context.store.transaction(write)


def run_removal(context: Context, job: Job) -> None:
    """Delete what is stored of a closed tenant; the worker does this. It can be done again from the beginning."""
    tenant_id = job.subject
    if not context.store.transaction(lambda c: tenant_removal.remaining(c, tenant_id)):
        return
    for table in tenant_removal.tables_of_tenants():
        more = True
        while more:
            more = context.store.transaction(lambda c, table=table: _delete_piece(c, job, table, context.clock()))  # type: ignore[misc]
    context.store.transaction(lambda c: tenant_removal.delete_tenant(c, tenant_id))


def _delete_piece(connection: Connection, job: Job, table: str, now: datetime) -> bool:
    jobs.renew(connection, job, now)
    return tenant_removal.is_whole_piece(tenant_removal.delete_piece(connection, table, job.subject))


def get_tenant_settings(context: Context, tenant: TenantAccess) -> TenantSettings:
    row = context.store.transaction(lambda c: next(row for row in accounts.list_tenants(c) if row.id == tenant.id))
    return TenantSettings(name=row.name, second_factor=row.second_factor)


def set_tenant_settings(
    context: Context, principal: Principal, tenant: TenantAccess, settings: TenantSettings
) -> TenantSettings:
    """Change a tenant's name, and whether it requires a second factor: only somebody who has one can require it."""
    if settings.second_factor and not tenant.second_factor and not principal.second_factor:
        raise ServiceProblem(
            "second-factor-required", "You would lock yourself out: you have not signed in with a second factor",
            remedy="Set up a second factor for your own account first",
        )  # fmt: skip
    context.store.transaction(
        lambda c: accounts.change_tenant(c, tenant.id, name=settings.name, second_factor=settings.second_factor)
    )
    return settings


# People


def list_people(context: Context) -> list[Person]:
    def read(connection: Connection) -> list[Person]:
        return [_person(connection, row) for row in accounts.list_accounts(connection)]

    return context.store.transaction(read)


def _person(connection: Connection, row: AccountRow) -> Person:
    principal = accounts.principal_of_account(connection, row.id)
    return Person(
        email=row.email, name=row.name, is_owner=row.is_owner,
        second_factor=row.code_confirmed or passkeys.count_passkeys(connection, row.id) > 0,
        created_at=row.created_at, tenants=[tenant.slug for tenant in principal.tenants] if principal else [],
    )  # fmt: skip


def get_person(context: Context, email: str) -> Person:
    return context.store.transaction(lambda c: _person(c, _account(c, email)))


def change_owner(context: Context, email: str, is_owner: bool) -> Person:
    """Make somebody an owner, or no longer. ServiceProblem `last-one` for the only owner."""

    def write(connection: Connection) -> Person:
        account = _account(connection, email)
        if not is_owner:
            _keep_an_owner(connection, account)
        accounts.change_account(connection, account.id, is_owner=is_owner)
        return _person(connection, _account(connection, email))

    return context.store.transaction(write)


def reset_second_factor(context: Context, email: str) -> None:
    """Turn a person's second factor off, for somebody who lost the device and the recovery codes. Ends all sessions."""

    def write(connection: Connection) -> None:
        account = _account(connection, email)
        second_factor.clear(connection, account.id)
        passkeys.delete_passkey(connection, account.id)
        sign_in.end_sessions(connection, account.id)

    context.store.transaction(write)


def delete_person(context: Context, email: str) -> None:
    """Delete an account with its sessions and tokens. ServiceProblem `last-one` for the only owner or admin."""

    def write(connection: Connection) -> None:
        account = _account(connection, email)
        _keep_an_owner(connection, account)
        principal = accounts.principal_of_account(connection, account.id)
        for tenant in principal.tenants if principal else ():
            accounts.lock_people(connection, tenant.id)
            if [row.email for row in accounts.people_of(connection, tenant.id) if row.role == Role.ADMIN] == [
                account.email
            ]:
                raise ServiceProblem(
                    "last-one", f"{account.email} is the only admin of {tenant.slug}",
                    remedy="Make somebody else an admin first",
                )  # fmt: skip
        accounts.delete_account(connection, account.id)

    context.store.transaction(write)


def _account(connection: Connection, email: str) -> AccountRow:
    found = accounts.find_account(connection, email.strip().lower())
    if found is None:
        raise unknown_name(
            "The installation", "person", email, [row.email for row in accounts.list_accounts(connection)]
        )
    return found


def _keep_an_owner(connection: Connection, account: AccountRow) -> None:
    if [row.id for row in accounts.owners(connection)] == [account.id]:
        raise ServiceProblem(
            "last-one", f"{account.email} is the only owner", remedy="Make somebody else an owner first"
        )


def invite_owner(context: Context, principal: Principal, new: NewInvitation) -> MadeInvitation:
    return people.invite(context, None, principal, new)


def list_invitations(context: Context) -> list[Invitation]:
    return people.list_invitations(context, None)


# What belongs to whom


def list_assignments(context: Context) -> list[Assignment]:
    rows = context.store.transaction(assignments.list_assignments)
    return [
        Assignment(
            kind=row.kind, value=row.value, tenant=row.tenant, assigned_at=row.assigned_at, assigned_by=row.assigned_by
        )
        for row in rows
    ]


def add_assignment(context: Context, principal: Principal, new: NewAssignment) -> Assignment:
    """Assign an address, domain, folder or host to a tenant. ServiceProblem `already-there` when it is another's."""
    value = ownership.normal(new.kind, new.value)
    now = context.clock()

    def write(connection: Connection) -> None:
        tenant = _tenant(connection, new.tenant)
        ownership.require_free(connection, new.kind, value, tenant.id)
        assignments.add_assignment(connection, new.kind, value, tenant.id, now, principal.email)

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem("already-there", f"{value} is assigned already") from None
    return next(each for each in list_assignments(context) if (each.kind, each.value) == (new.kind, value))


def _tenant(connection: Connection, slug: str) -> TenantRow:
    rows = accounts.list_tenants(connection)
    found = next((row for row in rows if row.slug == slug), None)
    if found is None:
        raise unknown_name("The installation", "tenant", slug, [row.slug for row in rows])
    return found


def delete_assignment(context: Context, kind: str, value: str) -> None:
    """Take an assignment back. Feeds that use it stop receiving."""
    normal = ownership.normal(kind, value)
    if not context.store.transaction(lambda c: assignments.delete_assignment(c, kind, normal)):
        raise ServiceProblem("not-found", f"{normal[:200]} is not assigned")
