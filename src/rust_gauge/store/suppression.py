"""The suppression list."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, and_, or_, select, tuple_, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.names import Address
from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow
from rust_gauge.store.events import address_key

_EVIDENCE_KEPT = 5
_CHUNK = 2000


@dataclass(frozen=True, slots=True)
class NewEntry:
    """An entry that an event asks for; `evidence` is JSON-able."""

    address: Address
    reason: str
    since: datetime
    evidence: dict[str, Any]


def add_entries(
    connection: Connection, tenant_id: int, entries: Iterable[NewEntry], made_by: str, now: datetime
) -> int:
    """Make entries, or count one more time those that stand already. Gives how many are new."""
    wanted: dict[tuple[bytes, str], list[NewEntry]] = {}
    for entry in sorted(entries, key=lambda each: each.since):
        wanted.setdefault((address_key(entry.address), entry.reason), []).append(entry)
    c = t.suppression_entry.c
    keys = sorted(wanted)
    there: dict[tuple[bytes, str], AnyRow] = {}
    for start in range(0, len(keys), _CHUNK):
        query = (
            select(c.id, c.address_key, c.reason, c.times, c.evidence, c.since)
            .where(c.tenant_id == tenant_id, tuple_(c.address_key, c.reason).in_(keys[start : start + _CHUNK]))
            .with_for_update()
        )
        there.update({(bytes(row.address_key), row.reason): row for row in connection.execute(query)})
    new = 0
    for key in keys:
        group = wanted[key]
        row = there.get(key)
        if row is not None:
            evidence = (row.evidence + [entry.evidence for entry in group])[:_EVIDENCE_KEPT]
            since = min(row.since, group[0].since.replace(tzinfo=None))
            connection.execute(
                update(t.suppression_entry)
                .where(c.id == row.id)
                .values(times=c.times + len(group), evidence=evidence, since=since)
            )
            continue
        statement = upsert(t.suppression_entry).values(
            tenant_id=tenant_id,
            address_key=key[0],
            reason=key[1],
            address=str(group[0].address),
            made_by=made_by,
            since=group[0].since,
            times=len(group),
            evidence=[entry.evidence for entry in group][:_EVIDENCE_KEPT],
        )
        # Two loads may make the same entry at once: the second one only counts.
        result = connection.execute(statement.on_duplicate_key_update(times=c.times + statement.inserted.times))
        if result.rowcount == 1:
            new += 1
            connection.execute(
                t.suppression_change.insert().values(
                    tenant_id=tenant_id,
                    address_key=key[0],
                    reason=key[1],
                    change="made",
                    changed_at=now,
                    changed_by=made_by,
                )
            )
    return new


def entries_for(connection: Connection, tenant_id: int, keys: Iterable[bytes]) -> dict[bytes, list[AnyRow]]:
    """Entries of these addresses, by address key."""
    c = t.suppression_entry.c
    found: dict[bytes, list[AnyRow]] = {}
    wanted = list(dict.fromkeys(keys))
    for start in range(0, len(wanted), _CHUNK):
        query = select(c.address_key, c.reason, c.since, c.until, c.evidence).where(
            c.tenant_id == tenant_id, c.address_key.in_(wanted[start : start + _CHUNK])
        )
        for row in connection.execute(query):
            found.setdefault(bytes(row.address_key), []).append(row)
    return found


def list_entries(
    connection: Connection, tenant_id: int, *, address: Address | None, before: tuple[datetime, int] | None, limit: int
) -> list[AnyRow]:
    """Entries, newest first; `address` for one."""
    c = t.suppression_entry.c
    query = (
        select(t.suppression_entry).where(c.tenant_id == tenant_id).order_by(c.since.desc(), c.id.desc()).limit(limit)
    )
    if address is not None:
        query = query.where(c.address_key == address_key(address))
    if before is not None:
        since, id = before
        query = query.where(or_(c.since < since, and_(c.since == since, c.id < id)))
    return list(connection.execute(query))
