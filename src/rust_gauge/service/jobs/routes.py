"""Jobs (long work) under /api/v1: files in pieces, progress, results."""

from typing import Annotated

from fastapi import Path, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse

from rust_gauge.contract.common import Page
from rust_gauge.contract.jobs import Job, JobKind, JobStart
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.jobs import archive, jobs

router = api_router()
_PART = r"^(rejected|clear|held|doubtful|removed|left|calendar|icalendar|\d{8}(T\d{2})?)$"


@router.get("/tenants/{tenant}/jobs", tags=["jobs"], operation_id="list_jobs")
def list_jobs(context: Ctx, tenant: Tenant, kind: JobKind | None = None) -> Page[Job]:
    """List the jobs of the last thirty days, newest first."""
    return Page(items=jobs.list_jobs(context, tenant, kind))


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.get("/tenants/{tenant}/jobs/{id}", tags=["jobs"], operation_id="get_job")
def get_job(context: Ctx, tenant: Tenant, id: Id) -> Job:
    """Return a job's progress and result."""
    return jobs.get(context, tenant, id)


@router.put(
    "/tenants/{tenant}/jobs/{id}/pieces/{number}",
    tags=["jobs"],
    operation_id="add_job_piece",
)
async def add_job_piece(
    context: Ctx, tenant: Tenant, id: Id, number: Annotated[int, Path(ge=0, le=20_000)], request: Request
) -> Job:
    """Upload one piece of the file, numbered from 0. A piece that is sent again replaces the earlier one."""
    octets = await request.body()
    return await run_in_threadpool(jobs.put_piece, context, tenant, id, number, octets)


@router.post("/tenants/{tenant}/jobs/{id}/run", tags=["jobs"], operation_id="run_job")
def run_job(context: Ctx, tenant: Tenant, id: Id, body: JobStart) -> Job:
    """Run a job, run it for real after a dry run, or resume it after it was cancelled."""
    return jobs.run(context, tenant, id, dry=body.dry)


@router.post("/tenants/{tenant}/jobs/{id}/cancel", tags=["jobs"], operation_id="cancel_job")
def cancel_job(context: Ctx, tenant: Tenant, id: Id) -> Job:
    """Cancel a job after the piece in progress. A job that never ran is deleted."""
    return jobs.stop(context, tenant, id)


@router.get(
    "/tenants/{tenant}/jobs/{id}/parts/{part}",
    tags=["jobs"],
    operation_id="get_job_part",
    response_class=StreamingResponse,
)
def get_job_part(context: Ctx, tenant: Tenant, id: Id, part: Annotated[str, Path(pattern=_PART)]) -> StreamingResponse:
    """Download a part of the result, as CSV unless the job says otherwise."""
    pieces = jobs.part(context, tenant, id, part)
    ending, media_type = ("ics", "text/calendar") if part == "icalendar" else ("csv", "text/csv")
    name = {"Content-Disposition": f'attachment; filename="{part}-{id}.{ending}"'}
    return StreamingResponse(pieces, media_type=f"{media_type}; charset=utf-8", headers=name)


@router.get(
    "/tenants/{tenant}/jobs/{id}/archive",
    tags=["jobs"],
    operation_id="get_job_archive",
    response_class=StreamingResponse,
)
def get_job_archive(context: Ctx, tenant: Tenant, id: Id) -> StreamingResponse:
    """Download all parts of the result as one ZIP file."""
    pieces = archive.archive_of(context, tenant, id)
    name = {"Content-Disposition": f'attachment; filename="job-{id}.zip"'}
    return StreamingResponse(pieces, media_type="application/zip", headers=name)
