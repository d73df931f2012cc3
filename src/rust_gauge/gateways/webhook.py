"""Posting a webhook: one POST to a checked address, and what came of it as text."""

from collections.abc import Mapping
from dataclasses import dataclass

from rust_gauge.gateways.destination import LookUp
from rust_gauge.gateways.outgoing import Caller
from rust_gauge.gateways.outgoing import OutgoingAddressError as HookAddressError
from rust_gauge.gateways.pages import Reach

__all__ = ["HookAddressError", "HookAnswer", "HookCaller"]
_READ = 2000  # octets of an answer


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

    @property
    def _caller(self) -> Caller:
        return Caller(self.trusted, self.reach, "webhook_hosts", self.ca_file, self.timeout)

    def check(self, url: str) -> None:
        """HookAddressError for an address that can never be called."""
        self._caller.check(url)

    def post(self, url: str, headers: Mapping[str, str], body: bytes, look_up: LookUp) -> HookAnswer:
        """Send it. Never raises."""
        found = self._caller.send("POST", url, headers, body, look_up, _READ)
        if found.status == 0:
            return HookAnswer(0, found.problem)
        text = found.octets.decode("utf-8", "replace").strip()
        return HookAnswer(found.status, f"{found.status} {text}".strip()[:500], found.retry_after)
