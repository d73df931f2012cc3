"""Judging refusals of the past again, with every counter following.

Goes through a tenant's refusals in pieces. Each piece is one transaction that holds the tenant's counters, so it can be
stopped, killed and begun again at any point: what is judged already does not change any more.
"""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta

from sqlalchemy import Connection, and_, func, select, update

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count, Told
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, run
from rust_gauge.store.columns import CounterKey
from rust_gauge.store.intake import PATTERNS, Counts, Slot, add_difference, add_to, groups_of, hour_of, write_counts
from rust_gauge.store.values import values_of

PIECE = 10_000  # events in one transaction, so that new mail does not wait long
_CHUNK = 1000  # keys in one statement
_REFUSALS = (Kind.DELAYED.number, Kind.BOUNCED.number)
_COUNTED = (*_REFUSALS, Count.DELAYED_AGAIN.number, Count.BOUNCED_AGAIN.number)


@dataclass(frozen=True, slots=True)
class RefusalRow:
    """A bounce or delay with all that its cause is judged by and counted under."""

    occurred_at: datetime
    identity: bytes
    kind: int
    domain_id: int
    provider_id: int
    stream_id: int
    relay_id: int
    cause: int
    permanence: int
    cause_rule: str
    label_ids: str
    recipient: str
    recipient_key: bytes
    message_key: bytes
    pattern_id: int
    reply_code: int | None
    enhanced_code: str | None
    diagnostic: str
    message_id: str
    grouped: bool
    reply_pattern: str | None
    provider: str
    domain: str
    stream: str

    @property
    def slot(self) -> Slot:
        """Return the row of counters that it stands in."""
        return Slot(
            hour_of(self.occurred_at), self.domain_id, self.provider_id, self.stream_id, self.relay_id, self.cause,
            self.permanence, self.label_ids,
        )  # fmt: skip


Verdict = tuple[Cause, Permanence, str]
Judge = Callable[[RefusalRow], Verdict | None]
"""Given a row of a refusal: its cause, permanence and rule; None to leave it."""


@dataclass(frozen=True, slots=True)
class WordingOfProvider:
    """A reply by its fixed part at one provider, as it was judged, and how often it came."""

    id: int
    reply_pattern: str
    example: str
    provider_id: int
    provider: str
    cause: int
    permanence: int
    n: int


@dataclass(slots=True)
class Judged:
    """The outcome of a piece: how many were checked, what changed, and where the next piece begins."""

    looked_at: int = 0
    changed: list[tuple[RefusalRow, Verdict]] = field(default_factory=list)
    after: tuple[datetime, bytes] | None = None


def refusal_days(connection: Connection, tenant_id: int) -> list[date]:
    """Days of which the counters know bounces or delays, the newest first."""
    c = t.flow_day.c
    query = select(c.day).where(c.tenant_id == tenant_id, c.kind.in_(_COUNTED)).distinct().order_by(c.day.desc())
    return [row.day for row in connection.execute(query)]


def rejudge(
    connection: Connection, tenant_id: int, day: date, after: tuple[datetime, bytes] | None, judge: Judge
) -> Judged:
    """Judge a piece of a day's refusals. The counters have to be locked (`lock_counters`)."""
    rows = _refusals(connection, tenant_id, day, after)
    out = Judged(looked_at=len(rows))
    if len(rows) == PIECE:
        out.after = (rows[-1].occurred_at, bytes(rows[-1].identity))
    for row in rows:
        verdict = judge(row)
        if verdict is None:
            continue
        cause, permanence, rule = verdict
        if (cause.number, permanence.number, rule) != (row.cause, row.permanence, row.cause_rule):
            out.changed.append((row, verdict))
    if out.changed:
        _count(connection, tenant_id, [(row, v) for row, v in out.changed if _slot(row, v) != row.slot])
        _write(connection, tenant_id, out.changed)
        changes.note(connection, tenant_id, "events")
    return out


def _refusals(
    connection: Connection, tenant_id: int, day: date, after: tuple[datetime, bytes] | None
) -> Sequence[RefusalRow]:
    e = t.event.c
    begin = datetime.combine(day, datetime.min.time())
    query = (
        select(
            e.occurred_at, e.identity, e.kind, e.domain_id, e.provider_id, e.stream_id, e.relay_id, e.cause,
            e.permanence, e.cause_rule, e.label_ids, e.recipient, e.recipient_key, e.message_key, e.pattern_id,
            e.reply_code, e.enhanced_code, e.diagnostic, e.message_id, (e.message_id != "").label("grouped"),
            t.reply_pattern.c.reply_pattern, t.mailbox_provider.c.name.label("provider"),
            t.sending_domain.c.name.label("domain"), t.stream.c.name.label("stream"),
        )
        .outerjoin(t.reply_pattern, t.reply_pattern.c.id == e.pattern_id)
        .join(t.mailbox_provider, t.mailbox_provider.c.id == e.provider_id)
        .join(t.sending_domain, t.sending_domain.c.id == e.domain_id)
        .join(t.stream, t.stream.c.id == e.stream_id)
        .where(e.tenant_id == tenant_id, e.kind.in_(_REFUSALS))
        .where(e.occurred_at >= (after[0] if after else begin), e.occurred_at < begin + timedelta(days=1))
        .order_by(e.occurred_at, e.identity)
        .limit(PIECE)
    )  # fmt: skip
    if after:
        at, identity = after
        query = query.where((e.occurred_at > at) | and_(e.occurred_at == at, e.identity > identity))
    return values_of(RefusalRow, connection.execute(query))


