"""One HTTP request to a checked address: no redirect, a bounded answer.

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


class OutgoingAddressError(RustGaugeError):
    """An address that is not called."""


@dataclass(frozen=True, slots=True)
class OutgoingAnswer:
    """What came of it: `status` is 0 where nobody answered, and `problem` says why. `retry_after` in seconds."""

    status: int
    octets: bytes = b""
    problem: str = ""
    retry_after: int | None = None


@dataclass(frozen=True, slots=True)
class Caller:
    """`trusted` are host:port that may be private and without TLS, as the setting `setting` names them; `reach` sends
    addresses elsewhere.
    """

    trusted: frozenset[str]
    reach: Reach
    setting: str
    ca_file: str = ""
    timeout: float = 10.0

    def check(self, url: str) -> None:
        """OutgoingAddressError for an address that can never be called."""
        host, port, scheme = _parts(url)
        if f"{host}:{port}" in self.trusted:
            return
        if scheme != "https":
            raise OutgoingAddressError(f"{url[:200]} is not https", remedy="Others could read and change what is sent")
        try:
            literal = str(ipaddress.ip_address(host))
        except ValueError:
            return
        if not may_reach(literal, self.reach):
            raise OutgoingAddressError(
                f"{host} is not a public address", remedy=f"Name it in the setting {self.setting}"
            )

    def send(
        self, method: str, url: str, headers: Mapping[str, str], body: bytes | None, look_up: LookUp, most: int
    ) -> OutgoingAnswer:
        """Send a request; read at most so many octets of its answer. Never raises."""
        try:
            self.check(url)
            host, port, scheme = _parts(url)
            there = find_destination(host, port, look_up, self.trusted, self.reach)
        except (OutgoingAddressError, DestinationError) as error:
            return OutgoingAnswer(0, problem=str(error))
        parts = urlsplit(url)
        shown = f"[{there.address}]" if ":" in there.address else there.address
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        typed = {"Content-Type": "application/json"} if body is not None else {}
        try:
            context = ssl.create_default_context()
            if self.ca_file:
                context.load_verify_locations(self.ca_file)
            with (
                http_client(context, self.timeout) as client,
                client.stream(
                    method,
                    f"{scheme}://{shown}:{there.port}{path}",
                    content=body,
                    headers={**headers, "Host": parts.netloc.rpartition("@")[2], **typed},
                    extensions={"sni_hostname": host},
                ) as response,
            ):
                read = b""
                for chunk in response.iter_bytes():
                    read += chunk
                    if len(read) > most:
                        break
                wait = response.headers.get("retry-after", "")
                seconds = int(wait) if wait.isascii() and wait.isdigit() and len(wait) < 7 else None
                return OutgoingAnswer(response.status_code, read[:most], retry_after=seconds)
        except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
            return OutgoingAnswer(0, problem=f"{host}: {error or type(error).__name__}"[:500])


def _parts(url: str) -> tuple[str, int, str]:
    try:
        parts = urlsplit(url)
        host, port = (parts.hostname or "").lower(), parts.port
    except ValueError:
        host, port, parts = "", None, urlsplit("")
    if parts.scheme not in ("http", "https") or not host or not url.isascii() or url != url.strip():
        raise OutgoingAddressError(f"{url[:200]!r} is not a web address", remedy="Write https://host/path")
    if parts.username or parts.password:
        raise OutgoingAddressError("An address with a password in it is not taken", remedy="Leave it out")
    return host, port or (443 if parts.scheme == "https" else 80), parts.scheme
