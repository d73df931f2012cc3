"""Storing events with all that follows from them, in one transaction: rows, counters, what counts once.

Rows go in by LOAD DATA. Which of them are new is known from the server's count: nearly
always all or none; otherwise the counts of this load are asked for. Counters of one tenant are changed by one load at
a time, so that a delivery and a bounce of the same message see each other whichever comes first.
"""

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import NamedTuple

from sqlalchemy import Connection, insert, select

from rust_gauge.core.mailflow import Event, Kind
from rust_gauge.core.mailflow.counting import APART, GROUPED, ONCE, Count, Told, count_group, time_bucket
from rust_gauge.core.mailflow.event import Path, time_text
from rust_gauge.core.names import address_key
from rust_gauge.core.suppression import Matching
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.bulk_load import LINE, SPECIAL, escape, load_rows
from rust_gauge.store.columns import CounterKey
from rust_gauge.store.delivery_times import expects_pairs, pair_deliveries
from rust_gauge.store.engine import StoreError
from rust_gauge.store.tables import SUM_DOMAIN, SUM_PROVIDER, SUM_RELAY, SUM_STREAM
from rust_gauge.store.trouble import Troubled

_CHUNK = 1000  # keys in one statement
_COLUMNS = (
    "@keys, occurred_at, kind, domain_id, stream_id, relay_id, provider_id, recipient, message_id, remote_host, "
    "sending_ip, campaign, tags, label_ids, reply_code, enhanced_code, attempt, seconds_taken, cause, permanence, "
    "cause_rule, pattern_id, diagnostic"
)
_KEYS = "identity = LEFT(@keys, 16), recipient_key = RIGHT(@keys, 16), message_key = UNHEX(LEFT(SHA1(message_id), 16))"
IP, CAMPAIGN, TAG = 0, 1, 2  # what a label is
_NO_NUMBERS = "\\N\x1f\\N\x1f\\N\x1f\\N"  # no code, enhanced code, attempt or time taken
_NO_CAUSE = "0\x1f0\x1f\x1f0"
_ACCEPTED, _DELIVERED = Kind.ACCEPTED.number, Kind.DELIVERED.number


class Slot(NamedTuple):
    """The row of counters that an event belongs to, but for its kind."""

    hour: str  # YYYY-MM-DD HH
    domain_id: int
    provider_id: int
    stream_id: int
    relay_id: int
    cause: int
    permanence: int
    label_ids: str  # joined by commas


Counts = Counter[tuple[Slot, int]]


@dataclass(slots=True)
class Names:
    """Ids of the names that loads use. They are added to while loads are read, and never taken away."""

    domains: dict[str, int] = field(default_factory=dict)
    streams: dict[str, int] = field(default_factory=dict)
    relays: dict[str, int] = field(default_factory=dict)
    providers: dict[str, tuple[int, str]] = field(default_factory=dict)  # by recipient domain
    labels: dict[tuple[int, str], int] = field(default_factory=dict)
    troubled: Troubled = field(default_factory=Troubled)


def labels_of(path: Path) -> list[tuple[int, str]]:
    """Return what else a path is counted by."""
    out = [(TAG, tag) for tag in path.tags]
    if path.campaign:
        out.append((CAMPAIGN, path.campaign))
    if path.sending_ip:
        out.append((IP, path.sending_ip))
    return out


class StaleRulesError(Exception):
    """The tenant's rules changed while a load was judged by them: it has to be judged again."""


class PathRow:
    """A path as rows have it: its part of a row before and behind the message, and what was counted on it.

    `counts` by (hour, provider id, kind number), for events without a cause; `times` by (day, provider id, bucket).
    """

    __slots__ = ("before", "behind", "counts", "ids", "label_ids", "path", "times", "where")

    def __init__(self, path: Path, names: Names) -> None:
        self.path, self.where = path, path.where
        self.ids = (names.domains[path.domain], names.streams[path.stream], names.relays[path.relay])
        self.label_ids = ",".join(str(names.labels[label]) for label in labels_of(path))
        self.before = "\x1f".join(map(str, self.ids))
        tags = _escape(",".join(path.tags))
        self.behind = f"{path.sending_ip}\x1f{_escape(path.campaign)}\x1f{tags}\x1f{self.label_ids}"
        self.counts: dict[tuple[str, int, int], int] = {}
        self.times: dict[tuple[str, int, int], int] = {}

    def slot(self, hour: str, provider_id: int, cause: int, permanence: int) -> Slot:
        """Return the row of counters that an event of this path belongs to."""
        domain, stream, relay = self.ids
        return Slot(hour, domain, provider_id, stream, relay, cause, permanence, self.label_ids)


