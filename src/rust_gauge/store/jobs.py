"""The work of the workers: a table of jobs, claimed with SELECT ... FOR UPDATE SKIP LOCKED.

A worker holds a job by a lease that it renews; a job whose lease ran out is anybody's again. Each claim has a number,
and every write of a worker names its own: a worker that was asleep for longer than its lease can neither go on with the
job nor finish it, since its number is not the newest any more.

Short work that nobody looks at is deleted when it is done. What people start is listed: it says how far it is, can be
stopped and resumed, takes files in pieces, and is kept for a while with what came out.
"""

import zlib
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, TypedDict, Unpack

from sqlalchemy import ColumnElement, Connection, Row, case, delete, func, insert, or_, select, text, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document, JobColumns
from rust_gauge.store.engine import Store

LEASE = timedelta(minutes=2)  # a worker that is silent this long is taken to be dead
MAX_ATTEMPTS = 5  # with pauses of 20 s to 21 min between them
FILE = "file"  # the part that was sent for a job
COLLECTING, WAITING, RUNNING, CANCELLED, FAILED, DONE = (
    "collecting",
    "waiting",
    "running",
    "cancelled",
    "failed",
    "done",
)

"""A JSON object, as the kind of the job defines it."""


class ClaimLost(RustGaugeError):
    """The worker's lease ran out and the job is another worker's, or was deleted. Nothing was written."""


class CancelRequested(Exception):
    """Cancellation was requested. Raised where it stands after a whole piece of its work."""


@dataclass(frozen=True, slots=True)
class Job:
    """A job. `claim` is the number of the claim by which a worker has it; `done` of `total` in units of its kind."""

    id: int
    kind: str
    tenant_id: int
    subject: int
    listed: bool
    name: str
    state: str
    request: Document
    position: Document
    result: Document
    done: int
    total: int
    cancel_requested: bool
    attempts: int
    claim: int
    error: str
    created_by: str
    created_at: datetime
    finished_at: datetime | None

    @property
    def is_last_attempt(self) -> bool:
        """Return whether it is given up when this attempt fails."""
        return self.attempts >= MAX_ATTEMPTS


_COLUMNS = tuple(t.job.c[name] for name in Job.__dataclass_fields__)


def _job(row: Row[Any]) -> Job:
    values = dict(row._mapping)
    values["tenant_id"] = values["tenant_id"] or 0
    values["created_at"] = values["created_at"].replace(tzinfo=UTC)
    values["finished_at"] = values["finished_at"].replace(tzinfo=UTC) if values["finished_at"] else None
    return Job(**values)


# Asking for work


def enqueue(
    connection: Connection, kind: str, tenant_id: int, subject: int, now: datetime, *, at: datetime | None = None
) -> None:
    """Ask for short work on a subject, not before `at`; joins a request for the same that still waits.

    When one waits, INSERT IGNORE holds it until this transaction ends, so a worker cannot take it before what this
    transaction writes can be seen.
    """
    values = _new(kind, tenant_id, now) | {
        "subject": subject, "state": WAITING, "waiting_key": f"{kind}:{tenant_id}:{subject}", "run_after": at or now,
    }  # fmt: skip
    connection.execute(insert(t.job).prefix_with("IGNORE").values(**values))


def enqueue_all(connection: Connection, kind: str, subjects: Collection[tuple[int, int]], now: datetime) -> None:
    """Ask for short work on many subjects, (tenant id, subject) each, as `enqueue` does for one."""
    rows = [
        _new(kind, tenant_id, now)
        | {"subject": subject, "state": WAITING, "waiting_key": f"{kind}:{tenant_id}:{subject}", "run_after": now}
        for tenant_id, subject in subjects
    ]
    if rows:
        connection.execute(insert(t.job).prefix_with("IGNORE"), rows)


