"""The suppression list: reading it, and changing it under the tenant's lock.

Each change of an entry has a number. The newest change stands in the entry itself; when an entry changes, what stood
before goes into the log. Numbers are handed out under the lock, so whoever has seen one has seen all before it.
"""

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any, NamedTuple

import orjson
from sqlalchemy import Connection, Select, and_, func, literal_column, or_, select, update

from rust_gauge.core.suppression import Change, Reach, Reason, State, Status
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.bulk_load import LINE, SPECIAL, Loaded, escape, load_rows
from rust_gauge.store.driver import Question, RawRow, raw_rows
from rust_gauge.store.values import values_of

EVIDENCE_KEPT = 5
CHUNK = 2000
LOOKED_UP = 40_000  # keys in one question: sorted, so the more there are the closer they lie together
CAME, LEFT, WITHHELD = 1, 2, 3  # of suppression_day.what


@dataclass(frozen=True, slots=True)
class EntryRow:
    """An entry as it is kept."""

    tenant_id: int
    address_key: bytes
    reason: int
    reach: int
    reach_id: int
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


@dataclass(frozen=True, slots=True)
class ListedEntry(EntryRow):
    """An entry with the name of its stream, if it came from one."""

    stream: str | None


@dataclass(frozen=True, slots=True)
class OverdueEntry:
    """An entry whose time is over."""

    tenant_id: int
    address_key: bytes
    reason: int
    reach: int
    reach_id: int


@dataclass(frozen=True, slots=True)
class DayNumbers:
    """What came and left on a day."""

    day: date
    what: int
    reason: int
    provider_id: int
    stream: str | None
    n: int


@dataclass(frozen=True, slots=True)
class NumbersBefore:
    """What came and left before a day."""

    what: int
    reason: int
    provider_id: int
    stream: str | None
    n: int


@dataclass(frozen=True, slots=True)
class ListState:
    """How a tenant compares addresses, and what holds its streams."""

    tenant_id: int
    last_number: int
    matching: Any
    matching_before: Any
    secret: str
    brakes: Any


@dataclass(frozen=True, slots=True)
class ChangeRow:
    """A change of the list."""

    number: int
    address_key: bytes
    reason: int
    reach: int
    reach_id: int
    state: int
    change: int
    changed_at: datetime
    changed_by: str
    note: str
    until: datetime | None
    address: str


class Where(NamedTuple):
    """Which entry: the primary key behind the tenant."""

    key: bytes
    reason: Reason
    reach: Reach = Reach.TENANT
    reach_id: int = 0


class Target(NamedTuple):
    """Whom it is about. `address` is empty where addresses are kept as digests only; `@domain` for a whole domain."""

    address: str
    mail_domain: str = ""
    provider_id: int = 0


@dataclass(frozen=True, slots=True)
class Ask:
    """What somebody wants of an entry: `decide` gives what stands then from what stands (None: nothing).

    None from it leaves everything as it is. `at`: when what is behind it happened.
    """

    where: Where
    target: Target
    decide: Callable[[Status | None], Status | None]
    at: datetime
    evidence: Sequence[dict[str, Any]] = ()
    note: str = ""
    origin: str = "event"
    stream_id: int = 0


@dataclass(slots=True)
class Done:
    """What became of an entry."""

    ask: Ask
    before: Status | None
    status: Status
    number: int
    address: str
    provider_id: int = 0
    stream_id: int = 0
    evidence: list[dict[str, Any]] = field(default_factory=list)


def lock(connection: Connection, tenant_id: int) -> int:
    """Be the only one to change a tenant's list until the transaction ends. Gives the newest number."""
    c = t.suppression_state.c
    return int(connection.scalar(select(c.last_number).where(c.tenant_id == tenant_id).with_for_update()) or 0)


def last_number(connection: Connection, tenant_id: int) -> int:
    """Return the number of the newest change of a tenant's list."""
    c = t.suppression_state.c
    return int(connection.scalar(select(c.last_number).where(c.tenant_id == tenant_id)) or 0)


