"""The suppression list: reading it, and changing it under the tenant's lock.

Each change of an entry has a number. The newest change stands in the entry itself; when an entry changes, what stood
before goes into the log. Numbers are handed out under the lock, so whoever has seen one has seen all before it.
"""

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, NamedTuple

import orjson
from sqlalchemy import Connection

from rust_gauge.core.suppression import Change, Reason, Scope, State, Status
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.columns import CounterKey, Document
from rust_gauge.store.driver import Question, RawRow
from rust_gauge.store.suppression_numbers import CAME, LEFT, add_counts
from rust_gauge.store.suppression_state import lock, set_last_number
from rust_gauge.store.values import values_of

EVIDENCE_KEPT = 5  # events of an entry: the first four and the newest
CHUNK = 2000  # entries locked at a time
LOOKED_UP = 40_000  # keys in one question: sorted, so the more there are the closer they lie together


@dataclass(frozen=True, slots=True)
class RowOfEntry:
    """The entry of a tenant that a row is about."""

    address_key: bytes
    reason: int
    scope: int
    scope_id: int


@dataclass(frozen=True, slots=True)
class EntryRow(RowOfEntry):
    """An entry as it is kept."""

    tenant_id: int
    number: int
    state: int
    address: str
    mail_domain: str
    provider_id: int
    stream_id: int
    since: datetime
    until: datetime | None
    ended_at: datetime | None
    times: int
    returns: int
    made_at: datetime
    change: int
    changed_at: datetime
    changed_by: str
    note: str
    origin: str
    evidence: str


class Where(NamedTuple):
    """The key of an entry: the primary key behind the tenant."""

    key: bytes
    reason: Reason
    scope: Scope = Scope.TENANT
    scope_id: int = 0


class Target(NamedTuple):
    """Whom it is about. `address` is empty where addresses are kept as digests only; `@domain` for a whole domain."""

    address: str
    mail_domain: str = ""
    provider_id: int = 0


@dataclass(frozen=True, slots=True)
class Ask:
    """A requested change of an entry: `decide` returns the new status from the present one (None: no entry).

    None from it leaves everything as it is. `at`: when what is behind it happened.
    """

    where: Where
    target: Target
    decide: Callable[[Status | None], Status | None]
    at: datetime
    evidence: Sequence[Document] = ()
    note: str = ""
    origin: str = "event"
    stream_id: int = 0


@dataclass(slots=True)
class Done:
    """What happened to an entry."""

    ask: Ask
    before: Status | None
    status: Status
    number: int
    address: str
    provider_id: int = 0
    stream_id: int = 0
    evidence: list[Document] = field(default_factory=list)


_COLUMNS = (
    "tenant_id", "address_key", "reason", "scope", "scope_id", "number", "state", "address", "mail_domain",
    "provider_id", "stream_id", "since", "until", "ended_at", "times", "returns", "made_at", "change", "changed_at",
    "changed_by", "note", "origin", "evidence",
)  # fmt: skip
_KEPT = ("tenant_id", "address_key", "reason", "scope", "scope_id", "address", "mail_domain", "provider_id")
ENTRY_COLUMNS = ", ".join(f"`{name}`" for name in _COLUMNS)
_PUT = f"INSERT INTO suppression_entry ({ENTRY_COLUMNS}) VALUES"
_ANEW = "ON DUPLICATE KEY UPDATE " + ", ".join(f"`{n}` = VALUES(`{n}`)" for n in _COLUMNS if n not in _KEPT)
_LOG_COLUMNS = (
    "tenant_id, number, address_key, reason, scope, scope_id, state, `change`, changed_at, changed_by, note, until, "
    "address"
)
LOG = f"INSERT INTO suppression_change ({_LOG_COLUMNS}) VALUES"


