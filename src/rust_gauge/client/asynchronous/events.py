"""`client.events`: events sent and read."""

from collections.abc import AsyncIterator, Sequence
from datetime import datetime
from typing import Any

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import events as calls
from rust_gauge.contract.events import Event, IntakeResult


class Events(Part):
    """Events sent and read."""

    async def load(self, tenant: str, lines: bytes) -> IntakeResult:
        """Send NDJSON, as much as fits into one request. Safe to repeat.

        InvalidInputError when no row could be stored; `problem.errors` says why, by line.
        """
        return await self._client.send(calls.load_ndjson(tenant, lines))

    def list(
        self,
        tenant: str,
        *,
        recipient: str | None = None,
        message_id: str | None = None,
        domain: str | None = None,
        kinds: Sequence[str] | None = None,
        causes: Sequence[str] | None = None,
        provider: str | None = None,
        stream: str | None = None,
        relay: str | None = None,
        ip: str | None = None,
        reply: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> AsyncIterator[Event]:
        """Yield events, newest first; those of one recipient or message are its trail."""
        query: dict[str, Any] = {
            "recipient": recipient,
            "message_id": message_id,
            "domain": domain,
            "kind": [*kinds] if kinds else None,
            "cause": [*causes] if causes else None,
            "provider": provider,
            "stream": stream,
            "relay": relay,
            "ip": ip,
            "reply": reply,
            "since": since.isoformat() if since else None,
            "until": until.isoformat() if until else None,
        }
        return self._client.pages(lambda cursor: calls.list_events(tenant, cursor, query))