def bring_forward(connection: Connection, kind: str, tenant_id: int, subject: int, at: datetime) -> None:
    """See to it that a request for short work that waits is free at a time, if it would be so only later."""
    c = t.job.c
    key = f"{kind}:{tenant_id}:{subject}"
    connection.execute(update(t.job).where(c.waiting_key == key, c.run_after > at).values(run_after=at))


def add(
    connection: Connection,
    kind: str,
    tenant_id: int,
    now: datetime,
    *,
    name: str,
    request: Document,
    created_by: str,
    state: str = WAITING,
    total: int = 0,
) -> int:
    """Add a listed job; with `state` COLLECTING it waits for its file. Returns its id."""
    values = _new(kind, tenant_id, now) | {
        "subject": 0, "listed": True, "name": name, "state": state, "request": request, "created_by": created_by,
        "total": total, "run_after": now,
    }  # fmt: skip
    return int(connection.execute(insert(t.job).values(**values)).inserted_primary_key[0])  # type: ignore[index]


def _new(kind: str, tenant_id: int, now: datetime) -> dict[str, Any]:
    return {
        "kind": kind, "tenant_id": tenant_id, "listed": False, "name": "", "request": {}, "position": {}, "result": {},
        "done": 0, "total": 0, "cancel_requested": False, "attempts": 0, "claim": 0, "error": "", "created_by": "",
        "created_at": now,
    }  # fmt: skip


# A worker's part


def claim(connection: Connection, now: datetime, after: int = 0, workers: int = 1) -> Job | None:
    """Claim a job that is free: the oldest of the tenant whose turn it is. One whose workers keep dying is given up.

    Tenants take turns by their ids, so that a thousand jobs of one do not hold up the others: `after` is the tenant
    that this worker served last. With several `workers`, one of them is always left for the short work of everybody:
    listed jobs, which may take hours, have all but one, as has each tenant; and a tenant has one listed job of a kind
    at a time. The installation's own work (tenant 0) never waits.
    """
    for tenant_id, kinds in _turns(connection, now, after, workers):
        job = _claim_of(connection, tenant_id, now, kinds)
        if job is not None:
            return job
    return None


def _turns(connection: Connection, now: datetime, after: int, workers: int) -> list[tuple[int, list[str]]]:
    """Return the tenants with free jobs in the order in which they are served, with the kinds that they may have."""
    c = t.job.c
    tenant = func.coalesce(c.tenant_id, 0)
    running = func.sum(case(((c.state == RUNNING) & (c.lease_until >= now), 1), else_=0))
    free = func.sum(case((_free(now), 1), else_=0))
    query = select(tenant.label("tenant_id"), c.kind, c.listed, running.label("running"), free.label("free"))
    rows = connection.execute(query.where(c.state.in_((WAITING, RUNNING))).group_by(tenant, c.kind, c.listed)).all()
    most = workers - 1
    long = sum(int(row.running) for row in rows if row.listed)
    of_tenant: dict[int, int] = {}
    for row in rows:
        of_tenant[row.tenant_id] = of_tenant.get(row.tenant_id, 0) + int(row.running)
    able: dict[int, list[str]] = {}
    for row in rows:
        full = most > 0 and row.tenant_id and (
            of_tenant[row.tenant_id] >= most or (row.listed and (long >= most or row.running))
        )  # fmt: skip
        if row.free and not full:
            able.setdefault(int(row.tenant_id), []).append(str(row.kind))
    return sorted(able.items(), key=lambda turn: (turn[0] <= after, turn[0]))


def _free(now: datetime) -> ColumnElement[bool]:
    c = t.job.c
    return or_((c.state == WAITING) & (c.run_after <= now), (c.state == RUNNING) & (c.lease_until < now))