def change(connection: Connection, tenant_id: int, asks: Iterable[Ask], by: str, now: datetime) -> list[Done]:
    """Do what is asked, in that order. Returns the changes; counting one more time is none.

    Takes the tenant's lock. What two ask of one entry at the same moment is done one after the other.
    """
    wanted: dict[Where, list[Ask]] = defaultdict(list)
    for ask in asks:
        wanted[ask.where].append(ask)
    if not wanted:
        return []
    number = lock(connection, tenant_id)
    rows = rows_of(connection, tenant_id, {where.key for where in wanted})
    done: list[Done] = []
    put: list[tuple[object, ...]] = []
    log: list[tuple[object, ...]] = []
    counts: Counter[CounterKey] = Counter()
    for where, group in wanted.items():
        row = rows.get(where)
        before = status_of(row) if row is not None else None
        after, at, evidence = before, now, orjson.loads(row.evidence) if row is not None else []
        last = group[-1]
        for ask in group:
            status = ask.decide(after)
            if status is None:
                continue
            if after is None or status.change is not after.change or _moved(after, status):
                last, at = ask, ask.at
            after = status
            evidence = _kept(evidence, ask.evidence)
        if after is None or (after == before and row is not None):
            continue
        moved = before is None or _moved(before, after)
        target = Target(row.address, row.mail_domain, row.provider_id) if row is not None else last.target
        if moved:
            number += 1
            if row is not None:
                log.append(change_row(tenant_id, row))
            done.append(Done(last, before, after, number, target.address or last.target.address))
            done[-1].provider_id, done[-1].evidence = target.provider_id, evidence
            done[-1].stream_id = last.stream_id or (row.stream_id if row is not None else 0)
            _count(counts, tenant_id, before, after, where, target, last.stream_id, row, at)
        put.append(_entry_row(tenant_id, where, target, after, row, last, evidence, by, now, number, moved=moved))
    for start in range(0, len(log), CHUNK):
        insert_rows(connection, LOG, log[start : start + CHUNK])
    for start in range(0, len(put), CHUNK):
        insert_rows(connection, _PUT, put[start : start + CHUNK], _ANEW)
    if done:
        add_counts(connection, counts)
        set_last_number(connection, tenant_id, number)
    return done


def _kept(evidence: list[Document], more: Sequence[Document]) -> list[Document]:
    """Store the first events, and the newest: the latest report counts as much as the first."""
    every = [*evidence, *more]
    if len(every) <= EVIDENCE_KEPT:
        return every
    return [*every[: EVIDENCE_KEPT - 1], max(every[EVIDENCE_KEPT - 1 :], key=lambda kept: str(kept["time"]))]


def _moved(before: Status, after: Status) -> bool:
    return (before.state, before.until, before.ended_at) != (after.state, after.until, after.ended_at)


def _count(
    counts: Counter[CounterKey], tenant_id: int, before: Status | None, after: Status, where: Where,
    target: Target, stream_id: int, row: Any, at: datetime,
) -> None:  # fmt: skip
    was, is_held = before is not None and before.state is State.HELD, after.state is State.HELD
    stream = stream_id or (row.stream_id if row is not None else 0)
    if is_held and not was:
        counts[tenant_id, at.date(), CAME, where.reason.number, target.provider_id, stream] += 1
    elif was and not is_held:
        ended = after.ended_at or at
        counts[tenant_id, ended.date(), LEFT, where.reason.number, target.provider_id, stream] += 1


def change_row(tenant_id: int, row: EntryRow) -> tuple[object, ...]:
    """Return what stood in an entry as a row of the log, for LOG."""
    return (
        tenant_id, row.number, bytes(row.address_key), row.reason, row.scope, row.scope_id, row.state, row.change,
        row.changed_at, row.changed_by, row.note, row.until, row.address,
    )  # fmt: skip


