"""Events as they are kept: the trail of a recipient or a message. How they come in is in `intake`."""

import base64
import time
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from rust_gauge.contract.common import Page
from rust_gauge.contract.events import Event as EventOut
from rust_gauge.contract.proofs import Sender
from rust_gauge.core.errors import AddressError, IpAddressError
from rust_gauge.core.mailflow import Kind
from rust_gauge.core.names import parse_address, parse_ip
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.service.domains import proofs
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.mailflow.names import part_id
from rust_gauge.service.providers.providers import provider_id
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import events as store_events
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.events import EventQuery
from rust_gauge.store.flow import newest_events

_LOOKED_BACK = timedelta(days=40)  # without a recipient or message named, only recent events are listed
_MOST_READ = 1_000_000  # events, by whole days, that are searched for a text that no index helps to find
_REMEMBERED = 3.0  # seconds


def list_events(
    context: Context,
    tenant: TenantAccess,
    *,
    recipient: str | None,
    message_id: str | None,
    domain: str | None,
    kinds: Sequence[str],
    provider: str | None = None,
    stream: str | None = None,
    relay: str | None = None,
    ip: str = "",
    causes: Sequence[str] = (),
    reply: str = "",
    since: datetime | None,
    until: datetime | None,
    cursor: str | None,
    limit: int,
) -> Page[EventOut]:
    """Return events, newest first. Refusals are found by words of their replies over all events that are kept; without
    recipient, message or such words, and for replies to accepted mail, only the last forty days are searched, and of
    those the days that hold the newest million.
    """
    position = read_cursor("events", cursor, str, str)
    try:
        address = parse_address(recipient) if recipient else None
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None
    try:
        before = (datetime.fromisoformat(position[0]), base64.b64decode(position[1])) if position else None
    except ValueError:
        raise ServiceProblem("bad-cursor", "The cursor does not belong to this list") from None
    words = store_events.search_words(reply) if reply and not recipient and not message_id else []
    patterns: tuple[int, ...] = ()
    if words:
        patterns = context.store.read(lambda c: store_events.patterns_with(c, tenant.id, words))
    if not recipient and not message_id and not patterns and since is None:
        since = context.clock() - _LOOKED_BACK  # whoever looks for nobody in particular looks at what is recent
        if reply:  # each of them is read
            earliest = since.date()
            first = context.store.read(lambda c: newest_events(c, tenant.id, earliest, _MOST_READ))
            since = max(since, datetime.combine(first, datetime.min.time(), since.tzinfo))
    if ip:
        try:
            ip = str(parse_ip(ip))
        except IpAddressError as error:
            raise ServiceProblem("invalid-request", f"ip: {error}", remedy=error.remedy) from None
    names: tuple[int | None, ...] = (None, None, None)
    if provider or stream is not None or relay is not None:
        names = context.store.read(
            lambda c: (
                provider_id(c, tenant, provider) if provider else None,
                part_id(c, tenant, "stream", stream) if stream is not None else None,
                part_id(c, tenant, "relay", relay) if relay is not None else None,
            )
        )
    query = EventQuery(
        tenant.id,
        recipient=address,
        message_id=message_id,
        domain_id=find_domain(context, tenant, domain).id if domain else None,
        kinds=tuple(Kind(kind).number for kind in kinds),
        provider_id=names[0],
        stream_id=names[1],
        relay_id=names[2],
        sending_ip=ip,
        causes=tuple(Cause(cause).number for cause in causes),
        reply=reply,
        patterns=patterns,
        since=since,
        until=until,
        before=before,
        limit=limit + 1,
    )

    def read(unit: UnitOfWork) -> tuple[list[store_events.EventRow], Mapping[tuple[str, str], Sender]]:
        find = store_events.find_by_patterns if query.patterns else store_events.find_events
        found = find(unit.connection, query)
        return found, _lacks(unit) if found else {}

    rows, lacks = context.view(tenant.id, read)
    items = [_show(row, lacks) for row in rows[:limit]]
    last = rows[limit - 1] if len(rows) > limit else None
    after = (
        write_cursor("events", last.occurred_at.isoformat(), base64.b64encode(last.identity).decode()) if last else None
    )
    return Page(items=items, next=after)


def _lacks(unit: UnitOfWork) -> Mapping[tuple[str, str], Sender]:
    """Return what streams lack, cached for a moment: a trail is read page by page."""
    known = unit.memory.get(("lacks", unit.tenant_id))
    if known is None or time.monotonic() - known[0] > _REMEMBERED:
        lacking = proofs.lacks_of(unit.connection, unit.tenant_id)
        known = unit.memory[("lacks", unit.tenant_id)] = (time.monotonic(), lacking)
    lacks: Mapping[tuple[str, str], Sender] = known[1]
    return lacks


_SAME = (
    "recipient",
    "message_id",
    "reply_code",
    "enhanced_code",
    "diagnostic",
    "cause_rule",
    "remote_host",
    "sending_ip",
    "campaign",
    "attempt",
    "seconds_taken",
    "arrived_at",
    "domain",
    "stream",
    "relay",
    "provider",
)


def _show(row: store_events.EventRow, lacks: Mapping[tuple[str, str], Sender]) -> EventOut:
    lacking = lacks.get((row.domain, row.stream)) or lacks.get((row.domain, ""))
    return EventOut(
        tags=row.tags.split(",") if row.tags else [],
        sender_lacks=lacking.summary if lacking is not None else "",
        kind=str(Kind.from_number(row.kind)),
        time=row.occurred_at,
        cause=str(Cause.from_number(row.cause)),
        permanence=str(Permanence.from_number(row.permanence)),
        **{name: getattr(row, name) for name in _SAME},
    )
