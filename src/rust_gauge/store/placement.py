"""Placement runs and their copies. The counts of a run change in the transaction in which a copy does."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

import zstandard
from sqlalchemy import Connection, case, delete, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.placement import JUDGED, Outcome
from rust_gauge.store import tables as t
from rust_gauge.store.columns import PlacementCopyColumns, PlacementRunColumns
from rust_gauge.store.values import value_of, values_of

_PIECE = 1 << 20  # octets, before they are packed


@dataclass(frozen=True, slots=True)
class RunRow:
    """A run. `plan` has how its copies are made, as it was when its message came; empty before."""

    id: int
    tenant_id: int
    outlet_id: int | None
    outlet_name: str
    title: str
    address_key: str
    state: str
    keep_custom: bool
    plan: dict[str, Any]
    wait_minutes: int
    subject: str
    series: str
    header_from: str
    size: int
    mark: float | None
    error: str
    created_by: str
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class CopyRow:
    """A copy."""

    id: int
    tenant_id: int
    run_id: int
    seed_id: int | None
    address: str
    provider: str
    mark: str
    outcome: str
    folder: str
    reply: str
    problem: str
    sent_at: datetime | None
    arrived_at: datetime | None
    looked_at: datetime | None
    arrival: Any


@dataclass(frozen=True, slots=True)
class CountRow:
    """How many copies of a run to a provider came to one outcome."""

    run_id: int
    provider: str
    outcome: str
    copies: int


def add_run(connection: Connection, **values: Unpack[PlacementRunColumns]) -> int:
    """Add a run; return its id."""
    key: Any = connection.execute(insert(t.placement_run).values(**values)).inserted_primary_key
    return int(key[0])


def get_run(connection: Connection, tenant_id: int, id: int, *, lock: bool = False) -> RunRow | None:
    """Return a tenant's run; None where there is none."""
    c = t.placement_run.c
    query = select(t.placement_run).where(c.tenant_id == tenant_id, c.id == id)
    return value_of(RunRow, connection.execute(query.with_for_update() if lock else query).first())


def run_by_key(connection: Connection, key: str) -> RunRow | None:
    """Return the run whose one-time address has this local part."""
    c = t.placement_run.c
    return value_of(RunRow, connection.execute(select(t.placement_run).where(c.address_key == key)).first())


def list_runs(connection: Connection, tenant_id: int, before: int | None, limit: int) -> list[RunRow]:
    """Return a tenant's runs, newest first, from below number `before`."""
    c = t.placement_run.c
    query = select(t.placement_run).where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(limit)
    return values_of(RunRow, connection.execute(query if before is None else query.where(c.id < before)))


def runs_in(connection: Connection, tenant_id: int, state: str) -> list[RunRow]:
    """Return a tenant's runs of a state, oldest first."""
    c = t.placement_run.c
    query = select(t.placement_run).where(c.state == state, c.tenant_id == tenant_id).order_by(c.id)
    return values_of(RunRow, connection.execute(query))


def runs_between(
    connection: Connection, tenant_id: int, since: datetime, until: datetime, outlet: str, limit: int
) -> list[RunRow]:
    """Return the newest runs that were started from `since` on and before `until`, oldest first.

    Of one outlet, unless it is empty.
    """
    c = t.placement_run.c
    query = select(t.placement_run).where(c.tenant_id == tenant_id, c.started_at >= since, c.started_at < until)
    if outlet:
        query = query.where(c.outlet_name == outlet)
    return values_of(RunRow, connection.execute(query.order_by(c.started_at.desc(), c.id.desc()).limit(limit)))[::-1]


def runs_of_series(connection: Connection, tenant_id: int, series: str, limit: int) -> list[RunRow]:
    """Return the newest runs of a template's messages, oldest first."""
    c = t.placement_run.c
    query = select(t.placement_run).where(c.tenant_id == tenant_id, c.series == series, c.started_at.is_not(None))
    return values_of(RunRow, connection.execute(query.order_by(c.id.desc()).limit(limit)))[::-1]


def placed_by_series(connection: Connection, tenant_id: int, since: datetime) -> dict[str, tuple[int, int]]:
    """Return of each template, by name, how many copies were judged and how many of them were not in the inbox."""
    r, n = t.placement_run.c, t.placement_count.c
    inbox = func.sum(case((n.outcome == Outcome.INBOX, n.copies), else_=0))
    query = (
        select(r.series, func.sum(n.copies), inbox)
        .join(t.placement_count, n.run_id == r.id)
        .where(r.tenant_id == tenant_id, r.started_at >= since, n.outcome.in_([each.value for each in JUDGED]))
        .group_by(r.series)
    )
    return {series: (int(judged), int(judged - inside)) for series, judged, inside in connection.execute(query)}


