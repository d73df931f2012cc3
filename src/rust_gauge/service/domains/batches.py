"""Audits of many domains as a job: progress, stop, resume. None of the domains has to be watched."""

import json
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.audits import BatchRequest, BatchResult
from rust_gauge.contract.common import Page
from rust_gauge.contract.jobs import Job as ShownJob
from rust_gauge.core.audit import USUAL_SELECTORS, AuditRequest, DomainAudit, Level, audit_domain
from rust_gauge.core.dns import DnsProgram
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.documents.audits import finding_document
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.jobs import jobs as service_jobs
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

log = structlog.get_logger()
AT_ONCE = 32  # domains audited side by side
CHUNK = 50  # results written together


def start_batch(context: Context, tenant: TenantAccess, request: BatchRequest, by: str) -> ShownJob:
    """Audit many domains; none of them has to be watched."""
    given = (name.strip() for name in request.names if name.strip())
    once: dict[str, str] = {}
    for name in given:
        once.setdefault(_same(name), name)
    names = list(once.values())
    if not names:
        raise ServiceProblem("invalid-request", "The list of names is empty", remedy="Send at least one domain name")
    now = context.clock()

    def write(connection: Connection) -> int:
        id = jobs.add(
            connection, "batch", tenant.id, now, name=f"{len(names):,} domains", created_by=by, total=len(names),
            request={"selectors": request.selectors},
        )  # fmt: skip
        jobs.put_piece(connection, id, jobs.FILE, 0, json.dumps(names).encode())
        return id

    return service_jobs.get(context, tenant, context.store.transaction(write))


def _same(name: str) -> str:
    """Return what is the same for a domain however it is written; the text itself for anything else."""
    try:
        return normalise_domain(name)
    except DomainNameError:
        return name


def list_results(context: Context, tenant: TenantAccess, id: int, cursor: str | None, limit: int) -> Page[BatchResult]:
    """Return what the audits of a batch found, in the order of its names."""
    job = context.store.transaction(lambda c: service_jobs.find(c, tenant, id))
    if job.kind != "batch":
        raise ServiceProblem("not-found", f"{tenant.name} has no batch {id}")
    position = read_cursor("batch results", cursor, int)
    rows = context.store.transaction(lambda c: jobs.list_results(c, id, position[0] if position else 0, limit + 1))
    items = [
        BatchResult(
            number=row.number,
            name=row.name,
            problem=row.problem,
            faults=row.faults,
            risks=row.risks,
            notes=row.notes,
            findings=row.findings,
            not_checked=row.not_checked,
        )
        for row in rows[:limit]
    ]
    return Page(items=items, next=write_cursor("batch results", rows[limit - 1].number) if len(rows) > limit else None)


def run_batch(context: Context, job: Job) -> None:
    """The job: audit the names that have no result yet, over one cache, and write results as they come."""
    names, there = context.store.transaction(lambda c: (_names(c, job.id), jobs.done_numbers(c, job.id)))
    results: list[dict[str, Any]] = []  # that are not written yet
    programs: list[tuple[int, str, DnsProgram[DomainAudit]]] = []
    for number, text in enumerate(names, 1):
        if number in there:
            continue
        try:
            name = normalise_domain(text)
        except DomainNameError as error:
            results.append(_result(number, text[:253], problem=str(error)[:500]))
            continue
        request = AuditRequest(
            name, tuple(job.request["selectors"]), usual_selectors=USUAL_SELECTORS, ask_servers=False, ask_pages=False,
            now=int(context.clock().timestamp()),
        )  # fmt: skip
        programs.append((number, name, audit_domain(request)))
    cancel_requested = False

    def write() -> bool:
        nonlocal cancel_requested
        rows, now = list(results), context.clock()
        results.clear()

        def keep(connection: Connection) -> bool:
            return jobs.record(connection, job, now, done=jobs.add_results(connection, job.id, rows))

        cancel_requested = context.store.transaction(keep)
        return not cancel_requested

    def done(index: int, result: DomainAudit | Exception) -> bool:
        number, name, _ = programs[index]
        if isinstance(result, Exception):
            log.error("audit_failed", domain=name, error=repr(result))
            results.append(_result(number, name, problem="The audit failed; see the service log"))
        else:
            results.append(_result(number, name, result))
        return write() if len(results) >= CHUNK else True

    if write():
        context.resolver.run_many([program for _, _, program in programs], at_once=AT_ONCE, done=done)
    write()
    if cancel_requested:
        raise jobs.CancelRequested


def _names(connection: Connection, id: int) -> list[str]:
    octets = jobs.piece(connection, id, jobs.FILE, 0)
    return json.loads(octets) if octets is not None else []


def _result(number: int, name: str, result: DomainAudit | None = None, *, problem: str = "") -> dict[str, Any]:
    findings = [finding_document(finding).model_dump() for finding in result.findings] if result else []
    return {
        "number": number,
        "name": name,
        "problem": problem,
        "faults": result.count(Level.FAULT) if result else 0,
        "risks": result.count(Level.RISK) if result else 0,
        "notes": result.count(Level.NOTE) if result else 0,
        "findings": findings,
        "not_checked": [f"{c.title}: {c.summary}" for c in result.checks if c.state == "unmeasured"] if result else [],
    }
