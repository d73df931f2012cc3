"""Views that are read from a replica: people see at once what they changed themselves, and learn when the replica is
behind.
"""

from collections.abc import MutableMapping
from http.cookies import CookieError, SimpleCookie
from typing import Any

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from rust_gauge.store.engine import Reader, reading_own_writes

HEADER = "Views-From"
_COOKIE = "rust_gauge_wrote"


class ViewsFrom:
    """Says with each answer where views come from, and has them come from the database itself for whoever has just
    changed something: a cookie remembers that for as long as the replica may be behind."""

    def __init__(self, app: ASGIApp, reader: Reader, seconds: float) -> None:
        self._app, self._reader, self._seconds = app, reader, int(seconds) + 2

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or not scope["path"].startswith("/api/"):
            await self._app(scope, receive, send)
            return
        changes = scope["method"] not in ("GET", "HEAD")

        async def answer(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = [*message.get("headers", ()), (HEADER.lower().encode(), self._reader.describe().encode())]
                if changes:
                    cookie = f"{_COOKIE}=1; Max-Age={self._seconds}; Path=/api/; HttpOnly; SameSite=Strict"
                    headers.append((b"set-cookie", cookie.encode()))
                message["headers"] = headers
            await send(message)

        token = reading_own_writes.set(changes or _wrote(scope))
        try:
            await self._app(scope, receive, answer)
        finally:
            reading_own_writes.reset(token)


def _wrote(scope: MutableMapping[str, Any]) -> bool:
    cookie: SimpleCookie = SimpleCookie()
    for name, value in scope["headers"]:
        if name == b"cookie":
            try:
                cookie.load(value.decode("latin-1"))
            except CookieError:
                continue
    return _COOKIE in cookie
