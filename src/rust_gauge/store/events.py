"""Events and their counters, written together; and reading events back as a trail."""

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Connection, Table, and_, insert, or_, select

from rust_gauge.core.mailflow import Event, Tally
from rust_gauge.core.names import Address
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.engine import AnyRow

_CHUNK = 500  # rows in one INSERT: some 200 kB, well below any packet limit
_COLUMNS = tuple(column.name for column in t.event.columns)
_INSERT = f"INSERT IGNORE INTO event ({', '.join(_COLUMNS)}) VALUES"
_RETURNING = "RETURNING identity"  # it is a digest of the time too, so it tells rows apart by itself


def address_key(address: Address) -> bytes:
    """What addresses are looked up by: 16 octets, the same for all ways to write one mailbox."""
    return hashlib.blake2b(address.key.encode("utf-8", "surrogatepass"), digest_size=16).digest()


@dataclass(frozen=True, slots=True)
class Names:
    """Ids of the names that a load uses: sending domains, streams, relays, and providers by recipient domain."""

    domains: dict[str, int]
    streams: dict[str, int]
    relays: dict[str, int]
    providers: dict[str, tuple[int, str]]


def intern(connection: Connection, table: Table, tenant_id: int, names: set[str], **values: object) -> dict[str, int]:
    """Ids of a tenant's names in `table`, made with `values` where they are missing."""
    query = select(table.c.name, table.c.id).where(table.c.tenant_id == tenant_id, table.c.name.in_(names))
    known = {row.name: row.id for row in connection.execute(query)}
    missing = sorted(names - known.keys())
    if missing:
        rows = [{"tenant_id": tenant_id, "name": name, **values} for name in missing]
        connection.execute(insert(table).prefix_with("IGNORE"), rows)
        known = {row.name: row.id for row in connection.execute(query)}
    return known


def add_events(
    connection: Connection, tenant_id: int, events: Sequence[Event], names: Names, arrived: datetime, now: datetime
) -> list[Event]:
    """Store what is not there yet; gives those that were new. INSERT IGNORE ... RETURNING tells them apart."""
    fresh: list[Event] = []
    for start in range(0, len(events), _CHUNK):
        chunk = events[start : start + _CHUNK]
        values = (_row(tenant_id, event, names, arrived, now) for event in chunk)
        rows = insert_rows(connection, _INSERT, values, _RETURNING).all()
        new = {bytes(identity) for (identity,) in rows}
        for event in chunk:
            if event.identity in new:
                new.discard(event.identity)  # a row that stands twice in one chunk is new once
                fresh.append(event)
    return fresh


def _row(tenant_id: int, event: Event, names: Names, arrived: datetime, now: datetime) -> tuple[object, ...]:
    return (
        tenant_id,
        event.occurred_at.replace(tzinfo=None),
        event.identity,
        arrived.replace(tzinfo=None),
        now.replace(tzinfo=None),
        event.kind.number,
        names.domains[event.domain],
        names.streams[event.stream],
        names.relays[event.relay],
        names.providers[event.recipient.domain][0],
        str(event.recipient),
        address_key(event.recipient),
        event.message_id,
        event.cause.number,
        event.permanence.number,
        event.cause_rule,
        event.reply_code,
        event.enhanced_code,
        event.diagnostic,
        event.remote_host,
        event.sending_ip,
        event.campaign,
        event.attempt,
        event.seconds_taken,
    )


_COUNTER = (
    "INSERT INTO {} (tenant_id, domain_id, {}, provider_id, stream_id, relay_id, kind, cause, permanence, n) VALUES"
)


def add_counts(connection: Connection, tenant_id: int, tally: Tally, names: Names, providers: dict[str, int]) -> None:
    """Add a tally to the counters of hours and of days. Rows go in key order, so that two loads cannot deadlock."""
    hours: dict[tuple[Any, ...], int] = {}
    days: dict[tuple[Any, ...], int] = {}
    for key, count in tally:
        head = (tenant_id, names.domains[key.domain])
        tail = (
            providers[key.provider],
            names.streams[key.stream],
            names.relays[key.relay],
            key.kind.number,
            key.cause.number,
            key.permanence.number,
        )
        hour = (*head, key.hour.replace(tzinfo=None), *tail)
        day = (*head, key.hour.date(), *tail)
        hours[hour] = hours.get(hour, 0) + count
        days[day] = days.get(day, 0) + count
    for table, period, rows in (("flow_day", "day", days), ("flow_hour", "hour", hours)):
        ordered = sorted(rows.items())
        for start in range(0, len(ordered), _CHUNK):
            counted = ((*key, count) for key, count in ordered[start : start + _CHUNK])
            statement = _COUNTER.format(table, period)
            insert_rows(connection, statement, counted, "ON DUPLICATE KEY UPDATE n = n + VALUES(n)")


@dataclass(frozen=True, slots=True)
class EventQuery:
    """Which events: of one recipient, one message, one domain, some kinds, before a position (newest first)."""

    tenant_id: int
    recipient: Address | None = None
    message_id: str | None = None
    domain_id: int | None = None
    kinds: tuple[int, ...] = ()
    since: datetime | None = None
    until: datetime | None = None
    before: tuple[datetime, bytes] | None = None
    limit: int = 100


def find_events(connection: Connection, query: EventQuery) -> Iterator[AnyRow]:
    """Events, newest first, with their names."""
    e = t.event.c
    where = [e.tenant_id == query.tenant_id]
    if query.recipient is not None:
        where.append(e.recipient_key == address_key(query.recipient))
    if query.message_id is not None:
        where.append(e.message_id == query.message_id)
    if query.domain_id is not None:
        where.append(e.domain_id == query.domain_id)
    if query.kinds:
        where.append(e.kind.in_(query.kinds))
    if query.since is not None:
        where.append(e.occurred_at >= query.since.astimezone(UTC).replace(tzinfo=None))
    if query.until is not None:
        where.append(e.occurred_at < query.until.astimezone(UTC).replace(tzinfo=None))
    if query.before is not None:
        at, identity = query.before
        where.append(or_(e.occurred_at < at, and_(e.occurred_at == at, e.identity < identity)))
    statement = (
        select(
            t.event,
            t.sending_domain.c.name.label("domain"),
            t.stream.c.name.label("stream"),
            t.relay.c.name.label("relay"),
            t.mailbox_provider.c.name.label("provider"),
        )
        .join(t.sending_domain, t.sending_domain.c.id == e.domain_id)
        .join(t.stream, t.stream.c.id == e.stream_id)
        .join(t.relay, t.relay.c.id == e.relay_id)
        .join(t.mailbox_provider, t.mailbox_provider.c.id == e.provider_id)
        .where(*where)
        .order_by(e.occurred_at.desc(), e.identity.desc())
        .limit(query.limit)
    )
    return iter(connection.execute(statement))