def _claim_of(connection: Connection, tenant_id: int, now: datetime, kinds: Sequence[str]) -> Job | None:
    c = t.job.c
    mine = c.tenant_id == tenant_id if tenant_id else (c.tenant_id == 0) | c.tenant_id.is_(None)
    query = select(*_COLUMNS).where(_free(now), mine, c.kind.in_(kinds)).order_by(c.id).limit(1)
    query = query.with_for_update(skip_locked=True)
    while (row := connection.execute(query).first()) is not None:
        if row.state == RUNNING and row.attempts >= MAX_ATTEMPTS:
            error = f"The worker ended {row.attempts} times during this job"
            values: Document = {"state": FAILED, "error": error, "lease_until": None, "finished_at": now}
            connection.execute(update(t.job).where(c.id == row.id).values(**values))
            continue
        values = {
            "state": RUNNING, "waiting_key": None, "lease_until": now + LEASE, "attempts": row.attempts + 1,
            "claim": row.claim + 1,
        }  # fmt: skip
        connection.execute(update(t.job).where(c.id == row.id).values(**values))
        return _job(connection.execute(select(*_COLUMNS).where(c.id == row.id)).one())
    return None


def check(connection: Connection, job: Job) -> None:
    """Make sure, until this transaction ends, that the job is still this worker's. ClaimLost if it is not."""
    _held(connection, job, read=True)


def _held(connection: Connection, job: Job, *, read: bool = False) -> bool:
    """Return whether cancellation was requested. ClaimLost if the job is not this worker's any more.

    `read`: with a lock that several threads of the worker can have at once.
    """
    c = t.job.c
    query = select(c.state, c.claim, c.cancel_requested).where(c.id == job.id).with_for_update(read=read)
    row = connection.execute(query).first()
    if row is None or row.state != RUNNING or row.claim != job.claim:
        raise ClaimLost(
            f"Job {job.id} ({job.kind}) is not this worker's any more", why="its lease ran out",
            remedy="Nothing was written; the worker that has it now goes on",
        )  # fmt: skip
    return bool(row.cancel_requested)


def newest(connection: Connection, job: Job) -> Job:
    """Return a worker's job as it stands now. ClaimLost if it is another worker's."""
    _held(connection, job)
    return _job(connection.execute(select(*_COLUMNS).where(t.job.c.id == job.id)).one())


def renew(connection: Connection, job: Job, now: datetime) -> None:
    """Extend a job's lease. ClaimLost if it is another worker's."""
    _held(connection, job)
    connection.execute(update(t.job).where(t.job.c.id == job.id).values(lease_until=now + LEASE))


class Progress(TypedDict, total=False):
    """Record a job's progress. What is left out stays unchanged."""

    done: int
    total: int
    position: Document
    result: Document


def record(connection: Connection, job: Job, now: datetime, **progress: Unpack[Progress]) -> bool:
    """Write down how far a job is, in the transaction of the work itself, and renew its lease.

    Returns whether cancellation was requested. ClaimLost if it is another worker's.
    """
    cancel_requested = _held(connection, job)
    connection.execute(update(t.job).where(t.job.c.id == job.id).values(lease_until=now + LEASE, **progress))
    if job.listed:
        changes.note(connection, job.tenant_id, "jobs")
    return cancel_requested


def advance(connection: Connection, job: Job, now: datetime, **progress: Unpack[Progress]) -> None:
    """Record progress, or raise CancelRequested if cancellation was requested: then nothing of this piece is kept."""
    if record(connection, job, now, **progress):
        raise CancelRequested


def finish(connection: Connection, job: Job, now: datetime, result: Document | None = None) -> None:
    """Done. Work that nobody looks at goes, so that the table stays small. ClaimLost if it is another worker's."""
    _held(connection, job)
    if not job.listed:
        connection.execute(delete(t.job).where(t.job.c.id == job.id))
        return
    if result is None:  # what was recorded on the way stays; `job` may be older than that
        _end(connection, job, now, state=DONE)
    else:
        _end(connection, job, now, state=DONE, result=result)


def stop(connection: Connection, job: Job, now: datetime) -> None:
    """Stop a job where it is, as requested. ClaimLost if it is another worker's."""
    _held(connection, job)
    _end(connection, job, now, state=CANCELLED)


