"""Events and their counters, written together; and reading events back as a trail."""

import hashlib
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, time, timedelta

from sqlalchemy import Connection, Table, and_, collate, func, insert, or_, select, text, tuple_

from rust_gauge.core.mailflow import Tally
from rust_gauge.core.names import Address, address_key
from rust_gauge.store import tables as t
from rust_gauge.store.intake import Counts, Names, Slot, write_counts
from rust_gauge.store.values import values_of


def intern(connection: Connection, table: Table, tenant_id: int, names: set[str], **values: object) -> dict[str, int]:
    """Ids of a tenant's names in `table`, made with `values` where they are missing."""
    if not names:
        return {}
    query = select(table.c.name, table.c.id).where(table.c.tenant_id == tenant_id, table.c.name.in_(names))
    known = {row.name: row.id for row in connection.execute(query)}
    missing = sorted(names - known.keys())
    if missing:
        rows = [{"tenant_id": tenant_id, "name": name, **values} for name in missing]
        connection.execute(insert(table).prefix_with("IGNORE"), rows)
        known = {row.name: row.id for row in connection.execute(query)}
    return known


def intern_labels(connection: Connection, tenant_id: int, labels: set[tuple[int, str]]) -> dict[tuple[int, str], int]:
    """Ids of sending addresses, campaigns and tags, made where they are missing."""
    c = t.label.c
    query = select(c.what, c.name, c.id).where(c.tenant_id == tenant_id, tuple_(c.what, c.name).in_(sorted(labels)))
    known = {(row.what, row.name): int(row.id) for row in connection.execute(query)} if labels else {}
    missing = sorted(labels - known.keys())
    if missing:
        rows = [{"tenant_id": tenant_id, "what": what, "name": name} for what, name in missing]
        connection.execute(insert(t.label).prefix_with("IGNORE"), rows)
        known = {(row.what, row.name): int(row.id) for row in connection.execute(query)}
    return known


def intern_wordings(connection: Connection, tenant_id: int, examples: dict[str, str], now: datetime) -> dict[str, int]:
    """Ids of reply patterns, made with an example where they are missing."""
    keys = {hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=16).digest(): text for text in examples}
    if not keys:
        return {}
    c = t.reply_pattern.c
    query = select(c.pattern_key, c.id).where(c.tenant_id == tenant_id, c.pattern_key.in_(sorted(keys)))
    known = {keys[bytes(row.pattern_key)]: int(row.id) for row in connection.execute(query)}
    missing = sorted(key for key, text in keys.items() if text not in known)
    if missing:
        rows = [
            {"tenant_id": tenant_id, "pattern_key": key, "reply_pattern": keys[key], "example": examples[keys[key]],
             "first_seen_at": now}
            for key in missing
        ]  # fmt: skip
        connection.execute(insert(t.reply_pattern).prefix_with("IGNORE"), rows)
        known = {keys[bytes(row.pattern_key)]: int(row.id) for row in connection.execute(query)}
    return known


def add_counts(connection: Connection, tenant_id: int, tally: Tally, names: Names, providers: dict[str, int]) -> None:
    """Add a tally to the counters of hours and of days."""
    counts: Counts = Counter()
    for key, n in tally:
        slot = Slot(
            str(key.hour.replace(tzinfo=None))[:13],
            names.domains[key.domain],
            providers[key.provider],
            names.streams[key.stream],
            names.relays[key.relay],
            key.cause.number,
            key.permanence.number,
            "",
        )
        counts[slot, key.kind.number] += n
    write_counts(connection, tenant_id, counts)


@dataclass(frozen=True, slots=True)
class EventQuery:
    """A filter of events: one recipient, one message, one domain, some kinds, before a position (newest first)."""

    tenant_id: int
    recipient: Address | None = None
    message_id: str | None = None
    domain_id: int | None = None
    kinds: tuple[int, ...] = ()
    provider_id: int | None = None
    stream_id: int | None = None
    relay_id: int | None = None
    sending_ip: str = ""
    causes: tuple[int, ...] = ()
    reply: str = ""
    patterns: tuple[int, ...] = ()
    since: datetime | None = None
    until: datetime | None = None
    before: tuple[datetime, bytes] | None = None
    limit: int = 100


def like(text: str) -> str:
    """Escape a text for LIKE, to be found as it is."""
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


@dataclass(frozen=True, slots=True)
class EventRow:
    """An event with its names."""

    tenant_id: int
    occurred_at: datetime
    identity: bytes
    arrived_at: datetime
    processed_at: datetime
    load_id: int
    feed_id: int
    kind: int
    domain_id: int
    stream_id: int
    relay_id: int
    provider_id: int
    recipient: str
    recipient_key: bytes
    message_id: str
    message_key: bytes
    cause: int
    permanence: int
    cause_rule: str
    pattern_id: int
    reply_code: int | None
    enhanced_code: str | None
    diagnostic: str
    remote_host: str
    sending_ip: str
    campaign: str
    tags: str
    label_ids: str
    attempt: int | None
    seconds_taken: float | None
    domain: str
    stream: str
    relay: str
    provider: str