def _escape(text: str) -> str:
    return text.replace("\\", "\\\\") if "\\" in text else text


class Load:
    """One load: rows are added, then `store` writes them and what follows from them."""

    def __init__(
        self, tenant_id: int, feed_id: int, names: Names, rules_version: int = 0, hiding: Matching | None = None
    ) -> None:
        self.tenant_id = tenant_id
        self.rules_version = rules_version  # of what rows are judged by: rules, and how long events are kept
        self.feed_id = feed_id
        self.names = names
        self._hiding = hiding  # set where no address may be stored: recipients go in under their pseudonyms
        self.sent = 0  # rows
        self.packets: list[bytes] = []
        self.times: list[str] = []
        self.delivered: list[bytes] = []  # recipient keys
        self.delivered_domains: dict[str, str] = {}  # recipient domains, and when mail was last delivered there
        self.troubled: set[bytes] = set()  # those of `delivered` with whom there was trouble before
        self.accepted: list[bytes] = []  # recipient keys of messages with an id
        self.untimed: list[bytes] = []  # the same, of deliveries that say nothing of the time they took
        self.told: list[tuple[Event, bytes, Slot]] = []  # what counts once, and rejections
        self.reply_patterns: dict[bytes, int] = {}  # ids of reply patterns by identity of the event
        self._paths: dict[Path, PathRow] = {}
        self._lines: list[bytes] = []
        self._counted_domains: set[int] = set()  # a complaint may be about mail of another domain than it names
        self._load_id = 0  # known once it is written

    def path(self, path: Path) -> PathRow:
        """Its names have to be known."""
        found = self._paths.get(path)
        if found is None:
            found = self._paths[path] = PathRow(path, self.names)
        return found

    def add_plain(
        self, identity: bytes, key: bytes, time: str, kind: int, path: PathRow, provider_id: int, address: str,
        domain: str, message_id: str, host: str, reply_code: int | None, enhanced: str | None, attempt: int | None,
        seconds: float | None, diagnostic: str,
    ) -> None:  # fmt: skip
        """Add a row of an event that counts each time it arrives, whose texts hold nothing to be escaped.

        `time` as the store writes it; `key` is the recipient's. Called for nearly every row, so it does no more than
        it has to.
        """
        numbers = _NO_NUMBERS
        if reply_code is not None or enhanced is not None or attempt is not None or seconds is not None:
            parts = (reply_code, enhanced, attempt, seconds)
            numbers = "\x1f".join(["\\N" if part is None else str(part) for part in parts])
        text = (
            f"{time}\x1f{kind}\x1f{path.before}\x1f{provider_id}\x1f{address}\x1f{message_id}\x1f{host}\x1f"
            f"{path.behind}\x1f{numbers}\x1f{_NO_CAUSE}\x1f{diagnostic}"
        )
        keys = identity + key
        if SPECIAL.search(keys):
            keys = escape(keys)
        self._lines.append(b"%b\x1f%b" % (keys, text.encode()))
        self.times.append(time)
        if kind == _DELIVERED:
            self.delivered.append(key)
            if self.delivered_domains.get(domain, "") < time:
                self.delivered_domains[domain] = time
            if seconds is not None:
                bucket = (time[:10], provider_id, time_bucket(seconds))
                path.times[bucket] = path.times.get(bucket, 0) + 1
            elif message_id:
                self.untimed.append(key)
        elif kind == _ACCEPTED and message_id:
            self.accepted.append(key)
        count = (time[:13], provider_id, kind)
        path.counts[count] = path.counts.get(count, 0) + 1

    def domain_ids(self) -> list[int]:
        """Return sending domains of which there is something in the load, or whose counters it changed."""
        here = {path.ids[0] for path in self._paths.values() if path.counts} | {slot[1] for _, _, slot in self.told}
        return sorted(here | self._counted_domains)

    def add(self, event: Event) -> None:
        """Add a row of an event whose names are all known."""
        path = self.path(event.path)
        key = address_key(event.recipient)
        time = time_text(event.occurred_at)
        provider_id, provider = self.names.providers[event.recipient.domain]
        recipient = event.recipient if self._hiding is None else self._hiding.pseudonym(event.recipient, provider)
        kind, cause, permanence = event.kind.number, event.cause.number, event.permanence.number
        pattern_id = self.reply_patterns.get(event.identity, 0)
        numbers = (event.reply_code, event.enhanced_code, event.attempt, event.seconds_taken)
        fields = (
            time, kind, path.before, provider_id, _text(str(recipient)), _text(event.message_id),
            _text(event.remote_host), path.behind, *("\\N" if n is None else n for n in numbers), cause, permanence,
            event.cause_rule, pattern_id, _text(event.diagnostic),
        )  # fmt: skip
        text = "\x1f".join(map(str, fields))
        self._lines.append(b"%b\x1f%b" % (escape(event.identity + key), text.encode("utf-8", "surrogatepass")))
        self.times.append(time)
        if kind in ONCE:
            self.told.append((event, key, path.slot(time[:13], provider_id, cause, permanence)))
            return
        if kind == _DELIVERED:
            self.delivered.append(key)
            self.delivered_domains[event.recipient.domain] = max(
                time, self.delivered_domains.get(event.recipient.domain, "")
            )
            if event.seconds_taken is not None:
                bucket = (time[:10], provider_id, time_bucket(event.seconds_taken))
                path.times[bucket] = path.times.get(bucket, 0) + 1
            elif event.message_id:
                self.untimed.append(key)
        elif kind == _ACCEPTED and event.message_id:
            self.accepted.append(key)
        count = (time[:13], provider_id, kind)
        path.counts[count] = path.counts.get(count, 0) + 1

    def end_piece(self) -> None:
        """Make a packet of what was added since the one before."""
        lines, self._lines = self._lines, []
        self.sent += len(lines)
        self.packets.append(LINE.join(lines) + LINE if lines else b"")

    # Writing

    def store(self, connection: Connection, arrived: datetime, now: datetime, rejected: int) -> tuple[int, list[Event]]:
        """Write what was added; `rejected` is how many other rows could not be used.

        Returns how many are new, and of the new ones those that speak of the recipient: rejections, complaints.
        """
        load_id = self._load_id = self._begin(connection, arrived, now)
        shared = {
            "tenant_id": self.tenant_id,
            "arrived_at": arrived.astimezone(UTC).replace(tzinfo=None),
            "processed_at": now.astimezone(UTC).replace(tzinfo=None),
            "load_id": load_id,
            "feed_id": self.feed_id,
        }
        values = ", ".join(f"{name} = {literal(value)}" for name, value in shared.items())
        done = load_rows(connection, "event", _COLUMNS, f"{values}, {_KEYS}", self.packets)
        if done.warnings != done.skipped or done.records != self.sent:
            what = "The database rejected a row"
            raise StoreError(what, why=f"{done}, {self.sent} sent", remedy="See the service's log")
        stored = done.records - done.skipped
        if lock_counters(connection, self.tenant_id) != self.rules_version:
            raise StaleRulesError
        told = self._new_ones(connection, load_id, done.skipped) if stored else []
        if stored:
            self._count(connection, load_id, done.skipped, told, now)
        newest = max(self.times, default=None) if stored else None
        end = {"received": done.records + rejected, "stored": stored, "rejected": rejected, "newest": newest}
        connection.execute(t.load.update().where(t.load.c.id == load_id).values(**end))
        return stored, [event for event, _, _ in told]

    def identities_stored(self, connection: Connection) -> set[bytes]:
        """Return the identities of the events that `store` wrote: those that were not there before."""
        found: set[bytes] = set()
        for where in self._mine(self._load_id):
            found |= {bytes(row.identity) for row in run(connection, f"SELECT identity FROM event WHERE {where}")}
        return found

    def _begin(self, connection: Connection, arrived: datetime, now: datetime) -> int:
        values = {"tenant_id": self.tenant_id, "feed_id": self.feed_id, "arrived_at": arrived, "processed_at": now,
                  "received": 0, "stored": 0, "rejected": 0}  # fmt: skip
        return int(connection.execute(insert(t.load).values(**values)).inserted_primary_key[0])  # type: ignore[index]

    def _mine(self, load_id: int) -> Iterator[str]:
        """Conditions that together meet each row of this load once."""
        times = sorted(set(self.times))
        for start in range(0, len(times), _CHUNK):
            listed = ", ".join(f"'{time}'" for time in times[start : start + _CHUNK])
            yield f"tenant_id = {self.tenant_id} AND occurred_at IN ({listed}) AND load_id = {load_id}"

    def _new_ones(self, connection: Connection, load_id: int, skipped: int) -> list[tuple[Event, bytes, Slot]]:
        """Return those of `told` that are new, each once: of two alike in a load the first was stored."""
        if not skipped:
            return self.told
        kinds = ", ".join(map(str, sorted(ONCE)))
        ours: dict[bytes, int] = {}
        for where in self._mine(load_id) if self.told else ():
            ours.update(
                {
                    bytes(row.identity): row.pattern_id
                    for row in run(
                        connection, f"SELECT identity, pattern_id FROM event WHERE {where} AND kind IN ({kinds})"
                    )
                }
            )
        new: dict[bytes, tuple[Event, bytes, Slot]] = {}
        for event, key, slot in self.told:
            if event.identity in ours:
                new.setdefault(event.identity, (event, key, slot))
        self.reply_patterns.update(ours)  # as they were stored
        return list(new.values())

    def _count(
        self, connection: Connection, load_id: int, skipped: int, told: list[tuple[Event, bytes, Slot]], now: datetime
    ) -> None:
        counts, times = self._tally() if not skipped else self._tally_of_store(connection, load_id)
        reply_patterns: Counter[CounterKey] = Counter()
        grouped: set[bytes] = set()
        for event, key, slot in told:
            if event.message_id:
                grouped.add(key)
            else:
                counts[slot, event.kind.number] += 1
            pattern_id = self.reply_patterns.get(event.identity, 0)
            if pattern_id:
                reply_patterns[pattern_id, slot[0][:10], slot[2], slot[5], slot[6]] += 1
        self._count_groups(connection, load_id, counts, grouped, now)
        self._pair(connection, times)
        self._counted_domains = {slot[1] for (slot, _), n in counts.items() if n}
        write_counts(connection, self.tenant_id, counts)
        add_to(connection, _TIMES, self.tenant_id, times)
        add_to(connection, PATTERNS, self.tenant_id, reply_patterns)

    def _tally(self) -> tuple[Counts, Counter[CounterKey]]:
        """Tally what was counted while rows were made: all of them are new."""
        counts: Counts = Counter()
        times: Counter[CounterKey] = Counter()
        for path in self._paths.values():
            domain, stream, relay = path.ids
            for (hour, provider_id, kind), n in path.counts.items():
                counts[path.slot(hour, provider_id, 0, 0), kind] += n
            for (day, provider_id, bucket), n in path.times.items():
                times[domain, day, provider_id, stream, relay, bucket] += n
        return counts, times

    def _tally_of_store(self, connection: Connection, load_id: int) -> tuple[Counts, Counter[CounterKey]]:
        """Tally the rows that this load brought in: some were there before."""
        counts: Counts = Counter()
        times: Counter[CounterKey] = Counter()
        ids = "domain_id, provider_id, stream_id, relay_id"
        kinds = ", ".join(map(str, sorted(ONCE)))
        for where in self._mine(load_id):
            sql = (
                f"SELECT DATE_FORMAT(occurred_at, '%Y-%m-%d %H') AS hour, {ids}, label_ids, kind, COUNT(*) AS n "
                f"FROM event WHERE {where} AND kind NOT IN ({kinds}) GROUP BY hour, {ids}, label_ids, kind"
            )
            for row in run(connection, sql):
                slot = Slot(row.hour, row.domain_id, row.provider_id, row.stream_id, row.relay_id, 0, 0, row.label_ids)
                counts[slot, row.kind] += row.n
            sql = (
                f"SELECT DATE_FORMAT(occurred_at, '%Y-%m-%d') AS day, {ids}, seconds_taken FROM event "
                f"WHERE {where} AND kind = {_DELIVERED} AND seconds_taken IS NOT NULL"
            )
            for row in run(connection, sql):
                bucket = time_bucket(row.seconds_taken)
                times[row.domain_id, row.day, row.provider_id, row.stream_id, row.relay_id, bucket] += 1
        return counts, times

    def _pair(self, connection: Connection, times: Counter[CounterKey]) -> None:
        """Time deliveries by the accepted events of their messages, whichever of the two came first."""
        untimed, begun = bool(self.untimed), bool(self.accepted)
        if not (untimed or begun) or not expects_pairs(connection, self.tenant_id, untimed, begun):
            return
        recipients = sorted({*self.untimed, *self.accepted})
        first, last = datetime.fromisoformat(min(self.times)), datetime.fromisoformat(max(self.times))
        for row, seconds in pair_deliveries(connection, self.tenant_id, recipients, first, last):
            ids = (row.provider_id, row.stream_id, row.relay_id)
            times[row.domain_id, str(row.occurred_at)[:10], *ids, time_bucket(seconds)] += 1

    def _count_groups(
        self, connection: Connection, load_id: int, counts: Counts, grouped: set[bytes], now: datetime
    ) -> None:
        """Messages with trouble: what they count as now, less what they counted as before this load."""
        self.troubled = self.names.troubled.among(connection, self.tenant_id, self.delivered)
        recipients = grouped | self.troubled
        if grouped:
            day = now.date()
            rows = [(self.tenant_id, key, day) for key in sorted(grouped)]
            for start in range(0, len(rows), _CHUNK):
                insert_rows(connection, _TROUBLE, rows[start : start + _CHUNK], _SEEN_AGAIN)
        if not recipients:
            return
        first, last = datetime.fromisoformat(min(self.times)), datetime.fromisoformat(max(self.times))
        for events in groups_of(connection, self.tenant_id, sorted(recipients), first, last).values():
            before = [told for by_load, told in events if by_load != load_id]
            if len(before) < len(events):
                add_difference(counts, before, [told for _, told in events])


