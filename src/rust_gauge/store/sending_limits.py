"""What counts against sending limits: mail by relay and hour, replies that name too much, what clearance let go."""

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from sqlalchemy import ColumnElement, Connection, delete, func, select
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies.causes import SENDER_CAUSES, Cause
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal
from rust_gauge.store.columns import Document
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.events import intern
from rust_gauge.store.intake import TAKEN
from rust_gauge.store.values import values_of

_REFUSED = (Count.DELAYED.number, Count.DELAYED_AGAIN.number, Count.BOUNCED.number, Count.BOUNCED_AGAIN.number)
_OF_SENDERS = tuple(sorted({cause.number for cause in (*SENDER_CAUSES, Cause.UNCLASSIFIED, Cause.SENDER_UNPROVEN)}))
_PER_HOUR = timedelta(hours=1)
_CLEARED = 255  # stands for a kind of counter


@dataclass(frozen=True, slots=True)
class HitRow:
    """Replies of one hour at a provider that name too much mail."""

    provider_id: int
    hour: datetime
    n: int


@dataclass(frozen=True, slots=True)
class ReplyRow:
    """A reply, and the server that gave it."""

    diagnostic: str
    remote_host: str


@dataclass(frozen=True, slots=True)
class SenderReply:
    """A reply about the sender: how often in a period, and its newest day."""

    example: str
    n: int
    last_day: date


def relay_ids(connection: Connection, tenant_id: int) -> dict[str, int]:
    """Return the ids of a tenant's relays by name."""
    c = t.relay.c
    return {row.name: row.id for row in connection.execute(select(c.name, c.id).where(c.tenant_id == tenant_id))}


def described_relay(connection: Connection, tenant_id: int, name: str) -> tuple[int, Document] | None:
    """Return the id and the description of a relay; None where nobody described one of this name."""
    c = t.relay.c
    query = select(c.id, c.description).where(c.tenant_id == tenant_id, c.name == name, c.description.is_not(None))
    row = connection.execute(query).first()
    return None if row is None else (row.id, row.description)


def stream_ids(connection: Connection, tenant_id: int, names: Collection[str]) -> dict[str, int]:
    """Return the ids of streams by name; those that no mail was seen of are missing."""
    c = t.stream.c
    query = select(c.name, c.id).where(c.tenant_id == tenant_id, c.name.in_(list(names)))
    return {row.name: row.id for row in connection.execute(query)}


@dataclass(frozen=True, slots=True)
class Taken:
    """What counts against limits, by stream and hour: what a relay took, and what clearance let go by it."""

    sent: dict[int, dict[datetime, int]]
    cleared: dict[int, dict[datetime, int]]


def taken_by_hour(connection: Connection, tenant_id: int, relay_id: int, since: datetime) -> Taken:
    """Return what counts against a relay's limits since an hour. Asked before each send, so in one question.

    Where its source says what it accepted, that; otherwise what was delivered and bounced.
    """
    first, where = literal(_naive(since)), f"tenant_id = {tenant_id} AND relay_id = {relay_id}"
    rows = raw_rows(
        connection,
        f"SELECT stream_id, TIMESTAMPDIFF(HOUR, {first}, hour), kind, n FROM flow_relay_hour WHERE {where} "
        f"AND hour >= {first} UNION ALL SELECT stream_id, TIMESTAMPDIFF(HOUR, {first}, hour), {_CLEARED}, n "
        f"FROM cleared_hour WHERE {where} AND hour >= {first}",
    )
    kinds: dict[tuple[int, int], dict[int, int]] = defaultdict(dict)
    for stream_id, hour, kind, n in rows:
        kinds[int(stream_id), int(hour)][int(kind)] = int(n)
    accepted, delivered, bounced, returned = TAKEN
    taken = Taken(defaultdict(dict), defaultdict(dict))
    for (stream_id, number), of in kinds.items():
        reached = of.get(delivered, 0) + of.get(bounced, 0) - of.get(returned, 0)
        hour = since + number * _PER_HOUR
        taken.sent[stream_id][hour] = max(of.get(accepted, 0), reached)
        taken.cleared[stream_id][hour] = of.get(_CLEARED, 0)
    return taken


def _of_relay(
    connection: Connection, tenant_id: int, relay_id: int, since: datetime
) -> tuple[ColumnElement[bool], ...]:
    """Counters of a relay since an hour. Their key begins with the domain: with all of them named, only those hours are
    read."""
    c, d = t.flow_hour.c, t.sending_domain.c
    domains = list(connection.scalars(select(d.id).where(d.tenant_id == tenant_id)))
    return c.tenant_id == tenant_id, c.domain_id.in_(domains), c.hour >= _naive(since), c.relay_id == relay_id


