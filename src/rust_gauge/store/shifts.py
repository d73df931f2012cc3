"""Hourly counters as the search for shifts wants them, and the shifts that were found."""

from dataclasses import dataclass
from datetime import datetime
from typing import Unpack

from sqlalchemy import ColumnElement, Connection, func, select

from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies.causes import SENDER_CAUSES
from rust_gauge.store import tables as t
from rust_gauge.store.columns import ShiftColumns
from rust_gauge.store.values import values_of

_KINDS = (Count.DELIVERED, Count.DELAYED, Count.BOUNCED, Count.COMPLAINED, Count.RETURNED)
_OURS = tuple(sorted(cause.number for cause in SENDER_CAUSES))


@dataclass(frozen=True, slots=True)
class HourLine:
    """Counters of an hour; `ours` whether the cause speaks of us."""

    hour: datetime
    provider_id: int
    relay_id: int
    kind: int
    permanence: int
    ours: bool
    n: int


@dataclass(frozen=True, slots=True)
class ShiftRow:
    """A shift, with the name of the provider or relay that it is about."""

    id: int
    tenant_id: int
    what: str
    subject_id: int
    rate: str
    began_at: datetime
    found_at: datetime
    seen_at: datetime
    ended_at: datetime | None
    usual: float
    count: int
    total: int
    strength: float
    provider: str | None
    relay: str | None


@dataclass(frozen=True, slots=True)
class BehindRow:
    """A part of what lies behind a shift."""

    domain: str
    stream: str
    provider_id: int
    relay: str
    kind: int
    cause: int
    permanence: int
    n: int


def hour_lines(connection: Connection, tenant_id: int, since: datetime) -> list[HourLine]:
    """hour, provider_id, relay_id, kind, permanence, ours (whether the cause speaks of us), n."""
    domains = list(connection.scalars(select(t.sending_domain.c.id).where(t.sending_domain.c.tenant_id == tenant_id)))
    c = t.flow_hour.c
    ours = c.cause.in_(_OURS).label("ours")
    keys = (c.hour, c.provider_id, c.relay_id, c.kind, c.permanence, ours)
    query = (
        select(*keys, func.sum(c.n).label("n"))
        # With the domains named the key leads to the hours; without it all hours there ever were would be read.
        .where(c.tenant_id == tenant_id, c.domain_id.in_(domains), c.hour >= since)
        .where(c.kind.in_([kind.number for kind in _KINDS]))
        .group_by(c.hour, c.provider_id, c.relay_id, c.kind, c.permanence, ours)
    )
    return values_of(HourLine, connection.execute(query))


def nameless_relay(connection: Connection, tenant_id: int) -> int | None:
    """Return the relay of events that name none."""
    c = t.relay.c
    found: int | None = connection.scalar(select(c.id).where(c.tenant_id == tenant_id, c.name == ""))
    return found


def list_shifts(
    connection: Connection, tenant_id: int, since: datetime | None = None, id: int | None = None
) -> list[ShiftRow]:
    """Shifts that were going on at `since` or began later, the newest first, with the name of what they are about."""
    c = t.shift.c
    query = (
        select(t.shift, t.mailbox_provider.c.name.label("provider"), t.relay.c.name.label("relay"))
        .outerjoin(t.mailbox_provider, (c.what == "provider") & (t.mailbox_provider.c.id == c.subject_id))
        .outerjoin(t.relay, (c.what == "relay") & (t.relay.c.id == c.subject_id))
        .where(c.tenant_id == tenant_id)
        .order_by(c.began_at.desc(), c.id.desc())
        .limit(500)
    )
    if since is not None:
        query = query.where(c.ended_at.is_(None) | (c.ended_at >= since))
    if id is not None:
        query = query.where(c.id == id)
    return values_of(ShiftRow, connection.execute(query))


def add_shift(connection: Connection, **values: Unpack[ShiftColumns]) -> int:
    """Add a shift; return its id."""
    return int(connection.execute(t.shift.insert().values(**values)).inserted_primary_key[0])  # type: ignore[index]


def change_shift(connection: Connection, id: int, /, **values: Unpack[ShiftColumns]) -> None:
    """Change columns of a shift."""
    connection.execute(t.shift.update().where(t.shift.c.id == id).values(**values))


def drop_shift(connection: Connection, id: int) -> None:
    """Delete a shift."""
    connection.execute(t.shift.delete().where(t.shift.c.id == id))


def tenants_with_open(connection: Connection, seen_before: datetime) -> list[int]:
    """Tenants with shifts that go on and were not checked since."""
    c = t.shift.c
    query = select(c.tenant_id).where(c.ended_at.is_(None), c.seen_at < seen_before).distinct()
    return list(connection.scalars(query))


def behind(connection: Connection, row: ShiftRow, first: datetime, last: datetime) -> list[BehindRow]:
    """Counters of a shift's hours: domain, stream, provider_id, relay, kind, cause, permanence, n."""
    c = t.flow_hour.c
    subject: ColumnElement[bool] = (c.provider_id if row.what == "provider" else c.relay_id) == row.subject_id
    query = (
        select(
            t.sending_domain.c.name.label("domain"), t.stream.c.name.label("stream"), c.provider_id,
            t.relay.c.name.label("relay"), c.kind, c.cause, c.permanence, func.sum(c.n).label("n"),
        )
        .join(t.sending_domain, t.sending_domain.c.id == c.domain_id)
        .join(t.stream, t.stream.c.id == c.stream_id)
        .join(t.relay, t.relay.c.id == c.relay_id)
        .where(c.tenant_id == row.tenant_id, t.sending_domain.c.tenant_id == row.tenant_id)
        .where(c.hour.between(first, last), subject)
        .group_by(c.domain_id, c.stream_id, c.provider_id, c.relay_id, c.kind, c.cause, c.permanence)
    )  # fmt: skip
    return values_of(BehindRow, connection.execute(query))