def fail(connection: Connection, job: Job, error: str, now: datetime, *, final: bool = False) -> None:
    """Schedule a retry, later each time; give up after a few, or at once if `final`. ClaimLost if it is another
    worker's.
    """
    _held(connection, job)
    if final or job.is_last_attempt:
        _end(connection, job, now, state=FAILED, error=error[:2000])
        return
    pause = timedelta(seconds=5 * 4**job.attempts)
    values = {"state": WAITING, "error": error[:2000], "run_after": now + pause, "lease_until": None}
    connection.execute(update(t.job).where(t.job.c.id == job.id).values(**values))


def _end(connection: Connection, job: Job, now: datetime, **values: Unpack[JobColumns]) -> None:
    ended: Document = {"finished_at": now, "lease_until": None, "cancel_requested": False, **values}
    connection.execute(update(t.job).where(t.job.c.id == job.id).values(**ended))
    if job.listed:
        changes.note(connection, job.tenant_id, "jobs")


# What people see of listed jobs, and do with them


def get(connection: Connection, id: int, tenant_id: int, *, lock: bool = False) -> Job | None:
    """Return a tenant's listed job; None where there is none."""
    c = t.job.c
    query = select(*_COLUMNS).where(c.id == id, c.tenant_id == tenant_id, c.listed)
    row = connection.execute(query.with_for_update() if lock else query).first()
    return None if row is None else _job(row)


def list_jobs(connection: Connection, tenant_id: int, kind: str | None, limit: int) -> list[Job]:
    """Return a tenant's listed jobs, the newest first."""
    c = t.job.c
    query = select(*_COLUMNS).where(c.tenant_id == tenant_id, c.listed).order_by(c.id.desc()).limit(limit)
    return [_job(row) for row in connection.execute(query if kind is None else query.where(c.kind == kind))]


def newest_of(connection: Connection, tenant_id: int, kind: str, *, lock: bool = False) -> Job | None:
    """Return a tenant's newest listed job of a kind; None when there was none."""
    c = t.job.c
    query = select(*_COLUMNS).where(c.tenant_id == tenant_id, c.listed, c.kind == kind).order_by(c.id.desc()).limit(1)
    row = connection.execute(query.with_for_update() if lock else query).first()
    return None if row is None else _job(row)


def request_cancel(connection: Connection, job: Job, now: datetime) -> None:
    """Stop a job that waits; ask one that runs to stop after its piece of work. The row has to be locked."""
    if job.state == WAITING:
        _end(connection, job, now, state=CANCELLED)
    elif job.state == RUNNING:
        connection.execute(update(t.job).where(t.job.c.id == job.id).values(cancel_requested=True))


def start(connection: Connection, job: Job, now: datetime, **values: Unpack[JobColumns]) -> None:
    """Enqueue a listed job to continue where it is. The row has to be locked."""
    fresh: Document = {
        "state": WAITING, "cancel_requested": False, "error": "", "attempts": 0, "run_after": now, "finished_at": None,
    }  # fmt: skip
    connection.execute(update(t.job).where(t.job.c.id == job.id).values(**fresh, **values))


def drop(connection: Connection, id: int) -> None:
    """Delete a job with its pieces."""
    connection.execute(delete(t.job).where(t.job.c.id == id))


def drop_old(connection: Connection, before: datetime, limit: int = 20) -> int:
    """Delete jobs that ended long ago or were never started; returns how many."""
    c = t.job.c
    old = (c.created_at < before) & c.state.in_((DONE, FAILED, CANCELLED, COLLECTING))
    ids = list(connection.scalars(select(c.id).where(old).limit(limit)))
    connection.execute(delete(t.job).where(c.id.in_(ids)))
    return len(ids)


def waiting(connection: Connection, kind: str, tenant_id: int | None = None) -> int:
    """Return how many jobs of a kind wait or run."""
    c = t.job.c
    query = select(func.count()).select_from(t.job).where(c.kind == kind, c.state.in_((WAITING, RUNNING)))
    if tenant_id is not None:
        query = query.where(c.tenant_id == tenant_id)
    return int(connection.scalar(query) or 0)


