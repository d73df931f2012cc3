"""Placement runs and their copies. The counts of a run, and of its day, change in the transaction of a copy."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Unpack

import zstandard
from sqlalchemy import (
    Column,
    Connection,
    Select,
    case,
    delete,
    func,
    insert,
    literal,
    select,
    text,
    update,
)
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.placement import JUDGED, Outcome
from rust_gauge.store import changes
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
    path_id: int | None
    schedule_id: int | None
    why: str


@dataclass(frozen=True, slots=True)
class RunMoment:
    """What is known of a run over time: when it began, how it went out, and which message."""

    id: int
    at: datetime
    outlet_name: str
    series: str
    header_from: str
    size: int
    domain: str


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


def count_between(connection: Connection, tenant_id: int, since: datetime, until: datetime, outlet: str) -> int:
    """Return how many runs were started from `since` on and before `until`, of one outlet or (empty) all."""
    c = t.placement_run.c
    query = select(func.count()).where(c.tenant_id == tenant_id, c.started_at >= since, c.started_at < until)
    return int(connection.scalar(query.where(c.outlet_name == outlet) if outlet else query) or 0)


def moments_between(
    connection: Connection, tenant_id: int, since: datetime, until: datetime, outlet: str = "", *, newest: int = 0
) -> list[RunMoment]:
    """Return the runs that were started from `since` on and before `until`, oldest first; `newest`: so many at most.

    Of one outlet, unless it is empty.
    """
    c = t.placement_run.c
    query = _moments().where(c.tenant_id == tenant_id, c.started_at >= since, c.started_at < until)
    query = query.where(c.outlet_name == outlet) if outlet else query
    query = query.order_by(c.started_at.desc(), c.id.desc())
    return [_moment(row) for row in connection.execute(query.limit(newest) if newest else query)][::-1]


def first_moment(connection: Connection, tenant_id: int, since: datetime) -> RunMoment | None:
    """Return the first run that was started at a time or later."""
    c = t.placement_run.c
    query = _moments().where(c.tenant_id == tenant_id, c.started_at >= since).order_by(c.started_at, c.id)
    row = connection.execute(query.limit(1)).first()
    return None if row is None else _moment(row)


def changes_between(
    connection: Connection, tenant_id: int, since: datetime, until: datetime, outlet: str, resized: float, limit: int
) -> list[tuple[RunMoment, RunMoment]]:
    """Return the newest runs whose message differs from that of the run before it through the same outlet, with that
    run before it. `resized`: of the larger size, from which another size counts."""
    where = "tenant_id = :tenant AND started_at >= :since AND started_at < :until"
    # Narrow rows are sorted several times as fast; the texts are read of those that differ.
    query = text(
        "SELECT last_id, id FROM (SELECT id, size, said, started_at, LAG(id) OVER w AS last_id, "
        "LAG(size) OVER w AS last_size, LAG(said) OVER w AS last_said FROM (SELECT id, outlet_name, started_at, size, "
        f"CRC32(CONCAT_WS(CHAR(0), series, header_from)) AS said FROM placement_run WHERE {where}"
        f"{' AND outlet_name = :outlet' if outlet else ''}) AS n "
        "WINDOW w AS (PARTITION BY outlet_name ORDER BY started_at, id)) AS s WHERE last_id IS NOT NULL AND "
        "(said <> last_said OR ABS(CAST(size AS SIGNED) - CAST(last_size AS SIGNED)) > "
        ":resized * GREATEST(size, last_size)) ORDER BY started_at DESC, id DESC LIMIT :limit"
    )
    values = {"tenant": tenant_id, "since": _naive(since), "until": _naive(until), "resized": resized, "limit": limit}
    pairs = connection.execute(query, {**values, **({"outlet": outlet} if outlet else {})}).all()
    ids = {id for pair in pairs for id in pair}
    found = connection.execute(_moments().where(t.placement_run.c.id.in_(ids))).all() if ids else []
    moments = {row[0]: _moment(row) for row in found}
    return [(moments[before], moments[after]) for before, after in reversed(pairs)]


def outlets_of(connection: Connection, tenant_id: int) -> dict[str, tuple[datetime, datetime]]:
    """Return by outlet when its first and its newest run were started."""
    c = t.placement_run.c
    query = select(c.outlet_name, func.min(c.started_at), func.max(c.started_at))
    query = query.where(c.tenant_id == tenant_id, c.started_at.is_not(None)).group_by(c.outlet_name)
    return {
        name: (first.replace(tzinfo=UTC), last.replace(tzinfo=UTC)) for name, first, last in connection.execute(query)
    }


def _naive(at: datetime) -> datetime:
    return at.astimezone(UTC).replace(tzinfo=None)


def _moments() -> Select[Any]:
    c, p = t.placement_run.c, t.placement_path.c
    query = select(c.id, c.started_at, c.outlet_name, c.series, c.header_from, c.size, p.domain)
    return query.outerjoin(t.placement_path, p.id == c.path_id)


def _moment(row: Sequence[Any]) -> RunMoment:
    id, at, outlet, series, header_from, size, domain = row
    return RunMoment(id, at.replace(tzinfo=UTC), outlet, series, header_from, size, domain or "")


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


def update_run(connection: Connection, id: int, /, **values: Unpack[PlacementRunColumns]) -> None:
    """Change columns of a run."""
    connection.execute(update(t.placement_run).where(t.placement_run.c.id == id).values(**values))
    changes.note_of(connection, "placement", id)


def delete_run(connection: Connection, id: int) -> None:
    """Delete a run with its copies, and take them off the sums of its day."""
    c = t.placement_count.c
    counted = connection.execute(select(c.provider, c.outcome, c.copies).where(c.run_id == id, c.copies > 0)).all()
    for provider, outcome, copies in counted:
        _count_day(connection, id, provider, outcome, -int(copies))
    changes.note_of(connection, "placement", id)
    connection.execute(delete(t.placement_run).where(t.placement_run.c.id == id))


def delete_old(connection: Connection, tenant_id: int, before: datetime, limit: int) -> int:
    """Delete runs that began, or were made, before a time, oldest first, and the sums of earlier days. Return how many
    runs; fewer than `limit` when there are no more."""
    c, p = t.placement_run.c, t.placement_path.c
    made = func.coalesce(c.started_at, c.created_at)
    query = select(c.id).where(c.tenant_id == tenant_id, made < before).order_by(c.id).limit(limit)
    ids = list(connection.scalars(query))
    if ids:
        connection.execute(delete(t.placement_run).where(c.id.in_(ids)))
        changes.note(connection, tenant_id, "placement")
    if len(ids) < limit:
        mine = select(p.id).where(p.tenant_id == tenant_id)
        d = t.placement_day.c
        connection.execute(delete(t.placement_day).where(d.path_id.in_(mine), d.day < before.date()))
    return len(ids)


def tenants_with_older(connection: Connection, before: datetime) -> list[int]:
    """Return the ids of tenants that have runs from before a time."""
    c = t.placement_run.c
    return list(connection.scalars(select(c.tenant_id).where(c.created_at < before).distinct()))


def write_message(connection: Connection, run_id: int, raw: bytes) -> None:
    """Store the message that is copied."""
    write_pieces(connection, t.placement_piece.c.run_id, run_id, raw)


def message_of(connection: Connection, run_id: int) -> bytes:
    """Return the message that is copied; empty when it is not there yet."""
    return read_pieces(connection, t.placement_piece.c.run_id, run_id)


def write_pieces(connection: Connection, owner: Column[Any], id: int, raw: bytes) -> None:
    """Store a message in pieces, instead of the one that its owner has. `owner`: the column that names it."""
    connection.execute(delete(owner.table).where(owner == id))
    pack = zstandard.ZstdCompressor()
    for number, start in enumerate(range(0, len(raw), _PIECE)):
        octets = pack.compress(raw[start : start + _PIECE])
        connection.execute(insert(owner.table).values({owner.name: id, "number": number, "octets": octets}))


def read_pieces(connection: Connection, owner: Column[Any], id: int) -> bytes:
    """Return a message that was stored in pieces; empty where there is none."""
    c = owner.table.c
    unpack = zstandard.ZstdDecompressor()
    rows = connection.execute(select(c.octets).where(owner == id).order_by(c.number))
    return b"".join(unpack.decompress(octets) for (octets,) in rows)


def write_assay(connection: Connection, run_id: int, mark: float, assay: bytes) -> None:
    """Store the assay of a run's message, as JSON; it is packed."""
    packed = zstandard.ZstdCompressor().compress(assay)
    new = upsert(t.placement_assay).values(run_id=run_id, assay=packed)
    connection.execute(new.on_duplicate_key_update(assay=packed))
    update_run(connection, run_id, mark=mark)


