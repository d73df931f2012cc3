"""The suppression list."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, cast

import orjson
from sqlalchemy import Connection, and_, or_, select, update

from rust_gauge.core.names import Address, address_key
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal, run
from rust_gauge.store.engine import AnyRow

_EVIDENCE_KEPT = 5
_CHUNK = 2000
_STANDS = "id, address_key, reason, times, evidence, since"


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
    keys = sorted(wanted)
    there: dict[tuple[bytes, str], AnyRow] = {}
    for start in range(0, len(keys), _CHUNK):
        # By the address alone: a list of pairs would not be looked up in the index.
        listed = ", ".join(sorted({literal(key) for key, _ in keys[start : start + _CHUNK]}))
        where = f"tenant_id = {literal(tenant_id)} AND address_key IN ({listed})"
        for row in run(connection, f"SELECT {_STANDS} FROM suppression_entry WHERE {where} FOR UPDATE"):
            if (bytes(row.address_key), row.reason) in wanted:
                there[bytes(row.address_key), row.reason] = row
    for key, row in there.items():
        _count_again(connection, row, wanted[key])
    missing = [key for key in keys if key not in there]
    return sum(
        _make(connection, tenant_id, {key: wanted[key] for key in missing[start : start + _CHUNK]}, made_by, now)
        for start in range(0, len(missing), _CHUNK)
    )


def _count_again(connection: Connection, row: AnyRow, group: list[NewEntry]) -> None:
    """An entry that stands already: one time more for each event, and its evidence as long as there is room."""
    c = t.suppression_entry.c
    evidence = (orjson.loads(row.evidence) + [entry.evidence for entry in group])[:_EVIDENCE_KEPT]
    since = min(row.since, group[0].since.replace(tzinfo=None))
    values = {"times": c.times + len(group), "evidence": evidence, "since": since}
    connection.execute(update(t.suppression_entry).where(c.id == row.id).values(values))


_MAKE = (
    "INSERT IGNORE INTO suppression_entry (tenant_id, address_key, reason, address, made_by, since, times, evidence)"
)
_NOTE = "INSERT INTO suppression_change (tenant_id, address_key, reason, `change`, changed_at, changed_by) VALUES"


def _make(
    connection: Connection, tenant_id: int, wanted: dict[tuple[bytes, str], list[NewEntry]], made_by: str, now: datetime
) -> int:
    """Make entries that did not stand when we looked. Gives how many are new."""
    rows = [
        (
            tenant_id,
            *key,
            str(group[0].address),
            made_by,
            group[0].since.replace(tzinfo=None),
            len(group),
            orjson.dumps([entry.evidence for entry in group[:_EVIDENCE_KEPT]]).decode(),
        )
        for key, group in wanted.items()
    ]
    made = insert_rows(connection, f"{_MAKE} VALUES", rows, "RETURNING address_key, reason").all()
    new = {(bytes(key), reason) for key, reason in cast("list[tuple[bytes, str]]", made)}
    c = t.suppression_entry.c
    for key in wanted.keys() - new:  # another load made it in this very moment: ours only counts
        where = (c.tenant_id == tenant_id) & (c.address_key == key[0]) & (c.reason == key[1])
        connection.execute(update(t.suppression_entry).where(where).values(times=c.times + len(wanted[key])))
    if new:
        at = now.replace(tzinfo=None)
        insert_rows(connection, _NOTE, [(tenant_id, *key, "made", at, made_by) for key in sorted(new)])
    return len(new)


def drop_unfounded(
    connection: Connection, tenant_id: int, reason: str, speaks: dict[bytes, int], by: str, now: datetime
) -> int:
    """Lift the entries of these addresses for which no event speaks any more; count the events of the others.

    `speaks` by address key: how many events give this reason. Only entries that came from events are touched.
    """
    c = t.suppression_entry.c
    lifted: list[bytes] = []
    keys = sorted(speaks)
    for start in range(0, len(keys), _CHUNK):
        where = (c.tenant_id == tenant_id) & (c.reason == reason) & c.made_by.in_(("event", "rules"))
        query = select(c.id, c.address_key).where(where, c.address_key.in_(keys[start : start + _CHUNK]))
        for row in connection.execute(query.with_for_update()):
            times = speaks[bytes(row.address_key)]
            if times:
                connection.execute(update(t.suppression_entry).where(c.id == row.id).values(times=times))
            else:
                connection.execute(t.suppression_entry.delete().where(c.id == row.id))
                lifted.append(bytes(row.address_key))
    if lifted:
        at = now.replace(tzinfo=None)
        insert_rows(connection, _NOTE, [(tenant_id, key, reason, "lifted", at, by) for key in lifted])
    return len(lifted)


def entries_for(connection: Connection, tenant_id: int, keys: Iterable[bytes]) -> dict[bytes, list[AnyRow]]:
    """Entries of these addresses, by address key: reason, since, until, and what the first event said (`detail`)."""
    found: dict[bytes, list[AnyRow]] = {}
    wanted = list(dict.fromkeys(keys))
    for start in range(0, len(wanted), _CHUNK):
        listed = ", ".join(map(literal, wanted[start : start + _CHUNK]))
        sql = f"{_LOOK_UP} WHERE tenant_id = {literal(tenant_id)} AND address_key IN ({listed})"
        for row in connection.exec_driver_sql(sql, execution_options={"no_parameters": True}):
            found.setdefault(row.address_key, []).append(row)
    return found


_LOOK_UP = (
    "SELECT address_key, reason, since, until, JSON_VALUE(evidence, '$[0].diagnostic') AS detail FROM suppression_entry"
)


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
