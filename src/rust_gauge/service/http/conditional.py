"""Answers that have not changed are not sent again (RFC 9110 §13): each answer of a GET in JSON has an `ETag`, and who
names it in `If-None-Match` gets 304. Pages that follow what happens ask for the same again and again.
"""

import hashlib

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_LARGEST = 4 * 1024 * 1024  # octets of an answer that is held back for its digest


class Conditional:
    """ASGI middleware for answers that are sent in one piece; streams and all but 200 pass unchanged."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] != "GET" or not scope["path"].startswith("/api/v1/"):
            await self._app(scope, receive, send)
            return
        asked = Headers(scope=scope).get("if-none-match", "")
        begin: Message | None = None

        async def answer(message: Message) -> None:
            nonlocal begin
            if message["type"] == "http.response.start" and _is_json(message):
                begin = message
                return
            if begin is None:
                await send(message)
                return
            start, begin = begin, None
            body = message.get("body", b"")
            if message.get("more_body", False) or len(body) > _LARGEST:
                await send(start)
                await send(message)
                return
            tag = f'"{hashlib.blake2b(body, digest_size=12).hexdigest()}"'
            headers = MutableHeaders(scope=start)
            headers["ETag"] = tag
            if tag in [each.strip().removeprefix("W/") for each in asked.split(",")]:
                start["status"], message = 304, {"type": "http.response.body", "body": b""}
                for name in ("Content-Length", "Content-Type"):
                    del headers[name]
            await send(start)
            await send(message)

        await self._app(scope, receive, answer)


def _is_json(message: Message) -> bool:
    return message["status"] == 200 and Headers(raw=message["headers"]).get("content-type") == "application/json"