def assay_of(connection: Connection, run_id: int) -> bytes | None:
    """Return the assay of a run's message as JSON; None where there is none yet."""
    packed = connection.scalar(select(t.placement_assay.c.assay).where(t.placement_assay.c.run_id == run_id))
    return None if packed is None else zstandard.ZstdDecompressor().decompress(packed)


def path_id(connection: Connection, tenant_id: int, outlet: str, domain: str, relay: str, stream: str) -> int:
    """Return the id of what copies have in common that count together; it is made where it is missing."""
    c = t.placement_path.c
    values = {"tenant_id": tenant_id, "outlet": outlet, "domain": domain, "relay": relay, "stream": stream}
    query = select(c.id).where(*(c[name] == value for name, value in values.items()))
    found = connection.scalar(query)
    if found is None:
        connection.execute(insert(t.placement_path).prefix_with("IGNORE").values(**values))
        found = connection.scalar(query.with_for_update())
    return int(found or 0)


def header_from_domain(connection: Connection, run: RunRow) -> str:
    """Return the domain of From of a run's copies; empty where it is not known."""
    p = t.placement_path.c
    return connection.execute(select(p.domain).where(p.id == run.path_id)).scalar() or ""


def domain_of(connection: Connection, run_id: int) -> int | None:
    """Return the id of the sending domain that a run's message is from; None where it is not one of the tenant's."""
    r, p, d = t.placement_run.c, t.placement_path.c, t.sending_domain.c
    query = (
        select(d.id)
        .join(t.placement_path, (p.tenant_id == d.tenant_id) & (p.domain == d.name))
        .join(t.placement_run, r.path_id == p.id)
        .where(r.id == run_id)
    )
    return connection.scalar(query)


