"""Who a session or a token stands for. Secrets are stored as SHA-256 digests only."""

import hashlib
import ipaddress

from rust_gauge.service.runtime.context import Context
from rust_gauge.store import sign_in, tokens
from rust_gauge.store.accounts import Principal


def digest(secret: str) -> bytes:
    """Return what is stored of a session's or a token's secret."""
    return hashlib.sha256(secret.encode()).digest()


def principal_of(context: Context, *, session: str = "", token: str = "") -> Principal | None:
    """Return who a session or a token stands for; None when it has expired, was removed, or never existed."""
    now = context.clock()
    if token:
        return context.store.transaction(lambda c: tokens.principal_of_token(c, digest(token), now))
    return context.store.transaction(lambda c: sign_in.principal_of_session(c, digest(session), now))


def is_within(address: str, networks: tuple[str, ...]) -> bool:
    """Return whether an address is in one of the networks; any address is where none are named."""
    if not networks:
        return True
    try:
        ip = ipaddress.ip_address(address)
    except ValueError:
        return False
    mapped = getattr(ip, "ipv4_mapped", None)
    return any((mapped or ip) in ipaddress.ip_network(network) for network in networks)