def set_last_number(connection: Connection, tenant_id: int, number: int) -> None:
    """Store the number of the newest change. The list has to be locked."""
    c = t.suppression_state.c
    connection.execute(update(t.suppression_state).where(c.tenant_id == tenant_id).values(last_number=number))


_COLUMNS = (
    "tenant_id", "address_key", "reason", "reach", "reach_id", "number", "state", "address", "mail_domain",
    "provider_id", "stream_id", "since", "until", "ended_at", "times", "returns", "made_at", "change", "changed_at",
    "changed_by", "note", "origin", "evidence",
)  # fmt: skip
_KEPT = ("tenant_id", "address_key", "reason", "reach", "reach_id", "address", "mail_domain", "provider_id")
ENTRY_COLUMNS = ", ".join(f"`{name}`" for name in _COLUMNS)
_PUT = f"INSERT INTO suppression_entry ({ENTRY_COLUMNS}) VALUES"
_ANEW = "ON DUPLICATE KEY UPDATE " + ", ".join(f"`{n}` = VALUES(`{n}`)" for n in _COLUMNS if n not in _KEPT)
_LOG_COLUMNS = (
    "tenant_id, number, address_key, reason, reach, reach_id, state, `change`, changed_at, changed_by, note, until, "
    "address"
)
_LOG = f"INSERT INTO suppression_change ({_LOG_COLUMNS}) VALUES"
_COUNT = "INSERT INTO suppression_day (tenant_id, day, what, reason, provider_id, stream_id, n) VALUES"
_COUNT_MORE = "ON DUPLICATE KEY UPDATE n = n + VALUES(n)"


def change(connection: Connection, tenant_id: int, asks: Iterable[Ask], by: str, now: datetime) -> list[Done]:
    """Do what is asked, in that order. Gives the changes; counting one more time is none.

    Takes the tenant's lock. What two ask of one entry at the same moment is done one after the other.
    """
    wanted: dict[Where, list[Ask]] = defaultdict(list)
    for each in asks:
        wanted[each.where].append(each)
    if not wanted:
        return []
    number = lock(connection, tenant_id)
    rows = rows_of(connection, tenant_id, {where.key for where in wanted})
    done: list[Done] = []
    put: list[tuple[object, ...]] = []
    log: list[tuple[object, ...]] = []
    counts: Counter[tuple[Any, ...]] = Counter()
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
                log.append(_log_row(tenant_id, row))
            done.append(Done(last, before, after, number, target.address or last.target.address))
            done[-1].provider_id, done[-1].evidence = target.provider_id, evidence
            done[-1].stream_id = last.stream_id or (row.stream_id if row is not None else 0)
            _count(counts, tenant_id, before, after, where, target, last.stream_id, row, at)
        put.append(_entry_row(tenant_id, where, target, after, row, last, evidence, by, now, number, moved=moved))
    for start in range(0, len(log), CHUNK):
        insert_rows(connection, _LOG, log[start : start + CHUNK])
    for start in range(0, len(put), CHUNK):
        insert_rows(connection, _PUT, put[start : start + CHUNK], _ANEW)
    if done:
        add_counts(connection, counts)
        set_last_number(connection, tenant_id, number)
    return done