def groups_of(
    connection: Connection, tenant_id: int, recipients: list[bytes], first: datetime, last: datetime
) -> dict[tuple[bytes, bytes], list[tuple[int, Told]]]:
    """All events of these recipients' messages, as the store has them now, each with the load that brought it.

    Only weeks around `first` and `last` are looked at: a message is settled long before.
    """
    out: dict[tuple[bytes, bytes], list[tuple[int, Told]]] = {}
    kinds = ", ".join(map(str, sorted(GROUPED)))
    for start in range(0, len(recipients), _CHUNK):
        # A join, so that each recipient is looked up by itself: a range over keys and times would read on through all
        # rows of loads that are under way, which it cannot see and so cannot tell to lie beyond its end.
        listed = ",".join([f"(x'{key.hex()}')" for key in recipients[start : start + _CHUNK]])
        sql = (
            f"WITH asked (k) AS (VALUES {listed}) "
            "SELECT occurred_at, identity, kind, domain_id, provider_id, stream_id, relay_id, cause, permanence, "
            "label_ids, recipient_key, message_key, load_id "
            "FROM asked STRAIGHT_JOIN event FORCE INDEX (event_recipient) "
            f"ON tenant_id = {tenant_id} AND recipient_key = k "
            f"WHERE kind IN ({kinds}) AND message_id <> '' "
            f"AND occurred_at BETWEEN '{first - APART}' AND '{last + APART}'"
        )
        for row in run(connection, sql):
            slot = Slot(
                hour_of(row.occurred_at), row.domain_id, row.provider_id, row.stream_id, row.relay_id, row.cause,
                row.permanence, row.label_ids,
            )  # fmt: skip
            told = Told(row.occurred_at, bytes(row.identity), row.kind, slot)
            key = (bytes(row.recipient_key), bytes(row.message_key))
            out.setdefault(key, []).append((row.load_id, told))
    return out