def begin_counting(connection: Connection, run_id: int) -> None:
    """Count the copies of a run in the sums of its day, now that it has begun."""
    c = t.placement_count.c
    counted = connection.execute(select(c.provider, c.outcome, c.copies).where(c.run_id == run_id, c.copies > 0)).all()
    for provider, outcome, copies in counted:
        _count_day(connection, run_id, provider, outcome, int(copies))


# Copies


def add_copies(connection: Connection, rows: Sequence[PlacementCopyColumns]) -> None:
    """Add the copies of a run, and count them."""
    connection.execute(insert(t.placement_copy), list(rows))
    for row in rows:
        _count(connection, row["run_id"], row["provider"], row["outcome"], 1)
    for run_id in {row["run_id"] for row in rows}:
        changes.note_of(connection, "placement", run_id)


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
        changes.note_of(connection, "placement", copy.run_id)
    return True


def looked(connection: Connection, ids: Sequence[int], now: datetime) -> None:
    """Write down that copies were looked for."""
    connection.execute(update(t.placement_copy).where(t.placement_copy.c.id.in_(ids)).values(looked_at=now))


def _count(connection: Connection, run_id: int, provider: str, outcome: str, by: int) -> None:
    c = t.placement_count.c
    _count_day(connection, run_id, provider, outcome, by)
    if by < 0:
        where = (c.run_id == run_id) & (c.provider == provider) & (c.outcome == outcome)
        connection.execute(update(t.placement_count).where(where).values(copies=c.copies + by))
        return
    new = upsert(t.placement_count).values(run_id=run_id, provider=provider, outcome=outcome, copies=by)
    connection.execute(new.on_duplicate_key_update(copies=c.copies + by))


def _count_day(connection: Connection, run_id: int, provider: str, outcome: str, by: int) -> None:
    """Count copies on the day of their run; nothing while it awaits its message."""
    r, c = t.placement_run.c, t.placement_day.c
    rows = select(r.path_id, func.date(r.started_at), literal(provider), literal(outcome), literal(by)).where(
        r.id == run_id, r.path_id.is_not(None), r.started_at.is_not(None)
    )
    new = upsert(t.placement_day).from_select([c.path_id, c.day, c.provider, c.outcome, c.copies], rows)
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
