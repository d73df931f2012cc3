"""Signing in and out with a password, sessions, and changing one's password."""

import secrets
from datetime import timedelta

from sqlalchemy import Connection

from rust_gauge.contract.session import Ended, NewPassword, PasswordChanged, SessionInfo, TenantRef, Who
from rust_gauge.service.accounts.attempts import count_attempt, forget_attempts
from rust_gauge.service.accounts.passwords import check_password, hash_password, is_password
from rust_gauge.service.accounts.second_factor import account_of, is_second_factor
from rust_gauge.service.runtime.audit_log import record
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import digest
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import accounts, tokens
from rust_gauge.store import sign_in as store
from rust_gauge.store.accounts import AccountRow, Principal, TenantAccess


def sign_in(
    context: Context, email: str, password: str, code: str = "", *, address: str = "", agent: str = ""
) -> tuple[str, Principal]:
    """A session's secret and who it is. ServiceProblem `wrong-password`, `code-required` or `too-many-attempts`."""
    account = check_credentials(context, email, password, code, address=address)
    secret, principal = open_session(context, account, address=address, agent=agent)
    record(context, "sign_in", principal=principal, address=address, about_people=True)
    return secret, principal


def check_credentials(context: Context, email: str, password: str, code: str = "", *, address: str = "") -> AccountRow:
    """Return the account that address, password and code are those of. Problems as for `sign_in`."""
    email = email.strip().lower()
    count_attempt(context, email, address)
    account = context.store.transaction(lambda c: accounts.find_account(c, email))
    if not is_password(password, account.password_hash if account else None) or account is None:
        record(context, "sign_in_failed", account=email, address=address, about_people=True)
        raise ServiceProblem("wrong-password")
    if account.code_confirmed:
        if not code:
            raise ServiceProblem("code-required", "Enter the code of your authenticator app, or a recovery code")
        if not is_second_factor(context, account, code):
            record(context, "sign_in_failed", account=email, address=address, after="wrong code", about_people=True)
            raise ServiceProblem("wrong-code", "The code does not match, or was used already")
    forget_attempts(context, email, address)
    return account


def open_session(
    context: Context, account: AccountRow, *, address: str = "", agent: str = "", second_factor: bool | None = None
) -> tuple[str, Principal]:
    """Open a session of an account whose credentials were checked. `second_factor`: whether a second one was too."""
    now, secret = context.clock(), secrets.token_urlsafe(32)
    expires = now + timedelta(hours=context.settings.session_hours)
    shown = account.code_confirmed if second_factor is None else second_factor

    def write(connection: Connection) -> Principal | None:
        store.add_session(
            connection, digest(secret), account.id, now, expires, address=address, agent=agent, second_factor=shown
        )
        return store.principal_of_session(connection, digest(secret), now)

    principal = context.store.transaction(write)
    if principal is None:
        raise ServiceProblem("not-signed-in")
    return secret, principal


def sign_out(context: Context, secret: str) -> None:
    context.store.transaction(lambda c: store.drop_session(c, digest(secret)))


def describe(principal: Principal, locked: tuple[TenantAccess, ...] = ()) -> Who:
    return Who(
        name=principal.name, email=principal.email, tenants=_refs(principal.tenants), locked=_refs(locked),
        is_owner=principal.is_owner, second_factor=principal.second_factor,
    )  # fmt: skip


def _refs(tenants: tuple[TenantAccess, ...]) -> list[TenantRef]:
    return [TenantRef(slug=tenant.slug, name=tenant.name, role=tenant.role.value) for tenant in tenants]


def list_sessions(context: Context, principal: Principal) -> list[SessionInfo]:
    account = account_of(context, principal)
    now = context.clock()
    rows = context.store.transaction(lambda c: store.list_sessions(c, account.id, now))
    return [
        SessionInfo(
            id=row.id, created_at=row.created_at, expires_at=row.expires_at, last_seen_at=row.last_seen_at,
            address=row.address, agent=row.agent, second_factor=row.second_factor,
            current=row.id == principal.session_id,
        )
        for row in rows
    ]  # fmt: skip


def end_session(context: Context, principal: Principal, id: int) -> None:
    account = account_of(context, principal)
    if not context.store.transaction(lambda c: store.end_session(c, account.id, id)):
        raise ServiceProblem("not-found", f"Session {id} not found")


def end_other_sessions(context: Context, principal: Principal) -> Ended:
    account = account_of(context, principal)
    ended = context.store.transaction(lambda c: store.end_sessions(c, account.id, but=principal.session_id))
    return Ended(sessions_ended=ended)


def change_password(
    context: Context, principal: Principal, change: NewPassword, *, address: str = ""
) -> PasswordChanged:
    """Set a new password, which ends all other sessions. ServiceProblem `wrong-password` or `weak-password`."""
    account = account_of(context, principal)
    now = context.clock()
    count_attempt(context, account.email, address)
    if not is_password(change.current.get_secret_value(), account.password_hash):
        raise ServiceProblem("wrong-password", "The current password does not match")
    new = change.new.get_secret_value()
    check_password(new, account.email, account.name)
    hashed = hash_password(new)

    def write(connection: Connection) -> PasswordChanged:
        accounts.change_account(connection, account.id, password_hash=hashed, password_changed_at=now)
        store.forget_attempts(connection, account.email, address)
        ended = store.end_sessions(connection, account.id, but=principal.session_id)
        deleted = tokens.delete_tokens(connection, account.id) if change.tokens == "delete" else 0
        return PasswordChanged(sessions_ended=ended, tokens_deleted=deleted)

    return context.store.transaction(write)