def most_per_second(connection: Connection, tenant_id: int, relay_id: int, since: datetime) -> int:
    """Return the most messages that a relay took within one second since a time, by whole seconds."""
    c = t.event.c
    second = func.unix_timestamp(c.occurred_at).op("DIV")(1)
    kinds = (Kind.ACCEPTED.number, Kind.DELIVERED.number)
    counted = (
        select(c.kind, func.count().label("n"))
        .where(c.tenant_id == tenant_id, c.occurred_at >= _naive(since), c.relay_id == relay_id, c.kind.in_(kinds))
        .group_by(c.kind, second)
        .subquery()
    )
    return int(connection.scalar(select(func.max(counted.c.n))) or 0)


def hits(connection: Connection, tenant_id: int, relay_id: int, since: datetime) -> list[HitRow]:
    """Return by provider and hour how many replies to a relay's mail named too much mail, oldest first."""
    c = t.flow_hour.c
    query = (
        select(c.provider_id, c.hour, func.sum(c.n).label("n"))
        .where(*_of_relay(connection, tenant_id, relay_id, since))
        .where(c.kind.in_(_REFUSED), c.cause == Cause.RATE_LIMITED.number)
        .group_by(c.provider_id, c.hour)
        .order_by(c.hour)
    )
    return values_of(HitRow, connection.execute(query))


def mail_by_hour(
    connection: Connection, tenant_id: int, relay_id: int, provider_id: int, since: datetime
) -> dict[datetime, int]:
    """Return by hour how many messages of a relay reached a provider: delivered or bounced."""
    c = t.flow_hour.c
    query = (
        select(c.hour, func.sum(c.n))
        .where(*_of_relay(connection, tenant_id, relay_id, since))
        .where(c.provider_id == provider_id, c.kind.in_((Count.DELIVERED.number, Count.BOUNCED.number)))
        .group_by(c.hour)
    )
    return {hour: int(n) for hour, n in connection.execute(query)}


def newest_hit(
    connection: Connection, tenant_id: int, relay_id: int, provider_id: int, hour: datetime
) -> ReplyRow | None:
    """Return the newest reply of an hour that names too much mail; None where its events are not kept any more."""
    c = t.event.c
    query = (
        select(c.diagnostic, c.remote_host)
        .where(c.tenant_id == tenant_id, c.occurred_at >= hour, c.occurred_at < hour + _PER_HOUR)
        .where(c.relay_id == relay_id, c.provider_id == provider_id, c.cause == Cause.RATE_LIMITED.number)
        .order_by(c.occurred_at.desc())
        .limit(1)
    )
    found = values_of(ReplyRow, connection.execute(query))
    return found[0] if found else None


def sender_replies(connection: Connection, tenant_id: int, relay_id: int, since: date) -> list[SenderReply]:
    """Return replies about the sender since a day, at providers and on days where this relay's mail got such."""
    c, w, f = t.flow_pattern_day.c, t.reply_pattern.c, t.flow_day.c
    d = t.sending_domain.c
    domains = list(connection.scalars(select(d.id).where(d.tenant_id == tenant_id)))
    refused = (
        select(f.day, f.provider_id, f.cause)
        .where(f.tenant_id == tenant_id, f.domain_id.in_(domains), f.day >= since, f.relay_id == relay_id)
        .where(f.cause.in_(_OF_SENDERS))
        .distinct()
        .subquery()
    )
    r = refused.c
    query = (
        select(w.example, func.sum(c.n).label("n"), func.max(c.day).label("last_day"))
        .join(t.reply_pattern, w.id == c.pattern_id)
        .join(refused, (r.day == c.day) & (r.provider_id == c.provider_id) & (r.cause == c.cause))
        .where(c.tenant_id == tenant_id, c.day >= since, c.cause.in_(_OF_SENDERS))
        .group_by(w.id)
        .order_by(func.sum(c.n).desc())
        .limit(500)
    )
    return values_of(SenderReply, connection.execute(query))


# Clearance


def count_cleared(connection: Connection, tenant_id: int, relay_id: int, hour: datetime, stream: str, n: int) -> None:
    """Count addresses of a stream that clearance let go, and forget those of days ago."""
    c = t.cleared_hour.c
    # Its events will be of this stream, also where it is the first mail of it.
    stream_id = intern(connection, t.stream, tenant_id, {stream})[stream]
    new = upsert(t.cleared_hour).values(
        tenant_id=tenant_id, relay_id=relay_id, hour=_naive(hour), stream_id=stream_id, n=n
    )
    if connection.execute(new.on_duplicate_key_update(n=c.n + n)).rowcount != 1:
        return
    # The first of an hour: time to forget.
    old = _naive(hour) - timedelta(days=3)
    connection.execute(delete(t.cleared_hour).where(c.tenant_id == tenant_id, c.relay_id == relay_id, c.hour < old))


def _naive(at: datetime) -> datetime:
    return at.astimezone(UTC).replace(tzinfo=None)