def add_difference(counts: Counts, before: Iterable[Told], after: Iterable[Told]) -> None:
    """Add what one message counts as after, less what it counted as before. Deliveries are counted on their own."""
    for told, sign in ((after, 1), (before, -1)):
        for (slot, kind), n in count_group(told).items():
            if kind != _DELIVERED:
                counts[slot, kind] += sign * n  # type: ignore[index]


def lock_counters(connection: Connection, tenant_id: int) -> int:
    """Lock a tenant's counters until the transaction ends. Return the version of its rules."""
    c = t.intake_lock.c
    found = connection.scalar(select(c.rules_version).where(c.tenant_id == tenant_id).with_for_update())
    return int(found or 0)


def rules_version(connection: Connection, tenant_id: int) -> int:
    """Return the version of a tenant's own rules; 0 if it never had any."""
    c = t.intake_lock.c
    return int(connection.scalar(select(c.rules_version).where(c.tenant_id == tenant_id)) or 0)


def _text(text: str) -> str:
    """Write a free text as a row holds it."""
    text = text.replace("\\", "\\\\") if "\\" in text else text
    if "\x1f" in text or "\x1e" in text:
        text = text.replace("\x1f", "\\\x1f").replace("\x1e", "\\\x1e")
    return text


def hour_of(moment: datetime) -> str:
    """Return the hour of a time in UTC, as slots have it."""
    return str(moment)[:13]


