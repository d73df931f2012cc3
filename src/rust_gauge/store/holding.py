"""What past events say about recipients, for decisions about the suppression list."""

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple

from sqlalchemy import Connection, Row, select

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.suppression import Seen
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import run

_CHUNK = 1000  # keys in one IN list
_PIECE = 20_000  # keys in one question of clearance: sorted keys lie close together in the index
LOOKED_AT = (Kind.DELIVERED, Kind.DELAYED, Kind.BOUNCED, Kind.COMPLAINED, Kind.UNSUBSCRIBED)


class Recipient(NamedTuple):
    """A recipient with its events, in no order."""

    address: str
    provider_id: int
    events: list[Seen]


def histories(
    connection: Connection,
    tenant_id: int,
    keys: Sequence[bytes],
    since: datetime,
    kinds: Iterable[Kind] = LOOKED_AT,
    *,
    before: datetime | None = None,
) -> dict[bytes, Recipient]:
    """Return the events of these recipients (keys of events) since a time, and before another if one is given."""
    out: dict[bytes, Recipient] = {}
    listed_kinds = ", ".join(str(kind.number) for kind in sorted(kinds))
    after = since.astimezone(UTC).replace(tzinfo=None)
    until = f" AND e.occurred_at < '{before.astimezone(UTC).replace(tzinfo=None)}'" if before else ""
    names = _Names(connection, tenant_id)
    for start in range(0, len(keys), _CHUNK):
        # Each recipient by itself, as in `intake.groups_of`.
        listed = ",".join([f"(x'{key.hex()}')" for key in keys[start : start + _CHUNK]])
        sql = (
            f"WITH asked (k) AS (VALUES {listed}) SELECT {_COLUMNS} "
            "FROM asked STRAIGHT_JOIN event AS e FORCE INDEX (event_recipient) "
            f"ON e.tenant_id = {tenant_id} AND e.recipient_key = k "
            f"WHERE e.kind IN ({listed_kinds}) AND e.occurred_at >= '{after}'{until}"
        )
        for row in run(connection, sql):
            _add(out, row, names)
    return out


_COLUMNS = (
    "e.recipient_key, e.recipient, e.provider_id, e.occurred_at, e.kind, e.cause, e.permanence, e.message_id, "
    "e.domain_id, e.stream_id, e.diagnostic"
)


def _add(out: dict[bytes, Recipient], row: Row[Any], names: "_Names") -> None:
    key = bytes(row.recipient_key)
    found = out.get(key)
    if found is None:
        found = out[key] = Recipient(row.recipient, row.provider_id, [])
    found.events.append(
        Seen(
            row.occurred_at.replace(tzinfo=UTC),
            Kind.from_number(row.kind),
            Cause.from_number(row.cause),
            Permanence.from_number(row.permanence),
            names.domains.get(row.domain_id, ""),
            names.streams.get(row.stream_id, ""),
            row.message_id,
            row.diagnostic[:500],
            names.provider(row.provider_id),
        )
    )


class _Names:
    """Names behind ids."""

    def __init__(self, connection: Connection, tenant_id: int) -> None:
        self._connection = connection
        self._providers: dict[int, str] = {}
        d, s = t.sending_domain.c, t.stream.c
        self.domains = {
            row.id: row.name for row in connection.execute(select(d.id, d.name).where(d.tenant_id == tenant_id))
        }
        self.streams = {
            row.id: row.name for row in connection.execute(select(s.id, s.name).where(s.tenant_id == tenant_id))
        }

    def provider(self, id: int) -> str:
        if id not in self._providers:
            p = t.mailbox_provider.c
            self._providers[id] = self._connection.scalar(select(p.name).where(p.id == id)) or ""
        return self._providers[id]


def troubled_keys(connection: Connection, tenant_id: int, since: datetime, before: datetime) -> list[bytes]:
    """Return the keys of recipients that bounced, complained or unsubscribed in a period, in order."""
    kinds = ", ".join(str(kind.number) for kind in (Kind.BOUNCED, Kind.COMPLAINED, Kind.UNSUBSCRIBED))
    after, end = (each.astimezone(UTC).replace(tzinfo=None) for each in (since, before))
    sql = (
        f"SELECT DISTINCT recipient_key FROM event WHERE tenant_id = {tenant_id} AND occurred_at >= '{after}' "
        f"AND occurred_at < '{end}' "
        f"AND kind IN ({kinds})"
    )
    return sorted(bytes(row.recipient_key) for row in run(connection, sql))


def ids_of(connection: Connection, tenant_id: int) -> tuple[dict[str, int], dict[str, int]]:
    """Return sending domains and streams by name."""
    d, s = t.sending_domain.c, t.stream.c
    domains = {row.name: row.id for row in connection.execute(select(d.id, d.name).where(d.tenant_id == tenant_id))}
    streams = {row.name: row.id for row in connection.execute(select(s.id, s.name).where(s.tenant_id == tenant_id))}
    return domains, streams


def mailed_after(
    connection: Connection, tenant_id: int, key: bytes, stream_id: int, after: datetime
) -> datetime | None:
    """Return when a recipient was first mailed on a stream after a time; None if never."""
    e = t.event.c
    query = (
        select(e.occurred_at)
        .where(e.tenant_id == tenant_id, e.recipient_key == key, e.occurred_at > after)
        .where(e.kind.in_((Kind.ACCEPTED.number, Kind.DELIVERED.number)))
    )
    if stream_id:
        query = query.where(e.stream_id == stream_id)
    first: datetime | None = connection.scalar(query.order_by(e.occurred_at).limit(1))
    return first