def _slot(row: RefusalRow, verdict: Verdict) -> Slot:
    return row.slot._replace(cause=verdict[0].number, permanence=verdict[1].number)


def _count(connection: Connection, tenant_id: int, changed: list[tuple[RefusalRow, Verdict]]) -> None:
    """Move the events from their present counters to those where they belong."""
    if not changed:
        return
    counts: Counts = Counter()
    reply_patterns: Counter[CounterKey] = Counter()
    slots: dict[bytes, Slot] = {}  # of events that are counted with others of their message
    recipients: set[bytes] = set()
    for row, verdict in changed:
        new, old = _slot(row, verdict), row.slot
        if row.pattern_id:
            reply_patterns[row.pattern_id, new.hour[:10], new.provider_id, new.cause, new.permanence] += 1
            reply_patterns[row.pattern_id, old.hour[:10], old.provider_id, old.cause, old.permanence] -= 1
        if row.grouped:
            slots[bytes(row.identity)] = new
            recipients.add(bytes(row.recipient_key))
        else:
            counts[new, row.kind] += 1
            counts[old, row.kind] -= 1
    times = [row.occurred_at for row, _ in changed]
    for group in groups_of(connection, tenant_id, sorted(recipients), min(times), max(times)).values():
        told = [told for _, told in group]
        if any(event.identity in slots for event in told):
            after = [Told(e.occurred_at, e.identity, e.kind, slots.get(e.identity, e.slot)) for e in told]
            add_difference(counts, told, after)
    write_counts(connection, tenant_id, counts)
    add_to(connection, PATTERNS, tenant_id, reply_patterns)


def _write(connection: Connection, tenant_id: int, changed: list[tuple[RefusalRow, Verdict]]) -> None:
    run(
        connection,
        "CREATE TEMPORARY TABLE IF NOT EXISTS judged (occurred_at DATETIME(6), identity BINARY(16), cause TINYINT "
        "UNSIGNED, permanence TINYINT UNSIGNED, cause_rule VARCHAR(60), PRIMARY KEY (occurred_at, identity)) "
        "ENGINE=InnoDB CHARSET=utf8mb4 COLLATE utf8mb4_bin",
    )
    run(connection, "DELETE FROM judged")
    rows = [
        (row.occurred_at, bytes(row.identity), cause.number, permanence.number, rule)
        for row, (cause, permanence, rule) in changed
    ]
    for start in range(0, len(rows), _CHUNK):
        insert_rows(connection, "INSERT INTO judged VALUES", rows[start : start + _CHUNK])
    run(
        connection,
        "UPDATE judged AS j STRAIGHT_JOIN event AS e ON e.occurred_at = j.occurred_at AND e.identity = j.identity "
        f"AND e.tenant_id = {tenant_id} "
        "SET e.cause = j.cause, e.permanence = j.permanence, e.cause_rule = j.cause_rule",
    )
    run(connection, "DELETE FROM judged")


# Reply patterns, for a trial


def wordings_by_provider(connection: Connection, tenant_id: int, first: date, last: date) -> list[WordingOfProvider]:
    """reply pattern, example, provider_id, provider, cause, permanence, n of a period."""
    c, w = t.flow_pattern_day.c, t.reply_pattern.c
    query = (
        select(
            w.id, w.reply_pattern, w.example, c.provider_id, t.mailbox_provider.c.name.label("provider"), c.cause,
            c.permanence, func.sum(c.n).label("n"),
        )
        .join(t.reply_pattern, w.id == c.pattern_id)
        .join(t.mailbox_provider, t.mailbox_provider.c.id == c.provider_id)
        .where(c.tenant_id == tenant_id, c.day.between(first, last))
        .group_by(w.id, c.provider_id, c.cause, c.permanence)
        .order_by(func.sum(c.n).desc(), w.id)
        .limit(100_000)
    )  # fmt: skip
    return values_of(WordingOfProvider, connection.execute(query))


def transient_bounces(
    connection: Connection, tenant_id: int, first: date, last: date, wording_ids: Sequence[int]
) -> dict[tuple[int, int], int]:
    """Return by reply pattern and provider: bounces that a rule made transient. Reads the period's events."""
    e = t.event.c
    begin, end = (datetime.combine(day, datetime.min.time()) for day in (first, last + timedelta(days=1)))
    query = (
        select(e.pattern_id, e.provider_id, func.count().label("n"))
        .where(e.tenant_id == tenant_id, e.occurred_at >= begin, e.occurred_at < end)
        .where(e.kind == Kind.BOUNCED.number, e.permanence == Permanence.TRANSIENT.number)
        .where(e.pattern_id.in_(wording_ids), e.cause_rule.not_like("%stated"))
        .group_by(e.pattern_id, e.provider_id)
    )
    return {(row.pattern_id, row.provider_id): int(row.n) for row in connection.execute(query)}


# How far it is


def raise_rules_version(connection: Connection, tenant_id: int) -> int:
    """Return the next version of a tenant's rules. Its counters stay locked until the transaction ends."""
    c = t.intake_lock.c
    connection.execute(update(t.intake_lock).where(c.tenant_id == tenant_id).values(rules_version=c.rules_version + 1))
    return int(connection.scalar(select(c.rules_version).where(c.tenant_id == tenant_id)) or 0)
