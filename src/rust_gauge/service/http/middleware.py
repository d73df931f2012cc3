"""Around every request: an id, a turn, a limit on the body, security headers, one line in the log."""

import re
import secrets
import time
from collections.abc import Callable
from contextlib import AsyncExitStack

import structlog
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers, MutableHeaders
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from rust_gauge.service.http.admission import UNKNOWN_BODY, Admission, TooMany, caller_of
from rust_gauge.service.http.rate_limits import NO_LIMITS, RateLimit, Standing, tighter

log = structlog.get_logger()

_HEADERS = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "X-Frame-Options": "DENY",
    "Cross-Origin-Opener-Policy": "same-origin",
    # styled-components and the chart library write style attributes; no script but our own is run.
    "Content-Security-Policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "font-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
}


# Wait most of the time, which takes no thread and has a limit of its own: for mail, and for anything that changes.
_WAITING = ("/next-message", "/api/v1/changes")
_ALWAYS = ("/healthz", "/readyz")  # whoever watches the service asks for these, and must get an answer
_STREAMED = "/clearance/stream"  # read and answered piece by piece, so its body may be long
ErrorResponse = Callable[[Request, Exception], Response]


class BodyTooLarge(HTTPException):
    """The body passed the limit while it was being read. An HTTPException, since FastAPI makes 400 of all others."""

    def __init__(self) -> None:
        super().__init__(413)


class NotKnown(HTTPException):
    """The body is longer than what is read of somebody who is not signed in."""

    def __init__(self) -> None:
        super().__init__(401)


# Parts of addresses that prove something by themselves: a feed's key, the links of messages.
_SECRET_PATH = re.compile(
    r"^(/api/v1/intake/|/api/v1/tls-reports/|/confirm/|/unsubscribe/|/shared/|/shared-report/)[^/]+"
)


def masked(path: str) -> str:
    """Return the path of a request without what is secret in it."""
    return _SECRET_PATH.sub(r"\1...", path)


def _asker(scope: Scope) -> dict[str, str]:
    """Return who asked, once that is known."""
    state, client = scope.get("state", {}), scope.get("client") or ("",)
    principal, tenant = state.get("principal"), state.get("tenant")
    found = {"address": str(client[0])}
    if principal is not None:
        found["account"] = principal.email
        if principal.token_id is not None:
            found["token"] = str(principal.token_id)
    if tenant is not None:
        found["tenant"] = tenant.slug
    return found


class RequestFrame:
    """ASGI middleware. What nobody else caught becomes a response here, with the same id and headers as any other."""

    def __init__(
        self, app: ASGIApp, max_body: int, max_stream: int, on_error: ErrorResponse, is_known: Callable[[Scope], bool],
        strict_transport: bool = False, limits: tuple[RateLimit, RateLimit] = NO_LIMITS,
        count: Callable[[Scope, int, float], None] | None = None,
    ) -> None:  # fmt: skip
        self.app = app
        self.count = count
        self.headers = _HEADERS | ({"Strict-Transport-Security": "max-age=31536000"} if strict_transport else {})
        self.on_error = on_error
        self.is_known = is_known
        self.admission = Admission()
        self.of_caller, self.of_source = limits
        self.max_body = max_body
        self.max_stream = max_stream

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        request_id = secrets.token_hex(8)
        scope.setdefault("state", {})["request_id"] = request_id
        structlog.contextvars.bind_contextvars(request_id=request_id)
        began, status, read, started, known = time.perf_counter(), 500, 0, False, False
        limit = self.max_stream if scope["path"].endswith(_STREAMED) else self.max_body
        api = scope["path"].startswith(("/api/", "/healthz", "/readyz"))
        waits = scope["path"] not in _ALWAYS and not scope["path"].endswith(_WAITING)
        asked = Headers(scope=scope)
        standing = self._count(scope) if waits and api else None

        async def limited() -> Message:
            nonlocal read, known
            if declared > limit:
                raise BodyTooLarge
            if not known and max(read, declared) > UNKNOWN_BODY:
                known = await run_in_threadpool(self.is_known, scope)
                if not known:
                    raise NotKnown
            message = await receive()
            if message["type"] == "http.request":
                read += len(message.get("body", b""))
                if read > limit:
                    raise BodyTooLarge
                if not message.get("more_body", False):
                    await take_turn()
            return message

        async def framed(message: Message) -> None:
            nonlocal status, started
            if message["type"] == "http.response.start":
                started = True
                status = message["status"]
                headers = MutableHeaders(scope=message)
                headers["X-Request-Id"] = request_id
                if standing is not None:
                    headers.update(standing.headers())
                for name, value in self.headers.items():
                    headers.setdefault(name, value)
                if api:
                    headers.setdefault("Cache-Control", "no-store")
            await send(message)

        async def take_turn() -> None:
            """Take the caller's turn, once the body is there: a slow upload holds up nobody, not even its sender."""
            nonlocal waits
            if waits:
                waits = False
                await held.enter_async_context(self.admission.turn(caller_of(scope)))

        length = asked.get("content-length", "")
        declared = int(length[:15]) if length.isascii() and length.isdigit() else 0
        try:
            if standing is not None and standing.retry_after:
                raise TooMany(standing)
            async with AsyncExitStack() as held:
                if "transfer-encoding" not in asked and not declared:
                    await take_turn()
                await self.app(scope, limited, framed)
        except Exception as error:
            if started:
                raise  # too late for another answer: the server cuts the connection
            response = self.on_error(Request(scope), error)
            await response(scope, receive, framed)
        finally:
            seconds = time.perf_counter() - began
            took = round(seconds * 1000, 1)
            if self.count is not None:
                self.count(scope, status, seconds)
            shown = masked(scope["path"])
            log.info("request", method=scope["method"], path=shown, status=status, ms=took, **_asker(scope))
            structlog.contextvars.clear_contextvars()

    def _count(self, scope: Scope) -> Standing | None:
        """Count a request against its caller and its source; whoever shows no token or session is its source."""
        source = str((scope.get("client") or ("",))[0])
        by_source, caller = self.of_source.take(source), caller_of(scope)
        return tighter(self.of_caller.take(caller), by_source)
