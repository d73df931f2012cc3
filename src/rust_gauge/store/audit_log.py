"""The audit log: entries in one chain, each with the hash of the one before it."""

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime

import orjson
from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of

_PIECE = 5000  # entries that are read at once when the chain is checked


@dataclass(frozen=True, slots=True)
class AuditEntry:
    """Who did what to what. `before_state` and `after_state` are JSON texts, empty where there is nothing to say."""

    at: datetime
    tenant_id: int | None
    account: str
    token: str
    address: str
    request_id: str
    action: str
    subject: str
    before_state: str
    after_state: str


@dataclass(frozen=True, slots=True)
class AuditEntryRow:
    """An entry with its place in the chain."""

    id: int
    at: datetime
    tenant_id: int | None
    account: str
    token: str
    address: str
    request_id: str
    action: str
    subject: str
    before_state: str
    after_state: str
    previous: bytes
    hash: bytes


@dataclass(frozen=True, slots=True)
class AuditQuery:
    """A filter of entries, the newest first. `tenant_id` None with `everything`: of the whole installation."""

    tenant_id: int | None = None
    everything: bool = False
    account: str = ""
    action: str = ""
    text: str = ""
    since: datetime | None = None
    until: datetime | None = None
    before: int | None = None
    limit: int = 100


def add_entry(connection: Connection, entry: AuditEntry) -> int:
    """Add an entry to the chain; return its number. Others wait until this transaction ends."""
    h = t.audit_head.c
    last, previous = connection.execute(select(h.last, h.hash).where(h.id == 1).with_for_update()).one()
    number = int(last) + 1
    at = entry.at.astimezone(UTC).replace(tzinfo=None)
    values = {name: getattr(entry, name) for name in AuditEntry.__dataclass_fields__} | {"at": at}
    digest = _hash_of(number, bytes(previous), values)
    connection.execute(insert(t.audit_entry).values(id=number, **values, previous=bytes(previous), hash=digest))
    connection.execute(update(t.audit_head).where(h.id == 1).values(last=number, hash=digest))
    return number


def _hash_of(number: int, previous: bytes, values: dict[str, object]) -> bytes:
    """SHA-256 over the previous hash, the number and the fields as one JSON array: no two entries share a text."""
    fields = [values[name] for name in AuditEntry.__dataclass_fields__]
    shown = [value.isoformat(timespec="microseconds") if isinstance(value, datetime) else value for value in fields]
    return hashlib.sha256(previous + orjson.dumps([number, *shown])).digest()


def list_entries(connection: Connection, query: AuditQuery) -> list[AuditEntryRow]:
    """Return entries that fit, the newest first."""
    c = t.audit_entry.c
    found = select(t.audit_entry).order_by(c.id.desc()).limit(query.limit)
    if not query.everything:
        found = found.where(c.tenant_id == query.tenant_id)
    if query.account:
        found = found.where(c.account == query.account)
    if query.action:
        found = found.where(c.action == query.action)
    if query.text:
        text = "%" + query.text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        found = found.where(c.subject.like(text) | c.after_state.like(text) | c.before_state.like(text))
    if query.since is not None:
        found = found.where(c.at >= query.since.astimezone(UTC).replace(tzinfo=None))
    if query.until is not None:
        found = found.where(c.at < query.until.astimezone(UTC).replace(tzinfo=None))
    if query.before is not None:
        found = found.where(c.id < query.before)
    return values_of(AuditEntryRow, connection.execute(found))


def check_chain(connection: Connection) -> tuple[int, str]:
    """Return how many entries were checked, and what is wrong with the first that does not fit; empty when all do."""
    number, previous = 0, bytes(32)
    for row in _in_order(connection):
        number += 1
        if row.id != number:
            return number - 1, f"entry {number} is missing"
        if row.previous != previous:
            return number - 1, f"entry {number} does not follow the one before it"
        values = {name: getattr(row, name) for name in AuditEntry.__dataclass_fields__}
        if row.hash != _hash_of(number, previous, values):
            return number - 1, f"entry {number} was changed"
        previous = row.hash
    h = t.audit_head.c
    last, head = connection.execute(select(h.last, h.hash).where(h.id == 1)).one()
    if int(last) != number or bytes(head) != previous:
        return number, f"entries behind {number} are missing: the newest was {int(last)}"
    return number, ""


def _in_order(connection: Connection) -> Iterator[AuditEntryRow]:
    after = 0
    while True:
        query = select(t.audit_entry).where(t.audit_entry.c.id > after).order_by(t.audit_entry.c.id).limit(_PIECE)
        rows = values_of(AuditEntryRow, connection.execute(query))
        if not rows:
            return
        yield from rows
        after = rows[-1].id