def _kept(evidence: list[dict[str, Any]], more: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Keep the first events, and the newest of all: when it was last said counts as much as when it began."""
    every = [*evidence, *more]
    if len(every) <= EVIDENCE_KEPT:
        return every
    return [*every[: EVIDENCE_KEPT - 1], max(every[EVIDENCE_KEPT - 1 :], key=lambda each: str(each["time"]))]


def _moved(before: Status, after: Status) -> bool:
    return (before.state, before.until, before.ended_at) != (after.state, after.until, after.ended_at)


def _count(
    counts: Counter[tuple[Any, ...]], tenant_id: int, before: Status | None, after: Status, where: Where,
    target: Target, stream_id: int, row: Any, at: datetime,
) -> None:  # fmt: skip
    was, is_held = before is not None and before.state is State.HELD, after.state is State.HELD
    stream = stream_id or (row.stream_id if row is not None else 0)
    if is_held and not was:
        counts[tenant_id, at.date(), CAME, where.reason.number, target.provider_id, stream] += 1
    elif was and not is_held:
        ended = after.ended_at or at
        counts[tenant_id, ended.date(), LEFT, where.reason.number, target.provider_id, stream] += 1


def add_counts(connection: Connection, counts: Counter[tuple[Any, ...]]) -> None:
    """Add to suppression_day: (tenant id, day, what, reason, provider id, stream id)."""
    rows = [(*key, n) for key, n in sorted(counts.items())]
    for start in range(0, len(rows), CHUNK):
        insert_rows(connection, _COUNT, rows[start : start + CHUNK], _COUNT_MORE)


def _log_row(tenant_id: int, row: EntryRow) -> tuple[object, ...]:
    return (
        tenant_id, row.number, bytes(row.address_key), row.reason, row.reach, row.reach_id, row.state, row.change,
        row.changed_at, row.changed_by, row.note, row.until, row.address,
    )  # fmt: skip


def _entry_row(
    tenant_id: int, where: Where, target: Target, status: Status, row: Any, ask: Ask,
    evidence: list[dict[str, Any]], by: str, now: datetime, number: int, *, moved: bool,
) -> tuple[object, ...]:  # fmt: skip
    head = (
        tenant_id, where.key, where.reason.number, where.reach.number, where.reach_id,
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
    """Whole rows of these keys, ended ones too."""
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


def where_of(row: "EntryRow | OverdueEntry | ChangeRow") -> Where:
    """Return what an entry is about, from a row."""
    return Where(bytes(row.address_key), Reason.from_number(row.reason), Reach.from_number(row.reach), row.reach_id)


# Each key is looked up by itself: that is faster than a range over many keys. The index is named, as statistics lag
# behind imports, and then another index of the tenant looks as good and is read from end to end.
_STANDING = (
    "WITH asked (k) AS (VALUES {keys}) SELECT address_key, reason, reach, reach_id, state, CAST(since AS CHAR), "
    "CAST(until AS CHAR), note FROM asked STRAIGHT_JOIN suppression_entry FORCE INDEX (PRIMARY) "
    f"ON tenant_id = {{tenant}} AND address_key = k WHERE state <> {State.ENDED.number}"
)


def standing(
    connection: Connection, tenant_id: int, questions: Iterable[Sequence[bytes]]
) -> Iterator[Sequence[RawRow]]:
    """Yield what does not stand ended for the keys of each question (LOOKED_UP at most; sorted ones are faster).

    Each row: address_key, reason, reach, reach_id, state, since, until, note; times as text, which is cheaper. While
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


# Reading the list


@dataclass(frozen=True, slots=True)
class Filter:
    """Which entries. Empty means all; `text` is the beginning of an address, or of a domain behind an @."""

    text: str = ""
    keys: tuple[bytes, ...] = ()
    states: tuple[State, ...] = ()
    reasons: tuple[Reason, ...] = ()
    provider_ids: tuple[int, ...] | None = None
    stream_id: int | None = None
    reach: Reach | None = None
    origin: str = ""
    ends_before: datetime | None = None
    came_back: bool = False
    made_since: datetime | None = None


def _where(filter: Filter, tenant_id: int, query: Select[Any]) -> Select[Any]:
    c = t.suppression_entry.c
    query = query.where(c.tenant_id == tenant_id)
    if filter.keys:
        query = query.where(c.address_key.in_(filter.keys))
    text = filter.text
    if text.startswith("@"):
        like = _begins(text[1:].lower())
        query = query.where(or_(c.mail_domain.like(like), c.address.like(_begins(text))))
    elif text:
        query = query.where(c.address.like(_begins(text)))
    if filter.states:
        query = query.where(c.state.in_([state.number for state in filter.states]))
    if filter.reasons:
        query = query.where(c.reason.in_([reason.number for reason in filter.reasons]))
    if filter.provider_ids is not None:
        query = query.where(c.provider_id.in_(filter.provider_ids))
    if filter.stream_id is not None:
        query = query.where(c.stream_id == filter.stream_id)
    if filter.reach is not None:
        query = query.where(c.reach == filter.reach.number)
    if filter.origin:
        query = query.where(c.origin == filter.origin)
    if filter.ends_before is not None:
        query = query.where(c.until < naive(filter.ends_before))
    if filter.came_back:
        query = query.where(c.returns > 0)
    if filter.made_since is not None:
        query = query.where(c.made_at >= naive(filter.made_since))
    return query


def _begins(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"


def list_entries(
    connection: Connection, tenant_id: int, filter: Filter, before: int | None, limit: int
) -> list[ListedEntry]:
    """Entries, the one that changed last first."""
    e = t.suppression_entry
    query = _where(filter, tenant_id, select(e, t.stream.c.name.label("stream")))
    query = query.outerjoin(t.stream, t.stream.c.id == e.c.stream_id)
    if before is not None:
        query = query.where(e.c.number < before)
    return values_of(ListedEntry, connection.execute(query.order_by(e.c.number.desc()).limit(limit)))


def pages_by_key(
    connection: Connection, tenant_id: int, filter: Filter, after: Where | None, limit: int
) -> list[ListedEntry]:
    """Return a page of all entries in the order of their keys, for whoever reads the whole list."""
    e = t.suppression_entry
    c = e.c
    query = _where(filter, tenant_id, select(e, t.stream.c.name.label("stream")))
    query = query.outerjoin(t.stream, t.stream.c.id == c.stream_id)
    if after is not None:
        rest = (after.reason.number, after.reach.number, after.reach_id)
        reason, reach, reach_id = rest
        query = query.where(
            c.address_key >= after.key,
            or_(
                c.address_key > after.key,
                c.reason > reason,
                and_(c.reason == reason, c.reach > reach),
                and_(c.reason == reason, c.reach == reach, c.reach_id > reach_id),
            ),
        )
    return values_of(
        ListedEntry, connection.execute(query.order_by(c.address_key, c.reason, c.reach, c.reach_id).limit(limit))
    )


def count_entries(connection: Connection, tenant_id: int, filter: Filter, most: int) -> int:
    """How many there are, counted no further than `most`."""
    inner = _where(filter, tenant_id, select(literal_column("1"))).limit(most).subquery()
    return int(connection.scalar(select(func.count()).select_from(inner)) or 0)


def overdue(connection: Connection, now: datetime, limit: int) -> list[OverdueEntry]:
    """Entries of any tenant whose time is over, and that nobody ended yet."""
    return values_of(
        OverdueEntry,
        run(
            connection,
            "SELECT s.tenant_id, e.address_key, e.reason, e.reach, e.reach_id FROM suppression_state AS s "
            "STRAIGHT_JOIN suppression_entry AS e FORCE INDEX (suppression_entry_until) "
            f"ON e.tenant_id = s.tenant_id AND e.until <= {literal(naive(now))} "
            f"AND e.state <> {State.ENDED.number} LIMIT {limit}",
        ),
    )


# What happened


_SEEN = "number, address_key, reason, reach, reach_id, state, `change`, changed_at, changed_by, note, until, address"


def changes_after(connection: Connection, tenant_id: int, after: int, limit: int) -> list[ChangeRow]:
    """Return changes of a tenant's list with numbers above `after`, in their order."""
    parts = [
        f"(SELECT {_SEEN} FROM {table} WHERE tenant_id = {literal(tenant_id)} AND number > {literal(after)} "
        f"ORDER BY number LIMIT {limit})"
        for table in ("suppression_change", "suppression_entry")
    ]
    return values_of(ChangeRow, run(connection, f"{' UNION ALL '.join(parts)} ORDER BY number LIMIT {limit}"))


def history_of(connection: Connection, tenant_id: int, keys: Sequence[bytes]) -> list[ChangeRow]:
    """Everything that happened to the status of an address, in its order."""
    listed = ", ".join(map(literal, keys))
    parts = [
        f"(SELECT {_SEEN} FROM {table} WHERE tenant_id = {literal(tenant_id)} AND address_key IN ({listed}))"
        for table in ("suppression_change", "suppression_entry")
    ]
    return values_of(ChangeRow, run(connection, f"{' UNION ALL '.join(parts)} ORDER BY number"))


def addresses_of(connection: Connection, tenant_id: int, keys: Iterable[bytes]) -> dict[bytes, str]:
    """Return the addresses that stand with entries of these keys."""
    found: dict[bytes, str] = {}
    ordered = sorted(keys)
    for start in range(0, len(ordered), CHUNK):
        listed = ", ".join(map(literal, ordered[start : start + CHUNK]))
        sql = (
            f"SELECT address_key, address FROM suppression_entry FORCE INDEX (PRIMARY) "
            f"WHERE tenant_id = {literal(tenant_id)} AND address_key IN ({listed})"
        )
        found |= {bytes(row.address_key): row.address for row in run(connection, sql)}
    return found


# Numbers for people


def days(connection: Connection, tenant_id: int, first: date, last: date) -> list[DayNumbers]:
    """day, what, reason, provider_id, provider, stream, n of a period."""
    d = t.suppression_day.c
    query = (
        select(d.day, d.what, d.reason, d.provider_id, t.stream.c.name.label("stream"), func.sum(d.n).label("n"))
        .outerjoin(t.stream, t.stream.c.id == d.stream_id)
        .where(d.tenant_id == tenant_id, d.day.between(first, last))
        .group_by(d.day, d.what, d.reason, d.provider_id, d.stream_id)
    )
    return values_of(DayNumbers, connection.execute(query))


def standing_before(connection: Connection, tenant_id: int, day: date) -> list[NumbersBefore]:
    """reason, provider_id, stream, n: how many stood on the morning of a day."""
    d = t.suppression_day.c
    query = (
        select(d.what, d.reason, d.provider_id, t.stream.c.name.label("stream"), func.sum(d.n).label("n"))
        .outerjoin(t.stream, t.stream.c.id == d.stream_id)
        .where(d.tenant_id == tenant_id, d.day < day, d.what.in_((CAME, LEFT)))
        .group_by(d.what, d.reason, d.provider_id, d.stream_id)
    )
    return values_of(NumbersBefore, connection.execute(query))


# How addresses are compared


def get_state(connection: Connection, tenant_id: int) -> ListState:
    """Return what is kept once for a tenant's list: policy, matching, brakes, the newest number."""
    c = t.suppression_state.c
    return values_of(ListState, connection.execute(select(t.suppression_state).where(c.tenant_id == tenant_id)))[0]


def matching_of(connection: Connection, tenant_id: int) -> tuple[str, str | None, str, str]:
    """How addresses are compared, before that if the list is being rewritten (both as JSON), the secret, the brakes.

    Asked with every question, so it goes around all that costs time.
    """
    columns = "matching, matching_before, secret, brakes"
    sql = f"SELECT {columns} FROM suppression_state WHERE tenant_id = {literal(tenant_id)}"
    (row,) = raw_rows(connection, sql)
    found: tuple[str, str | None, str, str] = row
    return found


def change_state(connection: Connection, tenant_id: int, **values: Any) -> None:
    """Change columns of a tenant's list."""
    c = t.suppression_state.c
    connection.execute(update(t.suppression_state).where(c.tenant_id == tenant_id).values(**values))


def rekey(
    connection: Connection, tenant_id: int, moves: Sequence[tuple[Where, Where, Target]],
) -> int:  # fmt: skip
    """Give entries new keys. Where an entry stands there already the two become one: the wider of both.

    Gives how many became one.
    """
    rows = rows_of(connection, tenant_id, {key for old, new, _ in moves for key in (old.key, new.key)})
    merged = 0
    for old, new, target in moves:
        row = rows.pop(old, None)
        if row is None:
            continue
        there = rows.get(new) if new != old else None
        c = t.suppression_entry.c
        where = and_(
            c.tenant_id == tenant_id, c.address_key == old.key, c.reason == old.reason.number,
            c.reach == old.reach.number, c.reach_id == old.reach_id,
        )  # fmt: skip
        values = {"address_key": new.key, "address": target.address, "mail_domain": target.mail_domain}
        if there is not None:
            merged += 1
            keep, drop = (row, there) if _stronger(row, there) else (there, row)
            insert_rows(connection, _LOG, [_log_row(tenant_id, drop)])
            gone = and_(
                c.tenant_id == tenant_id, c.address_key == new.key, c.reason == new.reason.number,
                c.reach == new.reach.number, c.reach_id == new.reach_id,
            )  # fmt: skip
            connection.execute(t.suppression_entry.delete().where(gone if keep is row else where))
            times = {"times": row.times + there.times, "since": min(row.since, there.since)}
            if keep is row:
                connection.execute(update(t.suppression_entry).where(where).values(**values, **times))
            else:
                connection.execute(update(t.suppression_entry).where(gone).values(**times))
        else:
            connection.execute(update(t.suppression_entry).where(where).values(**values))
            rows[new] = row
        log = t.suppression_change.c
        more = {} if target.address else {"address": ""}
        connection.execute(
            update(t.suppression_change)
            .where(log.tenant_id == tenant_id, log.address_key == old.key)
            .values(address_key=new.key, **more)
        )
    return merged


def _stronger(one: EntryRow, other: EntryRow) -> bool:
    """Whether `one` holds longer."""
    rank = (State.HELD.number, State.PROPOSED.number, State.RESTING.number, State.ENDED.number)
    if one.state != other.state:
        return rank.index(one.state) < rank.index(other.state)
    return one.until is None or (other.until is not None and one.until > other.until)


# Many at once


class LoadedEntry(NamedTuple):
    """An entry that an import adds. Times as the store writes them; `until` is NULL_TEXT for no end."""

    key: bytes
    reason: int
    number: int
    address: str
    mail_domain: str
    provider_id: int
    since: str
    until: str
    note: str


NULL_TEXT = r"\N"
_LOADED = (
    "address_key, reason, reach, reach_id, number, address, mail_domain, provider_id, stream_id, since, until, note"
)
_PACKET = 5000  # entries


def load_entries(
    connection: Connection, tenant_id: int, entries: Iterable[LoadedEntry], *, reach: Reach, reach_id: int,
    stream_id: int, at: datetime, by: str,
) -> Loaded:  # fmt: skip
    """Add entries that are not there yet; those that are, whatever they say, are left out and counted as skipped.

    The list has to be locked.
    """
    moment = literal(naive(at))
    shared = (
        f"tenant_id = {tenant_id}, state = {State.HELD.number}, ended_at = NULL, times = 1, returns = 0, "
        f"made_at = {moment}, `change` = {Change.MADE.number}, changed_at = {moment}, changed_by = {literal(by)}, "
        "origin = 'import', evidence = '[]'"
    )
    packets = _packets(entries, reach.number, reach_id, stream_id)
    return load_rows(connection, "suppression_entry", _LOADED, shared, packets)


def _packets(entries: Iterable[LoadedEntry], reach: int, reach_id: int, stream_id: int) -> Iterator[bytes]:
    lines: list[bytes] = []
    for key, reason, number, address, domain, provider_id, since, until, note in entries:
        if "\\" in address:
            address = address.replace("\\", "\\\\")
        text = (
            f"{reason}\x1f{reach}\x1f{reach_id}\x1f{number}\x1f{address}\x1f{domain}\x1f{provider_id}\x1f{stream_id}"
            f"\x1f{since}\x1f{until}\x1f"
        )
        if SPECIAL.search(key):
            key = escape(key)
        kept = escape(note.encode("utf-8", "replace")) if note else b""
        lines.append(b"%b\x1f%b%b" % (key, text.encode("utf-8", "surrogatepass"), kept))
        if len(lines) == _PACKET:
            yield LINE.join(lines) + LINE
            lines = []
    if lines:
        yield LINE.join(lines) + LINE
