"""Long work that people start: files in pieces, progress, stop and resume, results.

What a job does is in the module of its kind; `worker` calls it.
"""

from collections.abc import Iterator
from datetime import timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.jobs import Job, JobKind
from rust_gauge.core.roles import Role
from rust_gauge.service.http.access import require_role
from rust_gauge.service.http.roles import JOB_ROLES
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import jobs as store
from rust_gauge.store.accounts import TenantAccess

MAX_OCTETS = 4 * 1024**3  # some hundred million addresses
_MOST_PIECES = 20_000  # of a file
_KEEP = timedelta(days=30)  # for people who look up last month's import
_LISTED = 50  # newest jobs shown


def add(
    context: Context,
    tenant: TenantAccess,
    kind: JobKind,
    name: str,
    request: dict[str, Any],
    by: str,
    *,
    wait_for_file: bool = False,
) -> Job:
    """Add a job; it begins at once, or when `run` is called after its file was sent."""
    state = store.COLLECTING if wait_for_file else store.WAITING
    now = context.clock()
    id = context.store.transaction(
        lambda c: store.add(c, kind, tenant.id, now, name=name, request=request, created_by=by, state=state)
    )
    return get(context, tenant, id)


def find(connection: Connection, tenant: TenantAccess, id: int, *, lock: bool = False) -> store.Job:
    """Return a listed job of a tenant. ServiceProblem `not-found`."""
    found = store.get(connection, id, tenant.id, lock=lock)
    if found is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no job {id}")
    return found


def _find_to_steer(connection: Connection, tenant: TenantAccess, id: int) -> store.Job:
    """Lock a job to run or stop it. ServiceProblem `role-too-low` where its kind needs more than the route."""
    found = find(connection, tenant, id, lock=True)
    require_role(tenant, JOB_ROLES.get(found.kind, Role.OPERATOR))
    return found


def get(context: Context, tenant: TenantAccess, id: int) -> Job:
    """Return how far a job is, and what came out of it."""
    return context.store.transaction(lambda c: show(find(c, tenant, id), store.parts(c, id)))


def list_jobs(context: Context, tenant: TenantAccess, kind: JobKind | None) -> list[Job]:
    """Return the newest jobs, without the sizes of what came out."""
    found = context.store.transaction(lambda c: store.list_jobs(c, tenant.id, kind, _LISTED))
    return [show(job, {}) for job in found]


def show(job: store.Job, parts: dict[str, int]) -> Job:
    """A job as people see it."""
    return Job.model_validate(
        {
            "id": job.id, "kind": job.kind, "name": job.name, "state": job.state, "done": job.done, "total": job.total,
            "request": job.request, "result": job.result, "parts": parts, "error": job.error,
            "created_by": job.created_by, "created_at": job.created_at, "finished_at": job.finished_at,
        }
    )  # fmt: skip


def put_piece(context: Context, tenant: TenantAccess, id: int, number: int, octets: bytes) -> Job:
    """Store a piece of the file; a piece that is sent again replaces the earlier one."""

    def write(connection: Connection) -> None:
        job = find(connection, tenant, id, lock=True)
        if job.state != store.COLLECTING:
            raise ServiceProblem("changed-meanwhile", f"This job accepts no more pieces: it is {job.state}")
        there = dict(store.sizes(connection, id, store.FILE))
        there[number] = len(octets)
        if len(there) > _MOST_PIECES or sum(there.values()) > MAX_OCTETS:
            raise ServiceProblem("too-large", f"The file is larger than {MAX_OCTETS:,} bytes")
        store.put_piece(connection, id, store.FILE, number, octets)

    context.store.transaction(write)
    return get(context, tenant, id)


def run(context: Context, tenant: TenantAccess, id: int, *, dry: bool) -> Job:
    """Begin, begin in earnest after a dry run, or resume after it was stopped or failed."""
    now = context.clock()

    def write(connection: Connection) -> None:
        job = _find_to_steer(connection, tenant, id)
        if job.state in (store.WAITING, store.RUNNING):
            return
        values: dict[str, Any] = {}
        if job.state == store.DONE and (dry or not job.position.get("dry")):
            raise ServiceProblem("changed-meanwhile", "This job is done", remedy="Start another one")
        if job.state in (store.COLLECTING, store.DONE):
            if not store.sizes(connection, id, store.FILE):
                raise ServiceProblem("invalid-request", "No piece of the file has been uploaded")
            values = {"position": {"dry": dry}, "result": {}, "done": 0}
            for part in store.parts(connection, id):
                store.drop_part(connection, id, part)
        store.start(connection, job, now, **values)

    context.store.transaction(write)
    return get(context, tenant, id)


def stop(context: Context, tenant: TenantAccess, id: int) -> Job:
    """Stop after the piece that is under way; what is done stays. One that was never run is deleted."""
    now = context.clock()

    def write(connection: Connection) -> Job:
        job = _find_to_steer(connection, tenant, id)
        if job.state == store.COLLECTING:
            store.drop(connection, id)
            return show(job, {})
        store.request_cancel(connection, job, now)
        return show(find(connection, tenant, id), store.parts(connection, id))

    return context.store.transaction(write)


def part(context: Context, tenant: TenantAccess, id: int, name: str) -> Iterator[bytes]:
    """Yield what came out, piece by piece. ServiceProblem `not-found` where there is no such part."""

    def look_up(connection: Connection) -> None:
        find(connection, tenant, id)
        if name == store.FILE or name not in store.parts(connection, id):
            raise ServiceProblem("not-found", f"This job has no part {name}")

    context.store.transaction(look_up)
    return store.pieces(context.store, id, name)


def forget_old(context: Context) -> None:
    """Delete what ended long ago."""
    now = context.clock()

    def drop(connection: Connection) -> None:
        store.drop_old(connection, now - _KEEP)
        store.drop_units(connection)

    context.store.transaction(drop)
