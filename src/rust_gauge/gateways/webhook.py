"""Posting a webhook: one POST, no redirect, a bounded answer, a checked address.

The host is looked up here and the connection goes to the very address that was checked, so that a name cannot point
elsewhere in between. Only public addresses over HTTPS are called, and `host:port` that the settings name.
"""

import ipaddress
import ssl
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import urlsplit

import httpx

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.gateways.deadline import http_client
from rust_gauge.gateways.destination import DestinationError, LookUp, find_destination
from rust_gauge.gateways.pages import Reach, may_reach

_READ = 2000  # octets of an answer


class HookAddressError(RustGaugeError):
    """An address that is not called."""


@dataclass(frozen=True, slots=True)
class HookAnswer:
    """What came of it: `status` is 0 when nobody answered. `retry_after` in seconds, when the receiver named it."""

    status: int
    summary: str
    retry_after: int | None = None

    @property
    def taken(self) -> bool:
        """Return whether the receiver said that it has the message."""
        return 200 <= self.status < 300


@dataclass(frozen=True, slots=True)
class HookCaller:
    """`trusted` are host:port that may be private and without TLS; `reach` sends addresses elsewhere."""

    trusted: frozenset[str]
    reach: Reach
    ca_file: str = ""
    timeout: float = 10.0

    def check(self, url: str) -> None:
        """HookAddressError for an address that can never be called."""
        host, port, scheme = self._parts(url)
        if f"{host}:{port}" in self.trusted:
            return
        if scheme != "https":
            raise HookAddressError(f"{url[:200]} is not https", remedy="Others could read and change what is sent")
        try:
            literal = str(ipaddress.ip_address(host))
        except ValueError:
            return
        if not may_reach(literal, self.reach):
            raise HookAddressError(f"{host} is not a public address", remedy="Name it in the setting webhook_hosts")

    def post(
        self,
        url: str,
        headers: Mapping[str, str],
        body: bytes,
        look_up: LookUp,
    ) -> HookAnswer:
        """Send it. Never raises."""
        try:
            self.check(url)
            host, port, scheme = self._parts(url)
            there = find_destination(host, port, look_up, self.trusted, self.reach)
        except (HookAddressError, DestinationError) as error:
            return HookAnswer(0, str(error))
        parts = urlsplit(url)
        shown = f"[{there.address}]" if ":" in there.address else there.address
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        try:
            context = ssl.create_default_context()
            if self.ca_file:
                context.load_verify_locations(self.ca_file)
            with (
                http_client(context, self.timeout) as client,
                client.stream(
                    "POST",
                    f"{scheme}://{shown}:{there.port}{path}",
                    content=body,
                    headers={**headers, "Host": parts.netloc.rpartition("@")[2], "Content-Type": "application/json"},
                    extensions={"sni_hostname": host},
                ) as response,
            ):
                read = b""
                for chunk in response.iter_bytes():
                    read += chunk
                    if len(read) > _READ:
                        break
                text = read[:_READ].decode("utf-8", "replace").strip()
                wait = response.headers.get("retry-after", "")
                seconds = int(wait) if wait.isascii() and wait.isdigit() and len(wait) < 7 else None
                return HookAnswer(response.status_code, f"{response.status_code} {text}".strip()[:500], seconds)
        except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
            return HookAnswer(0, f"{host}: {error or type(error).__name__}"[:500])

    @staticmethod
    def _parts(url: str) -> tuple[str, int, str]:
        try:
            parts = urlsplit(url)
            host, port = (parts.hostname or "").lower(), parts.port
        except ValueError:
            host, port, parts = "", None, urlsplit("")
        if parts.scheme not in ("http", "https") or not host or not url.isascii() or url != url.strip():
            raise HookAddressError(f"{url[:200]!r} is not a web address", remedy="Write https://host/path")
        if parts.username or parts.password:
            raise HookAddressError("An address with a password in it is not taken", remedy="The signature proves us")
        return host, port or (443 if parts.scheme == "https" else 80), parts.scheme