_FLOW = "INSERT INTO {} (tenant_id, domain_id, {}, provider_id, stream_id, relay_id, kind, cause, permanence, n) VALUES"
_LABEL = (
    "INSERT INTO flow_label_day (tenant_id, label_id, day, domain_id, provider_id, kind, cause, permanence, n) VALUES"
)
_SUM = "INSERT INTO flow_sum_day (tenant_id, what, day, part_id, kind, n) VALUES"
_RELAY_HOUR = "INSERT INTO flow_relay_hour (tenant_id, relay_id, hour, stream_id, kind, n) VALUES"
TAKEN = (Count.ACCEPTED.number, Count.DELIVERED.number, Count.BOUNCED.number, Count.RETURNED.number)
"""Counts of what a relay took, and whether it came back."""
_TIMES = "INSERT INTO flow_time_day (tenant_id, domain_id, day, provider_id, stream_id, relay_id, bucket, n) VALUES"
PATTERNS = "INSERT INTO flow_pattern_day (tenant_id, pattern_id, day, provider_id, cause, permanence, n) VALUES"
_TROUBLE = "INSERT INTO message_trouble (tenant_id, recipient_key, seen_on) VALUES"
_SEEN_AGAIN = "ON DUPLICATE KEY UPDATE seen_on = VALUES(seen_on)"


