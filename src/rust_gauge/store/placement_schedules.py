"""Schedules of placement runs, and links by which a run is shared."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, insert, or_, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document, PlacementScheduleColumns, PlacementShareColumns
from rust_gauge.store.placement import RunRow, read_pieces, write_pieces
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class ScheduleRow:
    """A schedule. `settings` has what the contract says of it beside its name and outlet."""

    id: int
    tenant_id: int
    name: str
    outlet_id: int | None
    outlet_name: str
    enabled: bool
    address_key: str
    settings: Document
    digest: bytes | None
    message_id: int | None
    records_seen_at: datetime
    after_changes: bool
    next_at: datetime | None
    ran_at: datetime | None
    problem: str
    created_by: str
    created_at: datetime


@dataclass(frozen=True, slots=True)
class ShareRow:
    """A link to one run."""

    id: int
    tenant_id: int
    run_id: int
    note: str
    created_by: str
    created_at: datetime
    expires_at: datetime
    opened: int
    opened_at: datetime | None


def add_schedule(connection: Connection, **values: Unpack[PlacementScheduleColumns]) -> int:
    """Add a schedule; return its id. IntegrityError for a name that the tenant has."""
    key: Any = connection.execute(insert(t.placement_schedule).values(**values)).inserted_primary_key
    return int(key[0])


def list_schedules(connection: Connection, tenant_id: int) -> list[ScheduleRow]:
    """Return a tenant's schedules by name."""
    c = t.placement_schedule.c
    query = select(t.placement_schedule).where(c.tenant_id == tenant_id).order_by(c.name)
    return values_of(ScheduleRow, connection.execute(query))


def get_schedule(connection: Connection, id: int, *, lock: bool = False) -> ScheduleRow | None:
    """Return a schedule; None where there is none. `lock`: nobody else changes it before the transaction ends."""
    query = select(t.placement_schedule).where(t.placement_schedule.c.id == id)
    return value_of(ScheduleRow, connection.execute(query.with_for_update() if lock else query).first())


def schedule_by_key(connection: Connection, key: str) -> ScheduleRow | None:
    """Return the schedule whose address has this local part."""
    query = select(t.placement_schedule).where(t.placement_schedule.c.address_key == key)
    return value_of(ScheduleRow, connection.execute(query).first())


def due_schedules(connection: Connection, now: datetime) -> list[ScheduleRow]:
    """Return schedules of all tenants that are on and due, or that wait for a change, the longest due first."""
    c = t.placement_schedule.c
    query = select(t.placement_schedule).where(c.enabled, or_(c.next_at <= now, c.after_changes))
    return values_of(ScheduleRow, connection.execute(query.order_by(c.next_at.is_(None), c.next_at, c.id)))


def update_schedule(connection: Connection, id: int, /, **values: Unpack[PlacementScheduleColumns]) -> None:
    """Change columns of a schedule."""
    connection.execute(update(t.placement_schedule).where(t.placement_schedule.c.id == id).values(**values))


def delete_schedule(connection: Connection, id: int) -> None:
    """Delete a schedule. Its runs stay."""
    connection.execute(delete(t.placement_schedule).where(t.placement_schedule.c.id == id))


def write_message(connection: Connection, schedule_id: int, raw: bytes) -> None:
    """Store the message that a schedule copies."""
    write_pieces(connection, t.placement_schedule_piece.c.schedule_id, schedule_id, raw)


def message_of(connection: Connection, schedule_id: int) -> bytes:
    """Return the message that a schedule copies; empty where it has none of its own."""
    return read_pieces(connection, t.placement_schedule_piece.c.schedule_id, schedule_id)


def with_message(connection: Connection, schedule_ids: Sequence[int]) -> set[int]:
    """Return which of these schedules have a message that was handed in."""
    c = t.placement_schedule_piece.c
    return set(connection.scalars(select(c.schedule_id).where(c.schedule_id.in_(schedule_ids)).distinct()))


def newest_runs(connection: Connection, schedule_ids: Sequence[int], since: datetime) -> list[RunRow]:
    """Return the runs of schedules that began at `since` or later, newest first."""
    c = t.placement_run.c
    query = select(t.placement_run).where(c.schedule_id.in_(schedule_ids), c.started_at >= since)
    return values_of(RunRow, connection.execute(query.order_by(c.id.desc())))


def last_runs(connection: Connection, schedule_ids: Sequence[int]) -> dict[int, int]:
    """Return the number of the newest run of each schedule that has one."""
    c = t.placement_run.c
    query = select(c.schedule_id, func.max(c.id)).where(c.schedule_id.in_(schedule_ids)).group_by(c.schedule_id)
    return {int(schedule): int(run) for schedule, run in connection.execute(query)}


# Shared links


def add_share(connection: Connection, **values: Unpack[PlacementShareColumns]) -> int:
    """Add a link; return its id."""
    key: Any = connection.execute(insert(t.placement_share).values(**values)).inserted_primary_key
    return int(key[0])


def list_shares(connection: Connection, run_id: int) -> list[ShareRow]:
    """Return the links to a run, newest first."""
    c = t.placement_share.c
    query = select(t.placement_share).where(c.run_id == run_id).order_by(c.id.desc())
    return values_of(ShareRow, connection.execute(query))


def open_share(connection: Connection, digest: bytes, now: datetime) -> ShareRow | None:
    """Return the link with this digest unless it has ended, and count that it was opened."""
    c = t.placement_share.c
    query = select(t.placement_share).where(c.token_digest == digest, c.expires_at > now)
    found = value_of(ShareRow, connection.execute(query).first())
    if found is not None:
        connection.execute(update(t.placement_share).where(c.id == found.id).values(opened=c.opened + 1, opened_at=now))
    return found


def delete_share(connection: Connection, run_id: int, id: int) -> bool:
    """Delete a link. False where the run has no such link."""
    c = t.placement_share.c
    return bool(connection.execute(delete(t.placement_share).where(c.id == id, c.run_id == run_id)).rowcount)
