"""Tasks: files handed in by pieces, work that shows how far it is and can be stopped and gone on with, what came out.

What a task does is in the module of its kind; here is what all have in common.
"""

from collections.abc import Callable, Iterator
from datetime import timedelta
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.tasks import Task
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import jobs, tasks
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import AnyRow
from rust_gauge.store.jobs import Job

log = structlog.get_logger()
MAX_OCTETS = 4 * 1024**3
_MOST_PIECES = 20_000
_KEEP = timedelta(days=30)


class Stopped(Exception):
    """Somebody asked for the task to stop."""


def start_collecting(
    context: Context, tenant: TenantAccess, kind: str, name: str, request: dict[str, Any], by: str
) -> Task:
    """A task that waits for its file."""
    return _add(context, tenant, kind, name, request, by, "collecting")


def start_at_once(
    context: Context, tenant: TenantAccess, kind: str, name: str, request: dict[str, Any], by: str
) -> Task:
    """A task that needs no file."""
    return _add(context, tenant, kind, name, request, by, "waiting")


def _add(
    context: Context, tenant: TenantAccess, kind: str, name: str, request: dict[str, Any], by: str, state: str
) -> Task:
    now = context.clock()

    def work(connection: Connection) -> int:
        id = tasks.add(
            connection, tenant_id=tenant.id, kind=kind, name=name, state=state, request=request, made_by=by,
            created_at=now,
        )  # fmt: skip
        if state == "waiting":
            jobs.enqueue(connection, "task", tenant.id, id, now)
        return id

    return get(context, tenant, context.store.transaction(work))


def _find(connection: Connection, tenant: TenantAccess, id: int, *, lock: bool = False) -> AnyRow:
    found = tasks.get(connection, id, tenant.id, lock=lock)
    if found is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no task {id}")
    return found


def get(context: Context, tenant: TenantAccess, id: int) -> Task:
    return context.store.transaction(lambda c: _show(_find(c, tenant, id), tasks.parts(c, id)))


def list_tasks(context: Context, tenant: TenantAccess, kind: str | None) -> list[Task]:
    rows = context.store.transaction(lambda c: tasks.list_tasks(c, tenant.id, kind, 50))
    return [_show(row, {}) for row in rows]


def _show(row: AnyRow, parts: dict[str, int]) -> Task:
    return Task(
        id=row.id, kind=row.kind, name=row.name, state=row.state, done=row.done, total=row.total,
        request=row.request, result=row.result, parts=parts, error=row.error, made_by=row.made_by,
        created_at=row.created_at, finished_at=row.finished_at,
    )  # fmt: skip


def put_piece(context: Context, tenant: TenantAccess, id: int, number: int, octets: bytes) -> Task:
    """A piece of the file; sent again it takes the place of what was sent before."""

    def work(connection: Connection) -> None:
        row = _find(connection, tenant, id, lock=True)
        if row.state != "collecting":
            raise ServiceProblem("changed-meanwhile", f"This task takes no pieces any more: it is {row.state}")
        there = dict(tasks.sizes(connection, id, tasks.FILE))
        there[number] = len(octets)
        if len(there) > _MOST_PIECES or sum(there.values()) > MAX_OCTETS:
            raise ServiceProblem("too-large", f"A file may have {MAX_OCTETS:,} octets")
        tasks.put_piece(connection, id, tasks.FILE, number, octets)

    context.store.transaction(work)
    return get(context, tenant, id)


def run(context: Context, tenant: TenantAccess, id: int, *, dry: bool) -> Task:
    """Begin, begin in earnest after a dry run, or go on after it was stopped or failed."""
    now = context.clock()

    def work(connection: Connection) -> None:
        row = _find(connection, tenant, id, lock=True)
        if row.state in ("waiting", "running"):
            return
        values: dict[str, Any] = {"state": "waiting", "cancel_asked": False, "error": "", "finished_at": None}
        position = dict(row.position)
        if row.state == "done" and (dry or not position.get("dry")):
            raise ServiceProblem("changed-meanwhile", "This task is done", remedy="Start another one")
        if row.state in ("collecting", "done"):
            if not tasks.sizes(connection, id, tasks.FILE) and row.kind != "policy_trial":
                raise ServiceProblem("invalid-request", "No piece of the file was sent yet")
            position = {"dry": dry}
            values["result"], values["done"] = {}, 0
            for part in tasks.parts(connection, id):
                tasks.drop_part(connection, id, part)
        tasks.change(connection, id, position=position, **values)
        jobs.enqueue(connection, "task", tenant.id, id, now)

    context.store.transaction(work)
    return get(context, tenant, id)


def stop(context: Context, tenant: TenantAccess, id: int) -> Task:
    """Stop after the piece that is under way. What is done stays; it can go on later."""

    def work(connection: Connection) -> None:
        row = _find(connection, tenant, id, lock=True)
        if row.state == "waiting":
            tasks.change(connection, id, state="stopped", cancel_asked=True)
        elif row.state == "running":
            tasks.change(connection, id, cancel_asked=True)
        elif row.state == "collecting":
            tasks.drop(connection, id)

    before = get(context, tenant, id)
    context.store.transaction(work)
    return before if before.state == "collecting" else get(context, tenant, id)


def part(context: Context, tenant: TenantAccess, id: int, name: str) -> Iterator[bytes]:
    """What came out, piece by piece. ServiceProblem `not-found` where there is no such part."""

    def work(connection: Connection) -> None:
        _find(connection, tenant, id)
        if name == tasks.FILE or name not in tasks.parts(connection, id):
            raise ServiceProblem("not-found", f"This task has no part {name}")

    context.store.transaction(work)
    return tasks.pieces(context.store, id, name)


def kind_of(context: Context, id: int) -> str | None:
    row = context.store.transaction(lambda c: tasks.get(c, id))
    return None if row is None else str(row.kind)


def forget_old(context: Context) -> None:
    before = context.clock() - _KEEP
    context.store.transaction(lambda c: tasks.drop_old(c, before))


# For the kinds


def advance(connection: Connection, job: Job, id: int, now: Any, **values: Any) -> None:
    """Write down how far it is, in the transaction of the work itself. Stopped where somebody asked for that."""
    row = tasks.get(connection, id, lock=True)
    if row is None or row.cancel_asked or row.state != "running":
        raise Stopped
    tasks.change(connection, id, **values)
    jobs.renew(connection, job, now)


def carry_out(context: Context, job: Job, work: Callable[[AnyRow], dict[str, Any] | None]) -> None:
    """Do a task from where it is. `work` gives what it is to say in the end."""
    row = context.store.transaction(lambda c: tasks.get(c, job.subject))
    if row is None or row.state not in ("waiting", "running"):
        return
    context.store.transaction(lambda c: tasks.change(c, row.id, state="running"))
    values: dict[str, Any]
    try:
        result = work(row)
    except Stopped:
        values = {"state": "stopped"}
    except ServiceProblem as problem:
        values = {"state": "failed", "error": f"{problem.detail}. {problem.remedy}".strip()[:500]}
    except Exception as failure:
        if job.attempts < jobs.MAX_ATTEMPTS:  # the worker tries again, and it goes on from where it is
            raise
        values = {"state": "failed", "error": f"{type(failure).__name__}; see the service's log"}
        log.exception("task_failed", task=row.id)
    else:
        values = {"state": "done", **({"result": result} if result is not None else {})}
    now = context.clock()
    context.store.transaction(lambda c: tasks.change(c, row.id, finished_at=now, cancel_asked=False, **values))
