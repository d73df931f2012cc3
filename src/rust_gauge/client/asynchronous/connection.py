"""The connection under the client: it sends requests, retries them, translates errors, reads lists page by page."""

import asyncio
from collections.abc import AsyncIterator, Callable, Mapping
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx

from rust_gauge import __version__
from rust_gauge.client.calls.call import Call
from rust_gauge.client.calls.session import accept_invitation, sign_in, sign_in_with_passkey, sign_out, who
from rust_gauge.client.errors import ServiceUnreachable, error_of
from rust_gauge.client.retries import ATTEMPTS, pause_before, worth_repeating
from rust_gauge.contract.common import Page
from rust_gauge.contract.session import Who

T = TypeVar("T")


class AsyncConnection:
    """A connection to one service.

    `transport` is for tests. Requests that are safe to repeat are tried up to four times when the service is
    unreachable or busy.
    """

    def __init__(
        self,
        url: str,
        *,
        token: str = "",
        timeout: float = 60.0,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        headers = {"User-Agent": f"rust-gauge-client/{__version__}", "Accept": "application/json"}
        if token:
            headers["Authorization"] = f"Bearer {token}"
        self._http = httpx.AsyncClient(base_url=url.rstrip("/"), headers=headers, timeout=timeout, transport=transport)

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close the open connections."""
        await self._http.aclose()

    async def sign_in(self, email: str, password: str, code: str = "") -> Who:
        """Sign in as a person, for what tokens may not do. Use a client without a token."""
        found = await self.send(sign_in(email, password, code))
        self._http.headers["Origin"] = str(self._http.base_url).rstrip("/")  # what changes something has to say it
        return found

    async def sign_in_with_passkey(self, credential: dict[str, Any]) -> Who:
        """Sign in with what an authenticator signed: see `client.account.start_passkey_sign_in`."""
        found = await self.send(sign_in_with_passkey(credential))
        self._http.headers["Origin"] = str(self._http.base_url).rstrip("/")
        return found

    async def sign_out(self) -> None:
        """End the session."""
        await self.send(sign_out())

    async def accept_invitation(self, secret: str, name: str, password: str, *, code: str = "", email: str = "") -> Who:
        """Accept an invitation with a new account, or with the password of your own, and sign in.

        `email` only where the invitation names none: that of the first owner.
        """
        found = await self.send(accept_invitation(secret, name, password, code, email))
        self._http.headers["Origin"] = str(self._http.base_url).rstrip("/")
        return found

    async def who(self) -> Who:
        """Return the owner of the token, and which tenants they can see."""
        return await self.send(who())

    async def send(self, call: Call[T]) -> T:
        """Send a request. Raises ServiceUnreachable, or the ProblemResponse that fits."""
        headers = {"Content-Type": call.content_type} if call.body is not None else {}
        for attempt in range(1, ATTEMPTS + 1):
            response = None
            try:
                response = await self._http.request(
                    call.method, call.path, params=call.query, content=call.body, headers=headers
                )
            except httpx.HTTPError as error:
                # Nothing was sent when the connection failed, so that much is always safe to repeat.
                safe = call.repeatable or isinstance(error, httpx.ConnectError)
                if attempt == ATTEMPTS or not safe:
                    raise self._unreachable(error) from error
            else:
                if response.is_success:
                    return call.read(response.content)
                if attempt == ATTEMPTS or not call.repeatable or not worth_repeating(response):
                    raise error_of(response)
            await asyncio.sleep(pause_before(attempt, response))
        raise AssertionError("the last attempt returns or raises")

    def _unreachable(self, error: httpx.HTTPError) -> ServiceUnreachable:
        return ServiceUnreachable(f"{self._http.base_url} does not answer: {str(error) or type(error).__name__}")

    async def download(self, path: str, query: Mapping[str, Any]) -> AsyncIterator[bytes]:
        """Yield a long answer in pieces as they arrive; repeat the request only while nothing has arrived.

        ServiceUnreachable if it ends early: then what arrived is incomplete.
        """
        for attempt in range(1, ATTEMPTS + 1):
            response, begun = None, False
            try:
                async with self._http.stream("GET", path, params=query) as response:
                    if response.is_success:
                        async for piece in response.aiter_bytes():
                            begun = True
                            yield piece
                        return
                    await response.aread()
                    if attempt == ATTEMPTS or not worth_repeating(response):
                        raise error_of(response)
            except httpx.HTTPError as error:
                if attempt == ATTEMPTS or begun:
                    raise self._unreachable(error) from error
            await asyncio.sleep(pause_before(attempt, response))

    async def pages(self, page: Callable[[str | None], Call[Page[T]]]) -> AsyncIterator[T]:
        """Yield all items of a paged list."""
        cursor = None
        while True:
            got = await self.send(page(cursor))
            for item in got.items:
                yield item
            cursor = got.next
            if cursor is None:
                return