# Pieces of files


def put_piece(connection: Connection, id: int, part: str, number: int, octets: bytes) -> None:
    """Store a piece; the same number again replaces it."""
    packed = zlib.compress(octets, 1)
    statement = upsert(t.job_piece).values(job_id=id, part=part, number=number, size=len(octets), octets=packed)
    same = {"size": statement.inserted.size, "octets": statement.inserted.octets}
    connection.execute(statement.on_duplicate_key_update(**same))


def sizes(connection: Connection, id: int, part: str) -> list[tuple[int, int]]:
    """Return (number, octets) of each piece of a part, in their order."""
    c = t.job_piece.c
    query = select(c.number, c.size).where(c.job_id == id, c.part == part).order_by(c.number)
    return [(row.number, row.size) for row in connection.execute(query)]


def parts(connection: Connection, id: int) -> dict[str, int]:
    """Return octets by part, without the file itself."""
    c = t.job_piece.c
    query = select(c.part, func.sum(c.size).label("n")).where(c.job_id == id, c.part != FILE).group_by(c.part)
    return {row.part: int(row.n) for row in connection.execute(query)}


def piece(connection: Connection, id: int, part: str, number: int) -> bytes | None:
    """Return one piece; None where there is none."""
    c = t.job_piece.c
    found = connection.scalar(select(c.octets).where(c.job_id == id, c.part == part, c.number == number))
    return None if found is None else zlib.decompress(found)


def drop_part(connection: Connection, id: int, part: str) -> None:
    """Delete all pieces of a part."""
    c = t.job_piece.c
    connection.execute(delete(t.job_piece).where(c.job_id == id, c.part == part))


def pieces(store: Store, id: int, part: str) -> Iterator[bytes]:
    """Yield all pieces of a part, one at a time, each read in a transaction of its own."""
    for number, _ in store.transaction(lambda c: sizes(c, id, part)):
        found = store.transaction(lambda c, number=number: piece(c, id, part, number))  # type: ignore[misc]
        if found is not None:
            yield found


# Results of batches of audits


def done_numbers(connection: Connection, id: int) -> set[int]:
    """Return the numbers of the names of a batch that have a result."""
    c = t.batch_result.c
    return set(connection.scalars(select(c.number).where(c.job_id == id)))


def add_results(connection: Connection, id: int, rows: Sequence[Document]) -> int:
    """Store results that are not there yet; return how many names of the batch have one now."""
    if rows:
        connection.execute(insert(t.batch_result).prefix_with("IGNORE"), [{"job_id": id, **row} for row in rows])
    c = t.batch_result.c
    return int(connection.scalar(select(func.count()).select_from(t.batch_result).where(c.job_id == id)) or 0)


@dataclass(frozen=True, slots=True)
class BatchRow:
    """One domain of a batch and what its audit found; `problem` says why it could not be audited."""

    number: int
    name: str
    problem: str
    faults: int
    risks: int
    notes: int
    findings: list[Document]
    not_checked: list[str]


def list_results(connection: Connection, id: int, after: int, limit: int) -> list[BatchRow]:
    """Return results of a batch in the order of its names, from behind number `after`."""
    c = t.batch_result.c
    columns = [c[name] for name in BatchRow.__dataclass_fields__]
    query = select(*columns).where(c.job_id == id, c.number > after).order_by(c.number).limit(limit)
    return [BatchRow(*row) for row in connection.execute(query)]


def drop_units(connection: Connection) -> None:
    """Delete ids of transactions that ended an hour ago: nobody asks for them any more."""
    c = t.unit_of_work.c
    old = text("UTC_TIMESTAMP(6) - INTERVAL 1 HOUR")
    connection.execute(delete(t.unit_of_work).where(c.done_at < old).with_dialect_options(mysql_limit=10_000))