def _entry_row(
    tenant_id: int, where: Where, target: Target, status: Status, row: Any, ask: Ask,
    evidence: list[Document], by: str, now: datetime, number: int, *, moved: bool,
) -> tuple[object, ...]:  # fmt: skip
    head = (
        tenant_id, where.key, where.reason.number, where.scope.number, where.scope_id,
        number if moved else row.number, status.state.number, target.address, target.mail_domain, target.provider_id,
        ask.stream_id or (row.stream_id if row is not None else 0), naive(status.since), naive(status.until),
        naive(status.ended_at), min(status.times, 2**32 - 1), min(status.returns, 65535),
    )  # fmt: skip
    text = orjson.dumps(evidence).decode()
    if not moved:
        return (
            *head, row.made_at, row.change, row.changed_at, row.changed_by, row.note, row.origin, text,
        )  # fmt: skip
    came = status.change in (Change.MADE, Change.CAME_BACK, Change.PROPOSED, Change.CONFIRMED)
    made_at = naive(now) if row is None or came else row.made_at
    origin = ask.origin if row is None or came else row.origin
    return (*head, made_at, status.change.number, naive(now), by[:80], ask.note[:500], origin, text)


def naive(time: datetime | None) -> datetime | None:
    """Return a time as the store keeps it: UTC, without a zone."""
    return None if time is None else time.astimezone(UTC).replace(tzinfo=None)


def aware(time: datetime | None) -> datetime | None:
    """Return a time of the store as the rest of the product keeps it: with its zone."""
    return None if time is None else time.replace(tzinfo=UTC)


def status_of(row: EntryRow) -> Status:
    """Return what stands, from a row."""
    since = aware(row.since)
    assert since is not None
    return Status(
        State.from_number(row.state), Change.from_number(row.change), since, aware(row.until), aware(row.ended_at),
        row.times, row.returns,
    )  # fmt: skip


def rows_of(connection: Connection, tenant_id: int, keys: Iterable[bytes]) -> dict[Where, EntryRow]:
    """Return whole rows of these keys, ended ones too."""
    found: dict[Where, EntryRow] = {}
    ordered = sorted(keys)
    for start in range(0, len(ordered), CHUNK):
        listed = ", ".join(map(literal, ordered[start : start + CHUNK]))
        sql = (
            f"SELECT {ENTRY_COLUMNS} FROM suppression_entry FORCE INDEX (PRIMARY) "
            f"WHERE tenant_id = {literal(tenant_id)} AND address_key IN ({listed})"
        )
        for row in values_of(EntryRow, run(connection, sql)):
            found[where_of(row)] = row
    return found


def where_of(row: RowOfEntry) -> Where:
    """Return what an entry is about, from a row."""
    return Where(bytes(row.address_key), Reason.from_number(row.reason), Scope.from_number(row.scope), row.scope_id)


# Each key is looked up by itself: that is faster than a range over many keys. The index is named, as statistics lag
# behind imports, and then another index of the tenant looks as good and is read from end to end.
_STANDING = (
    "WITH asked (k) AS (VALUES {keys}) SELECT address_key, reason, scope, scope_id, state, CAST(since AS CHAR), "
    "CAST(until AS CHAR), note FROM asked STRAIGHT_JOIN suppression_entry FORCE INDEX (PRIMARY) "
    f"ON tenant_id = {{tenant}} AND address_key = k WHERE state <> {State.ENDED.number}"
)


def standing(
    connection: Connection, tenant_id: int, questions: Iterable[Sequence[bytes]]
) -> Iterator[Sequence[RawRow]]:
    """Yield what does not stand ended for the keys of each question (LOOKED_UP at most; sorted ones are faster).

    Each row: address_key, reason, scope, scope_id, state, since, until, note; times as text, which is cheaper. While
    MariaDB looks up one question the next is made and the rows of the one before are used: a question is sent before
    the rows of the last one are given.
    """
    waiting: Question | None = None
    try:
        for keys in questions:
            if not keys:
                continue
            listed = ",".join([f"(x'{key.hex()}')" for key in keys])
            sql = _STANDING.format(keys=listed, tenant=literal(tenant_id))
            before, waiting = waiting, None
            rows = before.rows() if before is not None else None
            waiting = Question(connection, sql)
            if rows is not None:
                yield rows
        if waiting is not None:
            last, waiting = waiting, None
            yield last.rows()
    finally:
        if waiting is not None:
            waiting.rows()


def in_pieces(keys: Sequence[bytes]) -> Iterator[Sequence[bytes]]:
    """Keys as questions."""
    for start in range(0, len(keys), LOOKED_UP):
        yield keys[start : start + LOOKED_UP]