def find_events(connection: Connection, query: EventQuery) -> list[EventRow]:
    """Events, newest first, with their names."""
    e = t.event.c
    where = [e.tenant_id == query.tenant_id]
    if query.recipient is not None:
        where.append(e.recipient_key == address_key(query.recipient))
    if query.message_id is not None:
        key = func.unhex(func.left(func.sha1(query.message_id), 16))
        where += [e.message_key == key, e.message_id == query.message_id]
    if query.domain_id is not None:
        where.append(e.domain_id == query.domain_id)
    for name in ("provider_id", "stream_id", "relay_id"):
        if getattr(query, name) is not None:
            where.append(e[name] == getattr(query, name))
    if query.sending_ip:
        where.append(e.sending_ip == query.sending_ip)
    if query.causes:
        where.append(e.cause.in_(query.causes))
    if query.reply:
        where.append(collate(e.diagnostic, "utf8mb4_general_ci").like(f"%{like(query.reply)}%"))
    if query.patterns:
        where.append(e.pattern_id.in_(query.patterns))
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
        # Events first: a tenant with few names has the server begin with those, and sort all of its events.
        .prefix_with("STRAIGHT_JOIN")
    )
    index = (
        "event_recipient" if query.recipient is not None
        else "event_message" if query.message_id
        else "event_pattern" if query.patterns
        else ""
    )  # fmt: skip
    if index:  # it would rather read all events backwards until it has met enough of this recipient's
        statement = statement.with_hint(t.event, f"FORCE INDEX ({index})")
    return values_of(EventRow, connection.execute(statement))


_UNINDEXED = frozenset(  # words that a full-text index of InnoDB leaves out
    [
        "about",
        "are",
        "com",
        "for",
        "from",
        "how",
        "that",
        "the",
        "this",
        "was",
        "what",
        "when",
        "where",
        "who",
        "will",
        "with",
        "und",
        "www",
    ]
)
_MOST_PATTERNS = 2000
_FEW = 8  # patterns, each of which is read by itself in the order of its index
_AT_ONCE = 5000  # events of more patterns that are looked through together


def search_words(text: str) -> list[str]:
    """Return the words of a text that are in reply patterns as they are: not those with digits, addresses, hosts."""
    chunks = [chunk for chunk in text.split() if re.fullmatch(r"[^\d@.']+[.,;:!?]?", chunk)]
    words = [word.lower() for chunk in chunks for word in re.findall(r"[^\W\d_]{3,}", chunk)]
    return [word for word in dict.fromkeys(words) if word not in _UNINDEXED]


def patterns_with(connection: Connection, tenant_id: int, words: Sequence[str]) -> tuple[int, ...]:
    """Return the ids of a tenant's reply patterns with all these words, each from its beginning; the newest first."""
    query = text(
        "SELECT id FROM reply_pattern WHERE tenant_id = :tenant AND MATCH(reply_pattern) AGAINST "
        f"(:words IN BOOLEAN MODE) ORDER BY first_seen_at DESC LIMIT {_MOST_PATTERNS}"
    )
    words = " ".join(f"+{word}*" for word in words)
    return tuple(connection.scalars(query, {"tenant": tenant_id, "words": words}))


def find_by_patterns(connection: Connection, query: EventQuery) -> list[EventRow]:
    """Return events of reply patterns, newest first; a page costs about the same however many there are."""
    if len(query.patterns) > _FEW:
        return _by_days(connection, query)
    each = [find_events(connection, replace(query, patterns=(pattern,))) for pattern in query.patterns]
    found = sorted(
        (row for rows in each for row in rows), key=lambda row: (row.occurred_at, row.identity), reverse=True
    )
    return found[: query.limit]


def _by_days(connection: Connection, query: EventQuery) -> list[EventRow]:
    """Return the same, looking through a few days at a time: so many that a few thousand events are read."""
    d = t.flow_pattern_day.c
    days = connection.execute(
        select(d.day, func.sum(d.n))
        .where(d.tenant_id == query.tenant_id, d.pattern_id.in_(query.patterns), d.n > 0)
        .group_by(d.day)
        .order_by(d.day.desc())
    ).all()
    found: list[EventRow] = []
    begin = end = None
    waiting = 0
    for number, (day, n) in enumerate(days):
        end = end or datetime.combine(day + timedelta(days=1), time())
        begin, waiting = datetime.combine(day, time()), waiting + int(n)
        if waiting < _AT_ONCE and number < len(days) - 1:
            continue
        since = max(filter(None, (begin, _plain(query.since))))
        until = min(filter(None, (end, _plain(query.until))))
        if query.before is not None:
            until = min(until, query.before[0] + timedelta(microseconds=1))
        if since < until:
            part = replace(
                query, since=since.replace(tzinfo=UTC), until=until.replace(tzinfo=UTC), limit=query.limit - len(found)
            )
            found += find_events(connection, part)
        if len(found) >= query.limit:
            break
        end, waiting = None, 0
    return found


def _plain(at: datetime | None) -> datetime | None:
    return at.astimezone(UTC).replace(tzinfo=None) if at else None
