"""People of a tenant: members with their roles, and invitations by a one-time link."""

import secrets
from datetime import timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.people import (
    Acceptance,
    Invitation,
    InvitationView,
    MadeInvitation,
    Member,
    NewInvitation,
)
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.roles import Role
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.service.accounts.passwords import check_password, hash_password
from rust_gauge.service.accounts.sessions import check_credentials, open_session
from rust_gauge.service.runtime.audit_log import record
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import relay_of, send_mail
from rust_gauge.service.runtime.principals import digest
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import accounts, invitations
from rust_gauge.store.accounts import AccountRow, Principal, TenantAccess
from rust_gauge.store.invitations import InvitationRow

VALID = timedelta(days=7)
OWNER = "owner"
_MOST_WAITING = 100  # invitations of one tenant


def list_members(context: Context, tenant: TenantAccess) -> list[Member]:
    """Who may see a tenant, and can be assigned its items."""
    rows = context.store.transaction(lambda c: accounts.people_of(c, tenant.id))
    return [Member(email=row.email, name=row.name, role=row.role, second_factor=row.second_factor) for row in rows]


def change_role(context: Context, tenant: TenantAccess, email: str, role: Role) -> Member:
    """Give a member another role. ServiceProblem `needs-confirmation` for the last admin."""

    def write(connection: Connection) -> None:
        account = _member(connection, tenant, email)
        if role is not Role.ADMIN:
            _keep_an_admin(connection, tenant, account.email)
        accounts.grant(connection, account.id, tenant.id, role)

    context.store.transaction(write)
    return next(member for member in list_members(context, tenant) if member.email == email.strip().lower())


def remove_member(context: Context, tenant: TenantAccess, email: str) -> None:
    """Take a member's access away: it ends with their next request. The account stays."""

    def write(connection: Connection) -> None:
        account = _member(connection, tenant, email)
        _keep_an_admin(connection, tenant, account.email)
        accounts.revoke(connection, account.id, tenant.id)

    context.store.transaction(write)


def _member(connection: Connection, tenant: TenantAccess, email: str) -> AccountRow:
    accounts.lock_people(connection, tenant.id)
    members = {row.email: row for row in accounts.people_of(connection, tenant.id)}
    account = accounts.find_account(connection, email.strip().lower())
    if account is None or account.email not in members:
        raise unknown_name(tenant.name, "member", email, members)
    return account


def _keep_an_admin(connection: Connection, tenant: TenantAccess, but: str) -> None:
    admins = [row.email for row in accounts.people_of(connection, tenant.id) if row.role == Role.ADMIN]
    if admins == [but]:
        raise ServiceProblem(
            "last-one", f"{but} is the only admin of {tenant.slug}", remedy="Make somebody else an admin first"
        )


# Invitations


def invite(context: Context, tenant: TenantAccess | None, by: Principal | None, new: NewInvitation) -> MadeInvitation:
    """Invite somebody to a tenant, or (without one) to own the installation. The link goes by mail where that works."""
    email = _address(new.email)
    now, secret = context.clock(), secrets.token_urlsafe(32)
    role = new.role if tenant else OWNER
    inviter = by.email if by else "the installation"
    values = {
        "tenant_id": tenant.id if tenant else None, "email": email, "role": role, "invited_by": inviter,
        "created_at": now, "expires_at": now + VALID,
    }  # fmt: skip

    def write(connection: Connection) -> int:
        if tenant is not None:
            if email in {row.email for row in accounts.people_of(connection, tenant.id)}:
                raise ServiceProblem(
                    "already-there", f"{email} is a member of {tenant.slug}", remedy="Change the role instead"
                )
            if len(invitations.list_invitations(connection, tenant.id, now)) >= _MOST_WAITING:
                raise ServiceProblem("too-large", f"{_MOST_WAITING} invitations wait, the limit", remedy="Delete some")
        return invitations.put_invitation(connection, digest(secret), **values)

    id = context.store.transaction(write)
    link = f"{context.settings.base_url}/join#{secret}"
    sent, problem = _send(context, tenant, email, link, inviter, new.relay)
    return MadeInvitation(
        id=id, email=email, role=role, invited_by=inviter, created_at=now, expires_at=now + VALID,
        sent=sent, link="" if sent else link, problem=problem,
    )  # fmt: skip


def first_owner_link(context: Context) -> str:
    """Return a one-time link that creates the first owner, who chooses the address. It replaces one made before."""
    now, secret = context.clock(), secrets.token_urlsafe(32)
    values = {
        "tenant_id": None,
        "email": "",
        "role": OWNER,
        "invited_by": "",
        "created_at": now,
        "expires_at": now + VALID,
    }
    context.store.transaction(lambda c: invitations.put_invitation(c, digest(secret), **values))
    return f"{context.settings.base_url}/join#{secret}"


def _address(text: str) -> str:
    try:
        return str(parse_address(text)).lower()
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None


