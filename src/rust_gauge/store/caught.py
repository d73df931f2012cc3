"""Caught messages: what lists show, the octets, the conversation, and the assay."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

import zstandard
from sqlalchemy import Connection, Select, delete, func, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import CaughtColumns, Json
from rust_gauge.store.events import like
from rust_gauge.store.values import value_of, values_of

_PIECE = 4 * 2**20  # octets; MariaDB takes statements of 16 MB by default
_LEVEL = 3
_MAX_ATTEMPTS = 3


@dataclass(frozen=True, slots=True)
class CaughtRow:
    """A caught message as lists show it."""

    id: int
    tenant_id: int
    tray_id: int
    arrived_at: datetime
    via: str
    mail_from: str
    helo: str
    client_ip: str
    tls: str
    recipients: list[Any]
    subject: str
    header_from: str
    message_id: str
    series: str
    size: int
    state: str
    attempts: int
    mark: float | None
    worst: str | None
    points: list[Any] | None


@dataclass(frozen=True, slots=True)
class CaughtQuery:
    """A filter of caught messages of one tray. `subject` and `header_from` are parts of the text, in any case."""

    tray_id: int
    recipient: str = ""
    subject: str = ""
    header_from: str = ""
    series: str = ""
    since: datetime | None = None
    after: int | None = None
    before: int | None = None
    oldest_first: bool = False
    limit: int = 100


def add_message(
    connection: Connection, raw: bytes, conversation: bytes, indexed: Sequence[str], **values: Unpack[CaughtColumns]
) -> int:
    """Add a message; return its id, which is larger than that of every message before.

    `indexed` are the recipients in lower case, by which it is found.
    """
    key: Any = connection.execute(insert(t.caught_message).values(**values)).inserted_primary_key
    id = int(key[0])
    pack = zstandard.ZstdCompressor(level=_LEVEL)
    connection.execute(insert(t.caught_detail).values(message_id=id, conversation=pack.compress(conversation)))
    if indexed:
        rows = [{"tray_id": values["tray_id"], "recipient": each, "message_id": id} for each in sorted({*indexed})]
        connection.execute(insert(t.caught_recipient), rows)
    for number, start in enumerate(range(0, len(raw), _PIECE)):
        piece = pack.compress(raw[start : start + _PIECE])
        connection.execute(insert(t.caught_piece).values(message_id=id, number=number, octets=piece))
    return id


def find_messages(connection: Connection, query: CaughtQuery) -> list[CaughtRow]:
    """Return messages, newest first unless the query says otherwise."""
    c = t.caught_message.c
    chosen = _chosen(query)
    order = c.id if query.oldest_first else c.id.desc()
    return values_of(CaughtRow, connection.execute(chosen.order_by(order).limit(query.limit)))


def _chosen(query: CaughtQuery) -> Select[Any]:
    c, r = t.caught_message.c, t.caught_recipient.c
    chosen = select(t.caught_message).where(c.tray_id == query.tray_id)
    if query.recipient:
        named = select(r.message_id).where(r.tray_id == query.tray_id, r.recipient == query.recipient.lower())
        chosen = chosen.where(c.id.in_(named))
    if query.subject:
        chosen = chosen.where(func.lower(c.subject).like(f"%{like(query.subject.lower())}%"))
    if query.header_from:
        chosen = chosen.where(func.lower(c.header_from).like(f"%{like(query.header_from.lower())}%"))
    if query.series:
        chosen = chosen.where(c.series == query.series)
    if query.since is not None:
        chosen = chosen.where(c.arrived_at >= query.since)
    if query.after is not None:
        chosen = chosen.where(c.id > query.after)
    if query.before is not None:
        chosen = chosen.where(c.id < query.before)
    return chosen


@dataclass(frozen=True, slots=True)
class SeriesRow:
    """A series of messages in a tray, and its newest message."""

    series: str
    count: int
    newest: int
    arrived_at: datetime
    mark: float | None


def series_in(connection: Connection, tray_id: int, limit: int = 500) -> list[SeriesRow]:
    """Return the series of a tray, those with the newest message first."""
    c = t.caught_message.c
    grouped = (
        select(c.series, func.count().label("count"), func.max(c.id).label("newest"))
        .where(c.tray_id == tray_id).group_by(c.series).order_by(func.max(c.id).desc()).limit(limit).subquery()
    )  # fmt: skip
    g = grouped.c
    query = select(g.series, g.count, g.newest, c.arrived_at, c.mark).join(t.caught_message, c.id == g.newest)
    return values_of(SeriesRow, connection.execute(query.order_by(g.newest.desc())))


def newest_ids(connection: Connection, tray_ids: Sequence[int]) -> dict[int, int]:
    """Return the id of the newest message of each tray that has one."""
    c = t.caught_message.c
    found: dict[int, int] = {}
    for tray_id in tray_ids:  # each is the end of an index; asked together, all of it would be read
        newest = connection.scalar(select(c.id).where(c.tray_id == tray_id).order_by(c.id.desc()).limit(1))
        if newest is not None:
            found[tray_id] = int(newest)
    return found


def get_message(connection: Connection, tray_id: int, id: int) -> CaughtRow | None:
    """Return one message."""
    c = t.caught_message.c
    query = select(t.caught_message).where(c.tray_id == tray_id, c.id == id)
    return value_of(CaughtRow, connection.execute(query).first())


def source_of(connection: Connection, id: int) -> bytes:
    """Return the octets of a message."""
    return b"".join(_pieces(connection, id))


def _pieces(connection: Connection, id: int) -> Iterator[bytes]:
    c = t.caught_piece.c
    unpack = zstandard.ZstdDecompressor()
    for (octets,) in connection.execute(select(c.octets).where(c.message_id == id).order_by(c.number)):
        yield unpack.decompress(octets)


def conversation_of(connection: Connection, id: int) -> bytes:
    """Return the conversation in which a message came."""
    query = select(t.caught_detail.c.conversation).where(t.caught_detail.c.message_id == id)
    found = connection.execute(query).scalar()
    return b"{}" if found is None else zstandard.ZstdDecompressor().decompress(found)


def assay_of(connection: Connection, id: int) -> bytes | None:
    """Return the assay of a message; None when it was not examined yet."""
    query = select(t.caught_detail.c.assay).where(t.caught_detail.c.message_id == id)
    found = connection.execute(query).scalar()
    return None if found is None else zstandard.ZstdDecompressor().decompress(found)


def delete_messages(connection: Connection, tray_id: int, ids: Sequence[int] | None = None, limit: int = 500) -> int:
    """Delete messages of a tray, these or any; return how many were deleted, at most `limit`."""
    c = t.caught_message.c
    query = select(c.id).where(c.tray_id == tray_id)
    if ids is not None:
        query = query.where(c.id.in_(ids))
    found = [int(id) for (id,) in connection.execute(query.limit(limit))]
    if found:
        connection.execute(delete(t.caught_message).where(c.id.in_(found)))
    return len(found)


@dataclass(frozen=True, slots=True)
class AboutPerson:
    """A caught message from or to somebody."""

    id: int
    tray: str
    subject: str
    arrived_at: datetime


def messages_about(connection: Connection, tenant_id: int, address: str) -> list[AboutPerson]:
    """Return caught messages of a tenant that an address sent, or that were sent to it."""
    c, r = t.caught_message.c, t.caught_recipient.c
    address = address.lower()
    trays = select(t.tray.c.id).where(t.tray.c.tenant_id == tenant_id)
    named = select(r.message_id).where(r.tray_id.in_(trays), r.recipient == address)
    about = c.id.in_(named) | (func.lower(c.mail_from) == address) | (func.lower(c.header_from) == address)
    query = select(c.id, t.tray.c.name.label("tray"), c.subject, c.arrived_at).join(t.tray, t.tray.c.id == c.tray_id)
    return values_of(AboutPerson, connection.execute(query.where(c.tenant_id == tenant_id, about).order_by(c.id)))


def delete_by_id(connection: Connection, ids: Sequence[int]) -> None:
    """Delete messages, whatever their tray."""
    if ids:
        connection.execute(delete(t.caught_message).where(t.caught_message.c.id.in_(ids)))


def superfluous(
    connection: Connection, tray_id: int, before: datetime, keep: int, octets: int, limit: int = 500
) -> list[int]:
    """Return messages that a tray need not keep: old ones, and the oldest beyond a number or beyond so many octets."""
    c = t.caught_message.c
    window = select(
        c.id, c.arrived_at,
        func.row_number().over(order_by=c.id.desc()).label("place"),
        func.sum(c.size).over(order_by=c.id.desc()).label("filled"),
    ).where(c.tray_id == tray_id).subquery()  # fmt: skip
    w = window.c
    query = select(w.id).where((w.arrived_at < before) | (w.place > keep) | (w.filled > octets))
    return [int(id) for (id,) in connection.execute(query.order_by(w.id).limit(limit))]


# Examining


@dataclass(frozen=True, slots=True)
class ToExamine:
    """A message that waits to be examined."""

    id: int
    tenant_id: int
    tray_id: int
    via: str
    mail_from: str
    helo: str
    client_ip: str
    arrived_at: datetime
    attempts: int


def claim_next(connection: Connection, now: datetime, stale: datetime, tenants: Sequence[int] = ()) -> ToExamine | None:
    """Claim a message that waits, or whose claim is older than `stale`; not of these tenants, unless no other waits.

    One that was claimed three times ended whoever examined it: it is set aside as failed.
    """
    m = t.caught_message.c
    lost = update(t.caught_message).where(m.state == "claimed", m.claimed_at < stale)
    connection.execute(lost.where(m.attempts >= _MAX_ATTEMPTS).values(state="failed"))
    connection.execute(lost.where(m.attempts < _MAX_ATTEMPTS).values(state="waiting"))
    waiting = select(t.caught_message).where(m.state == "waiting").order_by(m.id).limit(1)
    waiting = waiting.with_for_update(skip_locked=True)
    found = connection.execute(waiting.where(m.tenant_id.not_in(tenants))).first() if tenants else None
    row = value_of(ToExamine, found or connection.execute(waiting).first())
    if row is not None:
        values = {"state": "claimed", "claimed_at": now, "attempts": row.attempts + 1}
        connection.execute(update(t.caught_message).where(m.id == row.id).values(values))
    return row


def write_assay(connection: Connection, id: int, mark: float, worst: str | None, points: Json, document: bytes) -> None:
    """Write what the examination of a message found."""
    m, d = t.caught_message.c, t.caught_detail.c
    values = {"state": "examined", "claimed_at": None, "mark": mark, "worst": worst, "points": points}
    connection.execute(update(t.caught_message).where(m.id == id).values(values))
    packed = zstandard.ZstdCompressor(level=_LEVEL).compress(document)
    connection.execute(update(t.caught_detail).where(d.message_id == id).values(assay=packed))


def set_state(connection: Connection, id: int, state: str) -> None:
    """Say whether a message waits to be examined, or could not be."""
    m = t.caught_message.c
    values = {"state": state, "claimed_at": None}
    connection.execute(update(t.caught_message).where(m.id == id).values(values))
