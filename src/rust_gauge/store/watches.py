"""Watches of propagation."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.columns import WatchColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class WatchRow:
    """A watch with the name of its domain."""

    id: int
    tenant_id: int
    domain_id: int
    state: str
    records: list[Any]
    servers: list[Any]
    sightings: list[Any]
    rounds: int
    created_at: datetime
    looked_at: datetime | None
    next_at: datetime | None
    gives_up_at: datetime
    finished_at: datetime | None
    domain: str


def add_watch(connection: Connection, **values: Unpack[WatchColumns]) -> int:
    """Store a new watch; its columns are those of the table."""
    result = connection.execute(insert(t.watch).values(state="running", sightings=[], rounds=0, **values))
    changes.note(connection, values["tenant_id"], "watches")
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def get_watch(connection: Connection, watch_id: int, tenant_id: int | None = None) -> WatchRow | None:
    """Return a watch with the name of its domain."""
    query = select(t.watch, t.sending_domain.c.name.label("domain")).join(t.sending_domain)
    query = query.where(t.watch.c.id == watch_id)
    if tenant_id is not None:
        query = query.where(t.watch.c.tenant_id == tenant_id)
    return value_of(WatchRow, connection.execute(query).first())


def list_watches(connection: Connection, domain_id: int, limit: int = 20) -> list[WatchRow]:
    """Return the newest watches of a domain."""
    query = select(t.watch, t.sending_domain.c.name.label("domain")).join(t.sending_domain)
    query = query.where(t.watch.c.domain_id == domain_id).order_by(t.watch.c.id.desc())
    return values_of(WatchRow, connection.execute(query.limit(limit)))


def running(connection: Connection, tenant_id: int) -> int:
    """Return how many watches of a tenant are not finished."""
    query = select(t.watch.c.id).where(t.watch.c.tenant_id == tenant_id, t.watch.c.state == "running")
    return len(connection.execute(query).all())


def change_watch(connection: Connection, watch_id: int, /, **values: Unpack[WatchColumns]) -> bool:
    """Set columns of a watch that still runs. False when it does not."""
    where = (t.watch.c.id == watch_id) & (t.watch.c.state == "running")
    if not connection.execute(update(t.watch).where(where).values(**values)).rowcount:
        return False
    changes.note(connection, connection.scalar(select(t.watch.c.tenant_id).where(t.watch.c.id == watch_id)), "watches")
    return True


def finish_watch(connection: Connection, watch_id: int, state: str, now: datetime) -> bool:
    """End a watch that still runs."""
    return change_watch(connection, watch_id, state=state, finished_at=now, next_at=None)