def write_counts(connection: Connection, tenant_id: int, counts: Counts) -> None:
    """Add to the counters of hours, days and labels. Rows go in key order, so that two loads cannot deadlock."""
    hours: Counter[CounterKey] = Counter()
    days: Counter[CounterKey] = Counter()
    labels: Counter[CounterKey] = Counter()
    sums: Counter[CounterKey] = Counter()
    taken: Counter[CounterKey] = Counter()
    for ((hour, domain, provider, stream, relay, cause, permanence, label_ids), kind), n in counts.items():
        if n == 0:
            continue
        tail = (provider, stream, relay, kind, cause, permanence)
        hours[(domain, hour + ":00:00", *tail)] += n
        days[(domain, hour[:10], *tail)] += n
        if kind in TAKEN:
            taken[relay, hour + ":00:00", stream, kind] += n
        for what, part in ((SUM_DOMAIN, domain), (SUM_STREAM, stream), (SUM_RELAY, relay), (SUM_PROVIDER, provider)):
            sums[what, hour[:10], part, kind] += n
        if label_ids:
            for label_id in label_ids.split(","):
                labels[int(label_id), hour[:10], domain, provider, kind, cause, permanence] += n
    for head, rows in (
        (_FLOW.format("flow_day", "day"), days),
        (_FLOW.format("flow_hour", "hour"), hours),
        (_LABEL, labels),
        (_SUM, sums),
        (_RELAY_HOUR, taken),
    ):
        add_to(connection, head, tenant_id, rows)


def add_to(connection: Connection, head: str, tenant_id: int, rows: Counter[CounterKey]) -> None:
    """Add to counters. A count that falls is taken off by an update of its own, as counters hold no minus."""
    ordered: Iterable[tuple[CounterKey, int]] = sorted(rows.items())
    up = [(tenant_id, *key, n) for key, n in ordered if n > 0]
    for start in range(0, len(up), _CHUNK):
        insert_rows(connection, head, up[start : start + _CHUNK], "ON DUPLICATE KEY UPDATE n = n + VALUES(n)")
    names = head[head.index("(") + 1 : head.index(")")].split(", ")
    table = head.split()[2]
    for key, n in ordered:
        if n < 0:
            values = (tenant_id, *key)
            where = " AND ".join(f"`{name}` = {literal(value)}" for name, value in zip(names, values, strict=False))
            run(connection, f"UPDATE {table} SET n = n - {-n} WHERE {where}")
            run(connection, f"DELETE FROM {table} WHERE {where} AND n = 0")
