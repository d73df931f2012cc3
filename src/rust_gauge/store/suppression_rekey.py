"""Entries under new keys, after a tenant changed how addresses are compared."""

from collections.abc import Sequence

from sqlalchemy import Connection, and_, update

from rust_gauge.core.suppression import State
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.suppression import LOG, EntryRow, Target, Where, change_row, rows_of


def rekey(
    connection: Connection, tenant_id: int, moves: Sequence[tuple[Where, Where, Target]],
) -> int:  # fmt: skip
    """Give entries new keys. If an entry exists there already, the two become one: the wider of both. Return how many
    became one.
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
            c.scope == old.scope.number, c.scope_id == old.scope_id,
        )  # fmt: skip
        values = {"address_key": new.key, "address": target.address, "mail_domain": target.mail_domain}
        if there is not None:
            merged += 1
            keep, drop = (row, there) if _stronger(row, there) else (there, row)
            insert_rows(connection, LOG, [change_row(tenant_id, drop)])
            gone = and_(
                c.tenant_id == tenant_id, c.address_key == new.key, c.reason == new.reason.number,
                c.scope == new.scope.number, c.scope_id == new.scope_id,
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
    """Return whether `one` holds longer."""
    rank = (State.HELD.number, State.PROPOSED.number, State.RESTING.number, State.ENDED.number)
    if one.state != other.state:
        return rank.index(one.state) < rank.index(other.state)
    return one.until is None or (other.until is not None and one.until > other.until)
