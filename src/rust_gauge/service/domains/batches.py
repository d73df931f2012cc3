"""Audits of many domains as a job: progress, cancel, resume. None of the domains has to be watched."""

from datetime import datetime
from typing import Any

import structlog

from rust_gauge.contract.audits import Batch, BatchRequest, BatchResult
from rust_gauge.contract.common import Page
from rust_gauge.core.audit import USUAL_SELECTORS, AuditRequest, DomainAudit, Level, audit_domain
from rust_gauge.core.dns import DnsProgram
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.documents.audits import finding_document
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import audits as store
from rust_gauge.store import jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

log = structlog.get_logger()
_AT_ONCE = 32  # domains audited side by side
_CHUNK = 50  # results written together


def start_batch(context: Context, tenant: TenantAccess, request: BatchRequest) -> Batch:
    names = list(dict.fromkeys(name.strip() for name in request.names if name.strip()))
    if not names:
        raise ServiceProblem("invalid-request", "No name is there", remedy="Send at least one domain name")
    kept = {"names": names, "selectors": request.selectors}
    now = context.clock()

    def write(connection: Any) -> int:
        id = store.add_batch(connection, tenant.id, kept, len(names), now)
        jobs.enqueue(connection, "batch", tenant.id, id, now)
        return id

    return get_batch(context, tenant, context.store.transaction(write))


def _find(context: Context, tenant: TenantAccess, id: int) -> Any:
    found = context.store.transaction(lambda c: store.get_batch(c, id, tenant.id))
    if found is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no batch {id}")
    return found


def _show(row: Any) -> Batch:
    return Batch(
        id=row.id,
        state=row.state,
        done=row.done,
        total=row.total,
        created_at=row.created_at,
        finished_at=row.finished_at,
        error=row.error,
    )


def get_batch(context: Context, tenant: TenantAccess, id: int) -> Batch:
    return _show(_find(context, tenant, id))


def list_batches(context: Context, tenant: TenantAccess) -> list[Batch]:
    return [_show(row) for row in context.store.transaction(lambda c: store.list_batches(c, tenant.id))]


def cancel_batch(context: Context, tenant: TenantAccess, id: int) -> Batch:
    """Stop it after the domains that are under way; what is done stays, and it can go on later."""
    row = _find(context, tenant, id)
    if row.state == "queued":
        context.store.transaction(lambda c: store.change_batch(c, id, state="cancelled", cancel_asked=True))
    elif row.state == "running":
        context.store.transaction(lambda c: store.change_batch(c, id, cancel_asked=True))
    return get_batch(context, tenant, id)


def resume_batch(context: Context, tenant: TenantAccess, id: int) -> Batch:
    """Go on with the names that have no result yet."""
    row = _find(context, tenant, id)
    if row.state in ("cancelled", "failed"):
        now = context.clock()

        def write(connection: Any) -> None:
            store.change_batch(connection, id, state="queued", cancel_asked=False, error="", finished_at=None)
            jobs.enqueue(connection, "batch", tenant.id, id, now)

        context.store.transaction(write)
    return get_batch(context, tenant, id)


def list_results(context: Context, tenant: TenantAccess, id: int, cursor: str | None, limit: int) -> Page[BatchResult]:
    _find(context, tenant, id)
    position = read_cursor(cursor, int)
    rows = context.store.transaction(lambda c: store.list_results(c, id, position[0] if position else 0, limit + 1))
    items = [
        BatchResult(
            number=row.number,
            name=row.name,
            problem=row.problem,
            faults=row.faults,
            risks=row.risks,
            notes=row.notes,
            findings=row.findings,
        )
        for row in rows[:limit]
    ]
    return Page(items=items, next=write_cursor(rows[limit - 1].number) if len(rows) > limit else None)


def run_batch(context: Context, job: Job) -> None:
    """The job: audit the names that have no result yet, over one cache, and write results as they come."""
    row = context.store.transaction(lambda c: store.get_batch(c, job.subject))
    if row is None or row.state == "cancelled" or row.state == "done":
        return
    context.store.transaction(lambda c: store.change_batch(c, row.id, state="running"))
    there = context.store.transaction(lambda c: store.done_numbers(c, row.id))
    waiting: list[dict[str, Any]] = []
    programs: list[tuple[int, str, DnsProgram[DomainAudit]]] = []
    selectors = tuple(row.request["selectors"])
    for number, text in enumerate(row.request["names"], 1):
        if number in there:
            continue
        try:
            name = normalise_domain(text)
        except DomainNameError as error:
            waiting.append(_result(row.id, number, text[:253], problem=str(error)[:500]))
            continue
        request = AuditRequest(
            name, selectors, usual_selectors=USUAL_SELECTORS, ask_servers=False, ask_pages=False,
            now=int(context.clock().timestamp()),
        )  # fmt: skip
        programs.append((number, name, audit_domain(request)))
    stopped = False

    def write() -> bool:
        nonlocal stopped
        rows, now = list(waiting), context.clock()
        waiting.clear()

        def both(connection: Any) -> bool:
            jobs.renew(connection, job, now)
            return store.add_results(connection, row.id, rows)

        stopped = context.store.transaction(both)
        return not stopped

    def done(index: int, result: DomainAudit | Exception) -> bool:
        number, name, _ = programs[index]
        if isinstance(result, Exception):
            log.error("audit_failed", domain=name, error=repr(result))
            waiting.append(_result(row.id, number, name, problem="It could not be audited; see the service's log"))
        else:
            waiting.append(_result(row.id, number, name, result))
        return write() if len(waiting) >= _CHUNK else True

    if write():
        context.resolver.run_many([program for _, _, program in programs], at_once=_AT_ONCE, done=done)
    write()
    _finish(context, row.id, "cancelled" if stopped else "done", context.clock())


def _finish(context: Context, id: int, state: str, now: datetime) -> None:
    context.store.transaction(lambda c: store.change_batch(c, id, state=state, finished_at=now, cancel_asked=False))


def _result(
    batch: int, number: int, name: str, result: DomainAudit | None = None, *, problem: str = ""
) -> dict[str, Any]:
    findings = [finding_document(finding).model_dump() for finding in result.findings] if result else []
    return {
        "batch_id": batch,
        "number": number,
        "name": name,
        "problem": problem,
        "faults": result.count(Level.FAULT) if result else 0,
        "risks": result.count(Level.RISK) if result else 0,
        "notes": result.count(Level.NOTE) if result else 0,
        "findings": findings,
    }