def outlets_between(connection: Connection, tenant_id: int, since: datetime, until: datetime) -> list[str]:
    """Return the names of outlets with runs that were started from `since` on and before `until`."""
    c = t.placement_run.c
    query = select(c.outlet_name).distinct()
    query = query.where(c.tenant_id == tenant_id, c.started_at >= since, c.started_at < until)
    return list(connection.scalars(query.order_by(c.outlet_name)))


def update_run(connection: Connection, id: int, /, **values: Unpack[PlacementRunColumns]) -> None:
    """Change columns of a run."""
    connection.execute(update(t.placement_run).where(t.placement_run.c.id == id).values(**values))


def delete_run(connection: Connection, id: int) -> None:
    """Delete a run with its copies."""
    connection.execute(delete(t.placement_run).where(t.placement_run.c.id == id))


def write_message(connection: Connection, run_id: int, raw: bytes) -> None:
    """Store the message that is copied."""
    connection.execute(delete(t.placement_piece).where(t.placement_piece.c.run_id == run_id))
    pack = zstandard.ZstdCompressor()
    for number, start in enumerate(range(0, len(raw), _PIECE)):
        octets = pack.compress(raw[start : start + _PIECE])
        connection.execute(insert(t.placement_piece).values(run_id=run_id, number=number, octets=octets))


def message_of(connection: Connection, run_id: int) -> bytes:
    """Return the message that is copied; empty when it is not there yet."""
    return b"".join(_pieces(connection, run_id))


def _pieces(connection: Connection, run_id: int) -> Iterator[bytes]:
    c = t.placement_piece.c
    unpack = zstandard.ZstdDecompressor()
    for (octets,) in connection.execute(select(c.octets).where(c.run_id == run_id).order_by(c.number)):
        yield unpack.decompress(octets)


# Copies


def add_copies(connection: Connection, rows: Sequence[PlacementCopyColumns]) -> None:
    """Add the copies of a run, and count them."""
    connection.execute(insert(t.placement_copy), list(rows))
    for row in rows:
        _count(connection, row["run_id"], row["provider"], row["outcome"], 1)


def list_copies(connection: Connection, run_id: int) -> list[CopyRow]:
    """Return the copies of a run, by provider and address."""
    c = t.placement_copy.c
    query = select(t.placement_copy).where(c.run_id == run_id).order_by(c.provider, c.address)
    return values_of(CopyRow, connection.execute(query))


def copies_in(connection: Connection, tenant_id: int, state: str, outcome: str, limit: int) -> list[CopyRow]:
    """Return copies of an outcome in a tenant's runs of a state, those that were looked for longest ago first."""
    c, r = t.placement_copy.c, t.placement_run.c
    query = select(t.placement_copy).join(t.placement_run, r.id == c.run_id)
    query = query.where(c.tenant_id == tenant_id, c.outcome == outcome, r.state == state)
    return values_of(CopyRow, connection.execute(query.order_by(c.looked_at, c.id).limit(limit)))


def settle(connection: Connection, copy: CopyRow, expected: str, /, **values: Unpack[PlacementCopyColumns]) -> bool:
    """Change a copy that still has the outcome `expected`, and the counts with it. Return whether it had."""
    c = t.placement_copy.c
    changed = connection.execute(
        update(t.placement_copy).where(c.id == copy.id, c.outcome == expected).values(**values)
    )
    if not changed.rowcount:
        return False
    outcome = values.get("outcome", expected)
    if outcome != expected:
        _count(connection, copy.run_id, copy.provider, expected, -1)
        _count(connection, copy.run_id, copy.provider, outcome, 1)
    return True


def looked(connection: Connection, ids: Sequence[int], now: datetime) -> None:
    """Write down that copies were looked for."""
    connection.execute(update(t.placement_copy).where(t.placement_copy.c.id.in_(ids)).values(looked_at=now))


def _count(connection: Connection, run_id: int, provider: str, outcome: str, by: int) -> None:
    c = t.placement_count.c
    if by < 0:
        where = (c.run_id == run_id) & (c.provider == provider) & (c.outcome == outcome)
        connection.execute(update(t.placement_count).where(where).values(copies=c.copies + by))
        return
    new = upsert(t.placement_count).values(run_id=run_id, provider=provider, outcome=outcome, copies=by)
    connection.execute(new.on_duplicate_key_update(copies=c.copies + by))


def counts_of(connection: Connection, run_ids: Sequence[int]) -> list[CountRow]:
    """Return what became of the copies of runs."""
    c = t.placement_count.c
    query = select(t.placement_count).where(c.run_id.in_(run_ids), c.copies > 0)
    return values_of(CountRow, connection.execute(query))


def open_copies(connection: Connection, run_id: int, outcomes: Sequence[str]) -> int:
    """Return how many copies of a run have one of these outcomes."""
    c = t.placement_count.c
    query = select(func.coalesce(func.sum(c.copies), 0)).where(c.run_id == run_id, c.outcome.in_(outcomes))
    return int(connection.execute(query).scalar_one())