def _send(
    context: Context, tenant: TenantAccess | None, email: str, link: str, by: str, relay: str
) -> tuple[bool, str]:
    """Return whether a message was sent, and why not."""
    message = EmailMessage()
    message["From"] = f"Rust Gauge <{context.settings.mail_from}>"
    message["To"] = email
    message["Subject"] = f"Invitation to {tenant.name if tenant else 'Rust Gauge'}"
    message["Date"] = format_datetime(context.clock())
    message["Message-ID"] = make_msgid(domain=context.settings.mail_from.rpartition("@")[2])
    message["Auto-Submitted"] = "auto-generated"
    what = f"to work on {tenant.name} in Rust Gauge" if tenant else "to own this installation of Rust Gauge"
    message.set_content(
        f"{by} invites you {what}.\n\nTo accept, open this page:\n\n    {link}\n\n"
        f"The link is valid for {VALID.days} days and works once. If you did not expect this message, ignore it.\n"
    )
    try:
        relay_of(context.settings, relay)
        send_mail(context.settings, message, email, relay)
    except ServiceProblem as problem:
        if problem.kind.slug == "invalid-request":
            raise
        return False, problem.detail
    except MailNotSent as error:
        return False, str(error)
    return True, ""


def list_invitations(context: Context, tenant: TenantAccess | None) -> list[Invitation]:
    """Invitations that can still be accepted."""
    now = context.clock()
    rows = context.store.transaction(lambda c: invitations.list_invitations(c, tenant.id if tenant else None, now))
    return [
        Invitation(
            id=row.id,
            email=row.email,
            role=row.role,
            invited_by=row.invited_by,
            created_at=row.created_at,
            expires_at=row.expires_at,
        )
        for row in rows
    ]


def delete_invitation(context: Context, tenant: TenantAccess | None, id: int) -> None:
    """Withdraw an invitation: its link stops working."""
    if not context.store.transaction(lambda c: invitations.delete_invitation(c, tenant.id if tenant else None, id)):
        raise ServiceProblem("not-found", f"Invitation {id} not found")


def look_at(context: Context, secret: str) -> InvitationView:
    """What a link is for. ServiceProblem `not-found` when it was used, withdrawn, or has expired."""
    now = context.clock()

    def read(connection: Connection) -> InvitationView:
        row = _found(invitations.find_invitation(connection, digest(secret), now))
        tenant = accounts.tenant_of(connection, row.tenant_id) if row.tenant_id else None
        return InvitationView(
            email=row.email, role=row.role, tenant=tenant.slug if tenant else "",
            tenant_name=tenant.name if tenant else "", invited_by=row.invited_by, expires_at=row.expires_at,
            has_account=accounts.find_account(connection, row.email) is not None,
        )  # fmt: skip

    return context.store.transaction(read)


def _found(row: InvitationRow | None) -> InvitationRow:
    if row is None:
        raise ServiceProblem(
            "not-found", "This invitation was used, withdrawn, or has expired", remedy="Ask for a new one"
        )
    return row


def accept(context: Context, given: Acceptance, *, address: str = "", agent: str = "") -> tuple[str, Principal]:
    """Accept an invitation with a new account, or with the password of the one there is; opens a session."""
    view = look_at(context, given.secret)
    email = view.email or _address(given.email)
    password = given.password.get_secret_value()
    if view.has_account:
        check_credentials(context, email, password, given.code, address=address)
        hashed = ""
    else:
        if not given.name.strip():
            raise ServiceProblem("invalid-request", "name: Enter your name")
        check_password(password, email, given.name)
        hashed = hash_password(password)
    now = context.clock()

    def write(connection: Connection) -> tuple[AccountRow, int | None]:
        row = _found(invitations.find_invitation(connection, digest(given.secret), now, lock=True))
        account = accounts.find_account(connection, email)
        if account is None:
            if not hashed:
                raise ServiceProblem("not-found", "The account was deleted meanwhile", remedy="Open the link again")
            accounts.add_account(connection, email, given.name.strip(), hashed, now)
            account = accounts.find_account(connection, email)
        elif hashed:  # made meanwhile: its password is another one
            raise ServiceProblem("already-there", f"{email} has an account already", remedy="Open the link again")
        assert account is not None
        if row.tenant_id is None:
            accounts.change_account(connection, account.id, is_owner=True)
        else:
            accounts.grant(connection, account.id, row.tenant_id, Role(row.role))
        invitations.delete_invitation(connection, row.tenant_id, row.id)
        return account, row.tenant_id

    try:
        account, tenant_id = context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem("already-there", "This invitation is being accepted elsewhere") from None
    sessions = open_session(context, account, address=address, agent=agent)
    record(
        context, "accept_invitation", principal=sessions[1], tenant_id=tenant_id, address=address,
        subject=f"/members/{account.email}", after={"role": view.role}, about_people=True,
    )  # fmt: skip
    return sessions
