"""Who may take how much of the service: nobody is read at length before they are known, and nobody takes every thread.

Routes run in a pool of threads. Each caller (token, session or address) has at most a share of them at a time; more
requests of the same caller wait, and others do not notice.
"""

import asyncio
import hashlib
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from http.cookies import CookieError, SimpleCookie

from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.types import Scope

from rust_gauge.service.http.access import COOKIE, PUBLIC_COOKIE
from rust_gauge.service.http.rate_limits import Standing
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import principal_of
from rust_gauge.store import feeds as store_feeds

UNKNOWN_BODY = 64 * 1024  # octets that are read of somebody who is not known yet
THREADS = 64  # of the pool that routes run in
_SHARE = 16  # requests of one caller at a time
_PATIENCE = 10.0  # seconds that a request waits for its turn
_INTAKE, _TLS_REPORTS = "/api/v1/intake/", "/api/v1/tls-reports/"


class Busy(HTTPException):
    """A caller's earlier requests are not done yet. An HTTPException, since FastAPI makes 400 of all others."""

    def __init__(self) -> None:
        super().__init__(503)


class TooMany(HTTPException):
    """A caller or a source has used up its requests."""

    def __init__(self, standing: Standing) -> None:
        super().__init__(429)
        self.standing = standing


class Admission:
    """Turns by caller. Used from one event loop."""

    def __init__(self) -> None:
        self._turns: dict[str, tuple[asyncio.Semaphore, int]] = {}

    @asynccontextmanager
    async def turn(self, caller: str) -> AsyncIterator[None]:
        """Wait for a turn, and hold it. Busy when it does not come in time."""
        semaphore, users = self._turns.get(caller) or (asyncio.Semaphore(_SHARE), 0)
        self._turns[caller] = (semaphore, users + 1)
        try:
            try:
                async with asyncio.timeout(_PATIENCE):
                    await semaphore.acquire()
            except TimeoutError:
                raise Busy from None
            try:
                yield
            finally:
                semaphore.release()
        finally:
            semaphore, users = self._turns[caller]
            if users <= 1:
                del self._turns[caller]
            else:
                self._turns[caller] = (semaphore, users - 1)


def caller_of(scope: Scope) -> str:
    """Return what tells callers apart: their token or session, or else their address. Secrets are not kept."""
    headers = Headers(scope=scope)
    shown = headers.get("authorization") or _session(headers) or (scope.get("client") or ("",))[0]
    return hashlib.sha256(str(shown).encode()).hexdigest()


def is_known(context: Context, scope: Scope) -> bool:
    """Return whether a request comes with a token or session that is valid, or for a feed that is there."""
    headers = Headers(scope=scope)
    kind, _, token = headers.get("authorization", "").partition(" ")
    token = token.strip() if kind.lower() == "bearer" else ""
    if scope["path"].startswith(_TLS_REPORTS):  # the address is the secret: senders of TLS reports prove nothing
        key = scope["path"].removeprefix(_TLS_REPORTS)
        row = context.store.transaction(lambda c: store_feeds.feed_of_key(c, key[:60]))
        return row is not None and row.kind == "reports"
    if scope["path"].startswith(_INTAKE):
        key = scope["path"].removeprefix(_INTAKE)
        row = context.store.transaction(lambda c: store_feeds.feed_of_key(c, key[:60]))
        if row is None:
            return False
        digest = hashlib.sha256(token.encode()).digest()
        # A signature covers the body, so only the body can prove it.
        return "webhook-signature" in headers or secrets.compare_digest(digest, bytes(row.token_digest))
    if token:
        return principal_of(context, token=token) is not None
    session = _session(headers)
    return bool(session) and principal_of(context, session=session) is not None


def _session(headers: Headers) -> str:
    try:
        sent = SimpleCookie(headers.get("cookie", ""))
    except CookieError:
        return ""
    found = sent.get(COOKIE) or sent.get(PUBLIC_COOKIE)
    return found.value if found is not None else ""
