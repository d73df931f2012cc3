"""Verifiers, what they were paid, their verdicts and what became of them; recipients that just came in."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.suppression.checks import Verdict
from rust_gauge.core.verification.record import Outcome
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.columns import Document, VerifierColumns
from rust_gauge.store.values import value_of, values_of

_VERDICTS = tuple(Verdict)
_OUTCOMES: dict[Outcome | None, int | None] = {None: None, Outcome.DELIVERED: 1, Outcome.INVALID: 2}
_OF_NUMBER = {number: outcome for outcome, number in _OUTCOMES.items()}
_CHUNK = 2_000


@dataclass(frozen=True, slots=True)
class VerifierRow:
    """A verifier. Money in millionths; `settings` has what the contract says of requests and answers."""

    id: int
    tenant_id: int
    name: str
    place: int
    enabled: bool
    settings: Document
    secret: str
    price: int
    budget_day: int | None
    budget_month: int | None
    problem: str
    problem_at: datetime | None
    answered_at: datetime | None
    created_at: datetime


@dataclass(frozen=True, slots=True)
class Spent:
    """What a verifier was asked and paid, today and in the month; money in millionths."""

    today: int = 0
    month: int = 0
    asked: int = 0
    failed: int = 0


@dataclass(frozen=True, slots=True)
class VerdictRow:
    """A verdict of a verifier on an address."""

    address_key: bytes
    verifier_id: int
    address: str
    verdict: Verdict
    word: str
    detail: str
    price: int
    asked_at: datetime
    outcome: Outcome | None
    outcome_at: datetime | None


@dataclass(frozen=True, slots=True)
class GaugeRow:
    """How addresses were decided on a day. `saved` in millionths."""

    day: date
    own: int
    reused: int
    paid: int
    unpaid: int
    saved: int


# Verifiers


def list_verifiers(connection: Connection, tenant_id: int) -> list[VerifierRow]:
    """Return a tenant's verifiers in their order of preference."""
    c = t.verifier.c
    query = select(t.verifier).where(c.tenant_id == tenant_id).order_by(c.place, c.id)
    return values_of(VerifierRow, connection.execute(query))


def add_verifier(connection: Connection, **values: Unpack[VerifierColumns]) -> int:
    """Add a verifier; return its id. IntegrityError for a name that the tenant has."""
    key: Any = connection.execute(insert(t.verifier).values(**values)).inserted_primary_key
    return int(key[0])


def update_verifier(connection: Connection, id: int, /, **values: Unpack[VerifierColumns]) -> None:
    """Change columns of a verifier."""
    connection.execute(update(t.verifier).where(t.verifier.c.id == id).values(**values))


def delete_verifier(connection: Connection, id: int) -> None:
    """Delete a verifier with its verdicts and its days."""
    connection.execute(delete(t.verifier).where(t.verifier.c.id == id))


# Money


def spent_by(connection: Connection, verifier_ids: Collection[int], today: date) -> dict[int, Spent]:
    """Return what verifiers were asked and paid today and in this month."""
    c = t.verifier_day.c
    query = select(t.verifier_day).where(c.verifier_id.in_(list(verifier_ids)), c.day >= today.replace(day=1))
    out = dict.fromkeys(verifier_ids, Spent())
    for row in connection.execute(query.where(c.day <= today)):
        before = out[row.verifier_id]
        is_today = row.day == today
        out[row.verifier_id] = Spent(
            before.today + row.spent * is_today, before.month + row.spent, before.asked + row.asked * is_today,
            before.failed + row.failed * is_today,
        )  # fmt: skip
    return out


def add_spent(connection: Connection, verifier_id: int, day: date, asked: int, spent: int) -> None:
    """Reserve what a number of questions will cost."""
    c = t.verifier_day.c
    new = upsert(t.verifier_day).values(verifier_id=verifier_id, day=day, asked=asked, failed=0, spent=spent)
    connection.execute(new.on_duplicate_key_update(asked=c.asked + asked, spent=c.spent + spent))


