"""API tokens for programs: what they may, where from, and until when."""

import ipaddress
import secrets
from datetime import timedelta

from rust_gauge.contract.tokens import MadeToken, NewToken, Rotation, Token
from rust_gauge.service.accounts.second_factor import account_of
from rust_gauge.service.http.roles import CAPABILITIES
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import digest
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import accounts
from rust_gauge.store import tokens as store
from rust_gauge.store.accounts import Principal
from rust_gauge.store.tokens import TokenRow

TOKEN_PREFIX = "rgt_"  # noqa: S105 - what all of them begin with


def add_token(context: Context, principal: Principal, new: NewToken) -> MadeToken:
    """A token for a program. Its secret is in the answer and nowhere else."""
    account_of(context, principal)
    slugs = {tenant.slug: tenant.id for tenant in principal.tenants}
    for slug in new.tenants:
        if slug not in slugs:
            raise ServiceProblem("not-found", f"There is no tenant {slug}")
    for scope in new.scopes:
        if scope.partition(":")[0] not in CAPABILITIES:
            raise unknown_name("The API", "capability", scope.partition(":")[0], CAPABILITIES)
    now = context.clock()
    expires = now + timedelta(days=new.expires_in_days) if new.expires_in_days else None
    secret = TOKEN_PREFIX + secrets.token_urlsafe(32)
    values = {
        "name": new.name, "account_id": principal.account_id, "tenants": sorted(slugs[slug] for slug in new.tenants),
        "scopes": sorted(set(new.scopes)), "networks": [_network(each) for each in new.networks], "created_at": now,
        "expires_at": expires,
    }  # fmt: skip
    id = context.store.transaction(lambda c: store.add_token(c, digest(secret), **values))
    return MadeToken(**_shown(context, principal, id).model_dump(), secret=secret)


def _network(text: str) -> str:
    try:
        return str(ipaddress.ip_network(text.strip(), strict=False))
    except ValueError:
        raise ServiceProblem(
            "invalid-request",
            f"networks: {text!r} is not an IP address or network",
            remedy="Expected, for example, 192.0.2.0/24",
        ) from None


def list_tokens(context: Context, principal: Principal) -> list[Token]:
    """A person's tokens; a program sees itself only."""
    rows = context.store.transaction(lambda c: store.list_tokens(c, principal.account_id, principal.token_id))
    names = _names(context, principal)
    return [_token(row, names) for row in rows]


def rotate_token(context: Context, principal: Principal, id: int, rotation: Rotation) -> MadeToken:
    """Give a token a new secret. A program can do so for itself."""
    _may_touch(principal, id)
    rows = context.store.transaction(lambda c: store.list_tokens(c, principal.account_id, id))
    if not rows:
        raise ServiceProblem("not-found", f"Token {id} not found")
    now = context.clock()
    expires = now + timedelta(days=rotation.expires_in_days) if rotation.expires_in_days else None
    if principal.token_id is not None and rows[0].expires_at is not None and expires is None:
        raise ServiceProblem("person-only", "A token cannot remove its own end date", remedy="Sign in with a password")
    secret = TOKEN_PREFIX + secrets.token_urlsafe(32)
    until = now + timedelta(hours=rotation.overlap_hours)
    context.store.transaction(lambda c: store.rotate_token(c, id, digest(secret), until, expires))
    return MadeToken(**_shown(context, principal, id).model_dump(), secret=secret)


def delete_token(context: Context, principal: Principal, id: int) -> None:
    _may_touch(principal, id)
    if not context.store.transaction(lambda c: store.delete_token(c, principal.account_id, id)):
        raise ServiceProblem("not-found", f"Token {id} not found")


def _may_touch(principal: Principal, id: int) -> None:
    if principal.token_id is not None and principal.token_id != id:
        raise ServiceProblem("not-found", f"Token {id} not found")


def _shown(context: Context, principal: Principal, id: int) -> Token:
    (row,) = context.store.transaction(lambda c: store.list_tokens(c, principal.account_id, id))
    return _token(row, _names(context, principal))


def _names(context: Context, principal: Principal) -> dict[int, str]:
    """Slugs of all tenants that the account may see, also of those that this token may not."""
    found = context.store.transaction(lambda c: accounts.principal_of_account(c, principal.account_id))
    return {tenant.id: tenant.slug for tenant in found.tenants} if found else {}


def _token(row: TokenRow, names: dict[int, str]) -> Token:
    return Token(
        id=row.id, name=row.name, scopes=row.scopes,
        tenants=[names.get(id, f"(no access: {id})") for id in row.tenants],
        networks=row.networks, created_at=row.created_at, expires_at=row.expires_at, last_used_at=row.last_used_at,
        last_used_address=row.last_used_address, refused_at=row.refused_at, refused_address=row.refused_address,
        previous_until=row.previous_until,
    )  # fmt: skip
