"""Who a session or a token stands for. Secrets are stored as SHA-256 digests only."""

import hashlib

from rust_gauge.service.runtime.context import Context
from rust_gauge.store import accounts
from rust_gauge.store.accounts import Principal


def digest(secret: str) -> bytes:
    """Return what is stored of a session's or a token's secret."""
    return hashlib.sha256(secret.encode()).digest()


def principal_of(context: Context, *, session: str = "", token: str = "") -> Principal | None:
    """Return who a session or a token stands for; None when it has expired, was removed, or never existed."""
    now = context.clock()
    if token:
        return context.store.transaction(lambda c: accounts.principal_of_token(c, digest(token), now))
    return context.store.transaction(lambda c: accounts.principal_of_session(c, digest(session), now))