def give_back(connection: Connection, verifier_id: int, day: date, failed: int, spent: int) -> None:
    """Take back what was reserved for questions that had no answer."""
    c = t.verifier_day.c
    where = (c.verifier_id == verifier_id) & (c.day == day)
    values = {"failed": c.failed + failed, "spent": c.spent - spent}
    connection.execute(update(t.verifier_day).where(where).values(**values))


def spent_days(connection: Connection, tenant_id: int, first: date, last: date) -> dict[date, int]:
    """Return what all verifiers of a tenant were paid, by day, in millionths."""
    c, v = t.verifier_day.c, t.verifier.c
    query = (
        select(c.day, func.sum(c.spent))
        .join(t.verifier, v.id == c.verifier_id)
        .where(v.tenant_id == tenant_id, c.day.between(first, last))
        .group_by(c.day)
    )
    return {day: int(n) for day, n in connection.execute(query)}


def count_decided(connection: Connection, tenant_id: int, day: date, counts: Mapping[str, int], saved: int) -> None:
    """Count how addresses were decided: own, reused, paid, unpaid."""
    c = t.verification_day.c
    values = {name: counts.get(name, 0) for name in ("own", "reused", "paid", "unpaid")} | {"saved": saved}
    new = upsert(t.verification_day).values(tenant_id=tenant_id, day=day, **values)
    connection.execute(new.on_duplicate_key_update(**{name: c[name] + n for name, n in values.items()}))


def gauge_days(connection: Connection, tenant_id: int, first: date, last: date) -> list[GaugeRow]:
    """Return how addresses were decided, by day."""
    c = t.verification_day.c
    query = select(t.verification_day).where(c.tenant_id == tenant_id, c.day.between(first, last)).order_by(c.day)
    return values_of(GaugeRow, connection.execute(query))


# Verdicts


def put_verdicts(connection: Connection, tenant_id: int, rows: Iterable[VerdictRow]) -> None:
    """Store verdicts, instead of earlier ones of the same verifiers."""
    values = [
        {
            "tenant_id": tenant_id, "address_key": row.address_key, "verifier_id": row.verifier_id,
            "address": row.address, "verdict": _VERDICTS.index(row.verdict), "word": row.word, "detail": row.detail,
            "price": row.price, "asked_at": row.asked_at, "outcome": None, "outcome_at": None,
        }
        for row in rows
    ]  # fmt: skip
    for start in range(0, len(values), _CHUNK):
        new = upsert(t.verdict).values(values[start : start + _CHUNK])
        same = {
            name: new.inserted[name] for name in values[0] if name not in ("tenant_id", "address_key", "verifier_id")
        }
        connection.execute(new.on_duplicate_key_update(**same))


def verdicts_on(
    connection: Connection, tenant_id: int, keys: Collection[bytes], since: datetime | None = None
) -> dict[bytes, list[VerdictRow]]:
    """Return the verdicts on addresses by their keys, since a time."""
    c = t.verdict.c
    out: dict[bytes, list[VerdictRow]] = defaultdict(list)
    wanted = list(keys)
    for start in range(0, len(wanted), _CHUNK):
        query = select(t.verdict).where(c.tenant_id == tenant_id, c.address_key.in_(wanted[start : start + _CHUNK]))
        for row in connection.execute(query if since is None else query.where(c.asked_at >= since)):
            out[bytes(row.address_key)].append(_verdict(row))
    return out


def open_verdicts(
    connection: Connection, tenant_id: int, since: datetime, after: bytes, limit: int
) -> list[VerdictRow]:
    """Return verdicts since a time of which it is not known what became of them, by key, beyond one key."""
    c = t.verdict.c
    query = (
        select(t.verdict)
        .where(c.tenant_id == tenant_id, c.outcome.is_(None), c.asked_at >= since, c.address_key > after)
        .order_by(c.address_key, c.verifier_id)
        .limit(limit)
    )
    return [_verdict(row) for row in connection.execute(query)]


def set_outcomes(
    connection: Connection, tenant_id: int, outcomes: Iterable[tuple[bytes, int, Outcome, datetime]]
) -> None:
    """Store what became of mail after verdicts: key, verifier id, outcome, time."""
    c = t.verdict.c
    for key, verifier_id, outcome, at in outcomes:
        where = (c.tenant_id == tenant_id) & (c.address_key == key) & (c.verifier_id == verifier_id)
        connection.execute(update(t.verdict).where(where).values(outcome=_OUTCOMES[outcome], outcome_at=at))


