"""The job table: work that takes long, claimed by workers with SELECT ... FOR UPDATE SKIP LOCKED.

A worker holds a job by a lease that it renews; a job whose lease ran out is anybody's again.
"""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection, func, insert, or_, select, update

from rust_gauge.store import tables as t

LEASE = timedelta(minutes=2)
MAX_ATTEMPTS = 5


@dataclass(frozen=True, slots=True)
class Job:
    """A claimed job."""

    id: int
    kind: str
    tenant_id: int
    subject: int
    parameters: dict[str, Any]
    attempts: int


def enqueue(
    connection: Connection,
    kind: str,
    tenant_id: int,
    subject: int,
    now: datetime,
    parameters: dict[str, Any] | None = None,
    *,
    at: datetime | None = None,
) -> None:
    """Ask for work on a subject, not before `at`; joins a request for the same that still waits.

    When one waits, INSERT IGNORE holds it until this transaction ends, so a worker cannot take it before what this
    transaction writes can be seen.
    """
    statement = insert(t.job).prefix_with("IGNORE")
    connection.execute(
        statement.values(
            kind=kind,
            tenant_id=tenant_id,
            subject=subject,
            state="queued",
            waiting_key=f"{kind}:{tenant_id}:{subject}",
            parameters=parameters or {},
            done=0,
            total=0,
            cancel_asked=False,
            attempts=0,
            error="",
            created_at=now,
            run_after=at or now,
        )
    )


def claim(connection: Connection, now: datetime) -> Job | None:
    """Take the oldest job that is free."""
    c = t.job.c
    free = or_(
        (c.state == "queued") & (c.run_after <= now),
        (c.state == "running") & (c.lease_until < now),
    )
    row = connection.execute(
        select(t.job).where(free).order_by(c.id).limit(1).with_for_update(skip_locked=True)
    ).first()
    if row is None:
        return None
    connection.execute(
        update(t.job)
        .where(c.id == row.id)
        .values(state="running", waiting_key=None, lease_until=now + LEASE, attempts=c.attempts + 1)
    )
    return Job(row.id, row.kind, row.tenant_id, row.subject, row.parameters, row.attempts + 1)


def renew(connection: Connection, job: Job, now: datetime) -> None:
    """Hold a job for another lease: it takes long, and goes on."""
    connection.execute(update(t.job).where(t.job.c.id == job.id).values(lease_until=now + LEASE))


def finish(connection: Connection, job: Job, now: datetime) -> None:
    """Done: the row has served its purpose and goes, so that the table stays small."""
    connection.execute(t.job.delete().where(t.job.c.id == job.id))


def fail(connection: Connection, job: Job, error: str, now: datetime) -> None:
    """Try again later, further apart each time; give up after a few."""
    final = job.attempts >= MAX_ATTEMPTS
    connection.execute(
        update(t.job)
        .where(t.job.c.id == job.id)
        .values(
            state="failed" if final else "queued",
            error=error[:2000],
            run_after=now + timedelta(seconds=5 * 4**job.attempts),
            lease_until=None,
            finished_at=now if final else None,
        )
    )


def waiting(connection: Connection, kind: str, tenant_id: int | None = None) -> int:
    """How many jobs of a kind are not done yet."""
    query = select(func.count()).select_from(t.job).where(t.job.c.kind == kind, t.job.c.state != "failed")
    if tenant_id is not None:
        query = query.where(t.job.c.tenant_id == tenant_id)
    return int(connection.scalar(query) or 0)
