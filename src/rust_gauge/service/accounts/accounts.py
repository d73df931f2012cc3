"""Signing in, sessions, tokens. Passwords are kept as argon2id hashes, sessions and tokens as SHA-256 digests."""

import secrets
from datetime import timedelta

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from rust_gauge.contract.session import MadeToken, NewToken, TenantRef, Token, Who
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import digest
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import accounts
from rust_gauge.store.accounts import Principal

TOKEN_PREFIX = "rgt_"  # noqa: S105 - what all of them begin with
_ATTEMPTS, _WINDOW = 10, timedelta(minutes=15)
_hasher = PasswordHasher(time_cost=3, memory_cost=19_456, parallelism=1)
# Checked when there is no such account, so that the answer takes as long as for one that exists.
_NOBODY = _hasher.hash(secrets.token_hex(16))


def hash_password(password: str) -> str:
    return _hasher.hash(password)


def sign_in(context: Context, email: str, password: str) -> tuple[str, Principal]:
    """A session's secret and who it is. ServiceProblem `wrong-password` or `too-many-attempts`."""
    now = context.clock()
    email = email.strip().lower()
    store = context.store
    if store.transaction(lambda c: accounts.count_failures(c, email, now - _WINDOW)) >= _ATTEMPTS:
        raise ServiceProblem("too-many-attempts", "Too many failed attempts for this address")
    found = store.transaction(lambda c: accounts.find_account(c, email))
    try:
        _hasher.verify(found[1] if found else _NOBODY, password)
        matched = found is not None
    except (VerificationError, InvalidHashError):
        matched = False
    if not matched or found is None:
        store.transaction(lambda c: accounts.add_failure(c, email, now, now - 4 * _WINDOW))
        raise ServiceProblem("wrong-password")
    secret = secrets.token_urlsafe(32)
    expires = now + timedelta(hours=context.settings.session_hours)
    store.transaction(lambda c: accounts.add_session(c, digest(secret), found[0], now, expires))
    principal = store.transaction(lambda c: accounts.principal_of_session(c, digest(secret), now))
    if principal is None:
        raise ServiceProblem("not-signed-in")
    return secret, principal


def sign_out(context: Context, secret: str) -> None:
    context.store.transaction(lambda c: accounts.drop_session(c, digest(secret)))


def describe(principal: Principal) -> Who:
    tenants = [TenantRef(slug=t.slug, name=t.name, role=t.role.value) for t in principal.tenants]
    return Who(name=principal.name, email=principal.email, tenants=tenants)


def add_token(context: Context, principal: Principal, new: NewToken) -> MadeToken:
    """A token for a program. Its secret is in the answer and nowhere else."""
    tenant = next((t for t in principal.tenants if t.slug == new.tenant), None)
    if new.tenant is not None and tenant is None:
        raise ServiceProblem("not-found", f"There is no tenant {new.tenant}")
    if principal.token_id is not None:
        raise ServiceProblem("not-found", "Tokens cannot create tokens", remedy="Sign in with a password")
    now = context.clock()
    expires = now + timedelta(days=new.expires_in_days) if new.expires_in_days else None
    secret = TOKEN_PREFIX + secrets.token_urlsafe(32)
    id = context.store.transaction(
        lambda c: accounts.add_token(
            c, digest(secret), new.name, principal.account_id, tenant.id if tenant else None, now, expires
        )
    )
    return MadeToken(id=id, name=new.name, tenant=new.tenant, created_at=now, expires_at=expires, secret=secret)


def list_tokens(context: Context, principal: Principal) -> list[Token]:
    rows = context.store.transaction(lambda c: accounts.list_tokens(c, principal.account_id))
    fields = ("id", "name", "tenant", "created_at", "last_used_at", "expires_at")
    return [Token(**{field: getattr(row, field) for field in fields}) for row in rows]


def delete_token(context: Context, principal: Principal, id: int) -> None:
    if not context.store.transaction(lambda c: accounts.delete_token(c, principal.account_id, id)):
        raise ServiceProblem("not-found", f"Token {id} not found")