def outcome_counts(
    connection: Connection, tenant_id: int, since: datetime
) -> dict[int, list[tuple[Verdict, Outcome | None, int]]]:
    """Return by verifier: (verdict, outcome, how many) of the verdicts since a time."""
    c = t.verdict.c
    query = (
        select(c.verifier_id, c.verdict, c.outcome, func.count().label("n"))
        .where(c.tenant_id == tenant_id, c.asked_at >= since)
        .group_by(c.verifier_id, c.verdict, c.outcome)
    )
    out: dict[int, list[tuple[Verdict, Outcome | None, int]]] = defaultdict(list)
    for row in connection.execute(query):
        out[row.verifier_id].append((_VERDICTS[row.verdict], _OF_NUMBER[row.outcome], int(row.n)))
    return out


def contradicted(connection: Connection, tenant_id: int, since: datetime, limit: int) -> list[VerdictRow]:
    """Return verdicts since a time that others, or the mail to the address, contradict; of the newest addresses.

    Good and bad contradict each other; good contradicts an invalid address, and bad a delivery.
    """
    good, bad = _VERDICTS.index(Verdict.GOOD), _VERDICTS.index(Verdict.BAD)
    sql = (
        "SELECT address_key, MAX(asked_at) AS newest FROM verdict "
        f"WHERE tenant_id = {tenant_id} AND asked_at >= {literal(since.replace(tzinfo=None))} GROUP BY address_key "
        f"HAVING (SUM(verdict = {good}) > 0 AND SUM(verdict = {bad}) > 0) "
        f"OR SUM(verdict = {good} AND outcome = 2) > 0 OR SUM(verdict = {bad} AND outcome = 1) > 0 "
        f"ORDER BY newest DESC, address_key LIMIT {int(limit)}"
    )
    keys = [bytes(row.address_key) for row in run(connection, sql)]
    found = verdicts_on(connection, tenant_id, keys)
    return [row for key in keys for row in found[key]]


def forget_verdicts(connection: Connection, before: datetime) -> None:
    """Delete verdicts that are older than a time."""
    connection.execute(delete(t.verdict).where(t.verdict.c.asked_at < before))


def erase_verdicts(connection: Connection, tenant_id: int, key: bytes) -> int:
    """Delete the verdicts on an address and what came in of it. Return how many rows."""
    c, n = t.verdict.c, t.new_recipient.c
    verdicts = connection.execute(delete(t.verdict).where(c.tenant_id == tenant_id, c.address_key == key)).rowcount
    came = connection.execute(delete(t.new_recipient).where(n.tenant_id == tenant_id, n.address_key == key)).rowcount
    return int(verdicts + came)


def _verdict(row: Any) -> VerdictRow:
    return VerdictRow(
        bytes(row.address_key), row.verifier_id, row.address, _VERDICTS[row.verdict], row.word, row.detail, row.price,
        row.asked_at, _OF_NUMBER[row.outcome], row.outcome_at,
    )  # fmt: skip


# New recipients


@dataclass(frozen=True, slots=True)
class SourceRow:
    """A source of new recipients."""

    id: int
    tenant_id: int
    name: str
    source_key: str
    path: str
    created_at: datetime
    last_at: datetime | None


@dataclass(frozen=True, slots=True)
class NewRecipientRow:
    """A recipient that came in. `found` is the check as the contract has it."""

    id: int
    address_key: bytes
    address: str
    source: str
    came_at: datetime
    checked_at: datetime | None
    verdict: Verdict | None
    found: Document


def list_sources(connection: Connection, tenant_id: int) -> list[SourceRow]:
    """Return a tenant's sources by name."""
    c = t.recipient_source.c
    query = select(t.recipient_source).where(c.tenant_id == tenant_id).order_by(c.name)
    return values_of(SourceRow, connection.execute(query))


def add_source(connection: Connection, tenant_id: int, name: str, key: str, path: str, now: datetime) -> None:
    """Add a source. IntegrityError for a name that the tenant has."""
    values = {"tenant_id": tenant_id, "name": name, "source_key": key, "path": path, "created_at": now}
    connection.execute(insert(t.recipient_source).values(**values))


def source_by_key(connection: Connection, key: str) -> SourceRow | None:
    """Return the source that has this key."""
    query = select(t.recipient_source).where(t.recipient_source.c.source_key == key)
    return value_of(SourceRow, connection.execute(query).first())


def touch_source(connection: Connection, id: int, now: datetime) -> None:
    """Note that something came in by a source."""
    connection.execute(update(t.recipient_source).where(t.recipient_source.c.id == id).values(last_at=now))


def delete_source(connection: Connection, id: int) -> None:
    """Delete a source."""
    connection.execute(delete(t.recipient_source).where(t.recipient_source.c.id == id))


def add_recipients(
    connection: Connection, tenant_id: int, rows: Sequence[tuple[bytes, str]], source: str, now: datetime
) -> int:
    """Add recipients (key, address) that do not wait already. Return how many were new."""
    n = t.new_recipient.c
    waiting = select(n.address_key).where(n.tenant_id == tenant_id, n.checked_at.is_(None))
    there = set(connection.scalars(waiting.where(n.address_key.in_([key for key, _ in rows]))))
    new = {key: text for key, text in rows if key not in there}
    if new:
        values = [
            {"tenant_id": tenant_id, "address_key": key, "address": text, "source": source, "came_at": now, "found": {}}
            for key, text in new.items()
        ]
        connection.execute(insert(t.new_recipient).values(values))
    return len(new)


def waiting_recipients(connection: Connection, tenant_id: int, after: int, limit: int) -> list[NewRecipientRow]:
    """Return recipients that wait for their check, beyond an id, oldest first."""
    n = t.new_recipient.c
    where = (n.tenant_id == tenant_id, n.checked_at.is_(None), n.id > after)
    query = select(t.new_recipient).where(*where).order_by(n.id).limit(limit)
    return [_recipient(row) for row in connection.execute(query)]


def set_checked(
    connection: Connection, id: int, verdict: Verdict, found: Document, now: datetime, *, hide: bool
) -> None:
    """Store what was found of a recipient. `hide`: its address is not kept."""
    values: dict[str, Any] = {"checked_at": now, "verdict": _VERDICTS.index(verdict), "found": found}
    if hide:
        values["address"] = ""
    connection.execute(update(t.new_recipient).where(t.new_recipient.c.id == id).values(**values))


def list_recipients(
    connection: Connection, tenant_id: int, verdict: Verdict | None, before: int | None, limit: int
) -> list[NewRecipientRow]:
    """Return recipients that came in, newest first."""
    n = t.new_recipient.c
    query = select(t.new_recipient).where(n.tenant_id == tenant_id)
    if verdict is not None:
        query = query.where(n.verdict == _VERDICTS.index(verdict))
    if before is not None:
        query = query.where(n.id < before)
    return [_recipient(row) for row in connection.execute(query.order_by(n.id.desc()).limit(limit))]


def tenants_with_waiting(connection: Connection) -> list[int]:
    """Return the tenants that have recipients waiting for their check."""
    n = t.new_recipient.c
    return list(connection.scalars(select(n.tenant_id).where(n.checked_at.is_(None)).distinct()))


def tenants_with_open(connection: Connection, since: datetime) -> list[int]:
    """Return the tenants that have verdicts since a time of which it is not known what became of them."""
    c = t.verdict.c
    return list(connection.scalars(select(c.tenant_id).where(c.outcome.is_(None), c.asked_at >= since).distinct()))


def forget_recipients(connection: Connection, before: datetime) -> None:
    """Delete recipients that came in before a time."""
    connection.execute(delete(t.new_recipient).where(t.new_recipient.c.came_at < before))


def _recipient(row: Any) -> NewRecipientRow:
    verdict = None if row.verdict is None else _VERDICTS[row.verdict]
    return NewRecipientRow(
        row.id, bytes(row.address_key), row.address, row.source, row.came_at, row.checked_at, verdict, row.found
    )  # fmt: skip
